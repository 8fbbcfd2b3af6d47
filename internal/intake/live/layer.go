package live

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync/atomic"

	"sternledger/internal/intake/kerberos"
)

// mostFrame bounds what a server may send as one message of a security layer,
// and what we say that we take (RFC 4752, section 3.1: three bytes).
const mostFrame = 0xffffff

// layered is a connection that becomes signed or sealed in its middle (RFC 4422,
// section 3.7): after a sign-in everything goes in messages of a security
// context, each behind its length.
type layered struct {
	net.Conn
	in      *bufio.Reader
	context atomic.Pointer[layer]
	rest    []byte // of the last message
}

type layer struct {
	kerberos.Context
	seal bool
	most int // of one message, before it is wrapped
}

func newLayered(wire net.Conn) *layered { return &layered{Conn: wire, in: bufio.NewReader(wire)} }

// begin lets the layer hold from the next message on. The reader of the package
// may be waiting for that message already; nothing of it can have come yet, as
// the server speaks only when asked.
func (l *layered) begin(with *layer) { l.context.Store(with) }

func (l *layered) Read(b []byte) (int, error) {
	if len(l.rest) > 0 {
		n := copy(b, l.rest)
		l.rest = l.rest[n:]
		return n, nil
	}
	if _, err := l.in.Peek(1); err != nil {
		return 0, err
	}
	with := l.context.Load()
	if with == nil {
		return l.in.Read(b)
	}
	var size [4]byte
	if _, err := io.ReadFull(l.in, size[:]); err != nil {
		return 0, err
	}
	n := binary.BigEndian.Uint32(size[:])
	if n > mostFrame {
		return 0, fmt.Errorf("%w: a message of %d bytes", errUnsound, n)
	}
	token := make([]byte, n)
	if _, err := io.ReadFull(l.in, token); err != nil {
		return 0, err
	}
	data, sealed, err := with.Unwrap(token)
	if err == nil && with.seal && !sealed {
		err = errors.New("a message that should be sealed is not")
	}
	if err != nil {
		return 0, fmt.Errorf("%w: %w", errUnsound, err)
	}
	n2 := copy(b, data)
	l.rest = data[n2:]
	return n2, nil
}

func (l *layered) Write(b []byte) (int, error) {
	with := l.context.Load()
	if with == nil {
		return l.Conn.Write(b)
	}
	for done := 0; done < len(b); {
		part := b[done:min(len(b), done+with.most)]
		token, err := with.Wrap(part, with.seal)
		if err != nil {
			return done, err
		}
		frame := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(token)), uint32(len(token)))
		if _, err := l.Conn.Write(append(frame, token...)); err != nil {
			return done, err
		}
		done += len(part)
	}
	return len(b), nil
}

// Protection is what keeps others from reading or changing what goes over the
// wire.
type Protection string

// The protections.
const (
	TLS    Protection = "TLS"
	Sealed Protection = "sealed"
	Signed Protection = "signed"
)

// What a server offers (RFC 4752, section 3.1).
const (
	bare = 1 << iota
	signing
	sealing
)

// saslClient brings a security context through the package's sign-in.
type saslClient struct {
	kerberos.Context
	secure bool // the connection is
	chosen *layer
}

func (s *saslClient) InitSecContext(target string, token []byte) ([]byte, bool, error) {
	return s.InitSecContextWithOptions(target, token, nil)
}

func (s *saslClient) InitSecContextWithOptions(_ string, token []byte, _ []int) ([]byte, bool, error) {
	if token == nil {
		first, err := s.First()
		return first, true, err
	}
	return []byte{}, false, s.Accept(token)
}

// NegotiateSaslAuth chooses: on a secure connection nothing beyond it, which
// servers demand; else to seal, or at least to sign.
func (s *saslClient) NegotiateSaslAuth(token []byte, authzid string) ([]byte, error) {
	offer, _, err := s.Unwrap(token)
	if err != nil {
		return nil, err
	}
	if len(offer) != 4 {
		return nil, fmt.Errorf("%w: it offers %d bytes", errUnsound, len(offer))
	}
	most := int(offer[1])<<16 | int(offer[2])<<8 | int(offer[3])
	choice := []byte{0, 0xff, 0xff, 0xff}
	switch has := offer[0]; {
	case s.secure && has&bare != 0:
		choice = []byte{bare, 0, 0, 0}
	case has&sealing != 0:
		choice[0], s.chosen = sealing, &layer{Context: s.Context, seal: true}
	case has&signing != 0:
		choice[0], s.chosen = signing, &layer{Context: s.Context}
	default:
		return nil, errors.New("the server neither signs nor seals; use ldaps://")
	}
	if s.chosen != nil {
		// What wrapping adds is less than this with every method.
		if s.chosen.most = min(most, mostFrame) - 256; s.chosen.most <= 0 {
			return nil, fmt.Errorf("%w: it takes messages of %d bytes", errUnsound, most)
		}
	}
	return s.Wrap(append(choice, authzid...), false)
}

// DeleteSecContext keeps the context: the layer needs it.
func (s *saslClient) DeleteSecContext() error { return nil }

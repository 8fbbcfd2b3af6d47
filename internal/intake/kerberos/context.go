package kerberos

import (
	"bytes"
	"crypto/md5"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/crypto/etype"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/iana/chksumtype"
	"github.com/jcmturner/gokrb5/v8/iana/flags"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/jcmturner/gokrb5/v8/types"
)

// What the flags of a token mean (RFC 4121, section 4.2.2).
const (
	fromAcceptor = 1 << iota
	isSealed
	acceptorsKey
)

const headerSize = 16

var (
	wrapMark = [2]byte{0x05, 0x04}
	micMark  = [2]byte{0x04, 0x04}
)

// context is a security context by the tokens of RFC 4121.
type context struct {
	from      *ticketed
	service   string
	binding   []byte
	asked     types.Authenticator
	key       types.EncryptionKey
	etype     etype.EType
	theirs    byte // acceptorsKey if the service chose the key
	out, in   uint64
	initiator bool
}

func (t *ticketed) Context(service string, binding []byte) (Context, error) {
	return &context{from: t, service: service, binding: binding, initiator: true}, nil
}

func (c *context) Close() { c.key = types.EncryptionKey{} }

// wanted is what the context is asked to do (RFC 4121, section 4.1.1.1).
const wanted = gssapi.ContextFlagMutual | gssapi.ContextFlagReplay | gssapi.ContextFlagSequence | gssapi.ContextFlagConf |
	gssapi.ContextFlagInteg

func (c *context) First() ([]byte, error) {
	var ticket messages.Ticket
	var key types.EncryptionKey
	err := safely(func() (err error) {
		ticket, key, err = c.from.client.GetServiceTicket(c.service)
		return err
	})
	if err != nil {
		return nil, &Refused{c.from.Name() + " to " + c.service, c.from.client.Credentials.Domain(), err}
	}
	if err := c.use(key); err != nil {
		return nil, err
	}
	c.asked, err = types.NewAuthenticator(c.from.client.Credentials.Domain(), c.from.client.Credentials.CName())
	if err != nil {
		return nil, err
	}
	c.asked.Cksum = types.Checksum{CksumType: chksumtype.GSSAPI, Checksum: checksum(c.binding)}
	c.out = uint64(c.asked.SeqNumber)
	request, err := messages.NewAPReq(ticket, key, c.asked)
	if err != nil {
		return nil, err
	}
	types.SetFlag(&request.APOptions, flags.APOptionMutualRequired)
	// The package's token has no way to bring a binding; its mark and its name
	// stand before the request (RFC 4121, section 4.1).
	token, err := spnego.NewKRB5TokenAPREQ(c.from.client, ticket, key, nil, nil)
	if err != nil {
		return nil, err
	}
	token.APReq = request
	return token.Marshal()
}

// checksum is that of RFC 4121, section 4.1.1: what is wanted, and the channel.
func checksum(binding []byte) []byte {
	sum := make([]byte, 24)
	binary.LittleEndian.PutUint32(sum, 16)
	if binding != nil {
		// RFC 2744, section 3.11: no addresses, and the application's data.
		data := make([]byte, 20)
		binary.LittleEndian.PutUint32(data[16:], uint32(len(binding)))
		hash := md5.Sum(append(data, binding...))
		copy(sum[4:], hash[:])
	}
	binary.LittleEndian.PutUint32(sum[20:], wanted)
	return sum
}

// use takes a key. Tokens of the older methods have another form (RFC 4757).
func (c *context) use(key types.EncryptionKey) error {
	if key.KeyType < 17 || key.KeyType > 20 {
		return fmt.Errorf("the KDC gives a key for %s of an old method (number %d of RFC 3961), which cannot sign here; "+
			"let the service's account have AES", c.service, key.KeyType)
	}
	method, err := crypto.GetEtype(key.KeyType)
	c.key, c.etype = key, method
	return err
}

func (c *context) Accept(answer []byte) error {
	var token spnego.KRB5Token
	if err := safely(func() error { return token.Unmarshal(answer) }); err != nil {
		return fmt.Errorf("the service's answer is no token of Kerberos: %w", err)
	}
	switch {
	case token.IsKRBError():
		return &Refused{c.from.Name() + " to " + c.service, c.from.client.Credentials.Domain(), token.KRBError}
	case !token.IsAPRep():
		return errors.New("the service does not prove who it is")
	}
	plain, err := crypto.DecryptEncPart(token.APRep.EncPart, c.key, keyusage.AP_REP_ENCPART)
	if err != nil {
		return fmt.Errorf("the service does not prove who it is: %w", err)
	}
	var part messages.EncAPRepPart
	if err := part.Unmarshal(plain); err != nil {
		return err
	}
	if part.CTime.Unix() != c.asked.CTime.Unix() || part.Cusec != c.asked.Cusec {
		return errors.New("the service answers another request than this one")
	}
	c.in = uint64(part.SequenceNumber)
	if part.Subkey.KeyType != 0 {
		c.theirs = acceptorsKey
		return c.use(part.Subkey)
	}
	return nil
}

func (c *context) SessionKey() []byte { return c.key.KeyValue }

// header is a token's (RFC 4121, section 4.2.6).
func (c *context) header(mark [2]byte, flag byte, extra uint16) []byte {
	h := make([]byte, headerSize)
	copy(h, mark[:])
	if h[2] = flag | c.theirs; !c.initiator {
		h[2] |= fromAcceptor
	}
	h[3] = 0xff
	if mark == micMark {
		copy(h[4:], []byte{0xff, 0xff, 0xff, 0xff})
	} else {
		binary.BigEndian.PutUint16(h[4:], extra)
	}
	binary.BigEndian.PutUint64(h[8:], c.out)
	c.out++
	return h
}

// usage is the number of a key's use (RFC 4121, section 2).
func usage(initiator, sealing bool) uint32 {
	switch {
	case initiator && sealing:
		return keyusage.GSSAPI_INITIATOR_SEAL
	case initiator:
		return keyusage.GSSAPI_INITIATOR_SIGN
	case sealing:
		return keyusage.GSSAPI_ACCEPTOR_SEAL
	}
	return keyusage.GSSAPI_ACCEPTOR_SIGN
}

func (c *context) MIC(data []byte) ([]byte, error) {
	h := c.header(micMark, 0, 0)
	sum, err := c.etype.GetChecksumHash(c.key.KeyValue, append(slices.Clone(data), h...), usage(c.initiator, false))
	return append(h, sum...), err
}

func (c *context) Wrap(data []byte, seal bool) ([]byte, error) {
	use := usage(c.initiator, true)
	if seal {
		h := c.header(wrapMark, isSealed, 0)
		_, sealed, err := c.etype.EncryptMessage(c.key.KeyValue, append(slices.Clone(data), h...), use)
		return append(h, sealed...), err
	}
	h := c.header(wrapMark, 0, 0)
	sum, err := c.etype.GetChecksumHash(c.key.KeyValue, append(slices.Clone(data), h...), use)
	if err != nil {
		return nil, err
	}
	binary.BigEndian.PutUint16(h[4:], uint16(len(sum)))
	return slices.Concat(h, data, sum), nil
}

var errForged = errors.New("a message of the service is not signed as it should be")

func (c *context) Unwrap(token []byte) (data []byte, sealed bool, err error) {
	if len(token) < headerSize || [2]byte(token[:2]) != wrapMark || token[3] != 0xff {
		return nil, false, errForged
	}
	flag := token[2]
	if (flag&fromAcceptor != 0) != c.initiator || flag&acceptorsKey != c.theirs {
		return nil, false, errForged
	}
	if binary.BigEndian.Uint64(token[8:]) != c.in { // left out, put in, or sent again
		return nil, false, fmt.Errorf("%w: it is out of turn", errForged)
	}
	c.in++
	extra, body := int(binary.BigEndian.Uint16(token[4:])), slices.Clone(token[headerSize:])
	if n := len(body); n > 0 { // it was turned to the right
		turn := int(binary.BigEndian.Uint16(token[6:])) % n
		body = append(body[turn:], body[:turn]...)
	}
	head := slices.Clone(token[:headerSize])
	binary.BigEndian.PutUint16(head[6:], 0)
	use := usage(!c.initiator, true)
	if flag&isSealed != 0 {
		var plain []byte
		if err := safely(func() (err error) {
			plain, err = c.etype.DecryptMessage(c.key.KeyValue, body, use)
			return err
		}); err != nil {
			return nil, false, errForged
		}
		end := len(plain) - headerSize
		if end-extra < 0 || !bytes.Equal(plain[end:], head) {
			return nil, false, errForged
		}
		return plain[:end-extra], true, nil
	}
	if extra > len(body) {
		return nil, false, errForged
	}
	data, sum := body[:len(body)-extra], body[len(body)-extra:]
	binary.BigEndian.PutUint16(head[4:], 0)
	if extra == 0 || !c.etype.VerifyChecksum(c.key.KeyValue, append(slices.Clone(data), head...), sum, use) {
		return nil, false, errForged
	}
	return data, false, nil
}

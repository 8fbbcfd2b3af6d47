package kerberos

import (
	"errors"
	"fmt"
	"os"
	"syscall"
	"unsafe"

	"github.com/alexbrainman/sspi"
)

// own reports whether the user's own sign-in to this machine is meant: where
// nothing else was given.
func (o *Options) own() bool {
	return o.Name == "" && o.Keytab == "" && os.Getenv("KRB5CCNAME") == ""
}

// signedIn is the user of this machine (SSPI). Only the base of the package is
// used: its part for Kerberos ends the program where a system has none.
type signedIn struct{ credentials *sspi.Credentials }

func own() (Identity, error) {
	got, err := sspi.AcquireCredentials("", sspi.MICROSOFT_KERBEROS_NAME, sspi.SECPKG_CRED_OUTBOUND, nil)
	if err != nil {
		return nil, fmt.Errorf("this machine has no sign-in by Kerberos to use: %w; give --bind NAME@REALM", err)
	}
	return &signedIn{got}, nil
}

func (s *signedIn) Name() string {
	if domain := os.Getenv("USERDNSDOMAIN"); domain != "" {
		return os.Getenv("USERNAME") + "@" + domain
	}
	return os.Getenv("USERNAME")
}

func (s *signedIn) Means() Means       { return ByOwn }
func (s *signedIn) Ask(string, string) {} // the system knows its KDCs
func (s *signedIn) Close()             { _ = s.credentials.Release() }

func (s *signedIn) Context(service string, binding []byte) (Context, error) {
	target, err := syscall.UTF16PtrFromString(service)
	if err != nil {
		return nil, err
	}
	return &systems{Context: sspi.NewClientContext(s.credentials, wantedHere), target: target, service: service, binding: bound(binding)}, nil
}

const wantedHere = sspi.ISC_REQ_MUTUAL_AUTH | sspi.ISC_REQ_REPLAY_DETECT | sspi.ISC_REQ_SEQUENCE_DETECT | sspi.ISC_REQ_CONFIDENTIALITY |
	sspi.ISC_REQ_INTEGRITY

// bound is SEC_CHANNEL_BINDINGS: eight numbers, the last two of which say where
// the data lie.
func bound(binding []byte) []byte {
	if binding == nil {
		return nil
	}
	const size = 32
	b := make([]byte, size, size+len(binding))
	b[24], b[25], b[28] = byte(len(binding)), byte(len(binding)>>8), size
	return append(b, binding...)
}

// systems is a security context that the system makes.
type systems struct {
	*sspi.Context
	target  *uint16
	service string
	binding []byte
	key     []byte
}

func (c *systems) step(in []byte) ([]byte, error) {
	var from [2]sspi.SecBuffer
	from[0].Set(sspi.SECBUFFER_TOKEN, in)
	given := from[:1]
	if c.binding != nil {
		from[1].Set(sspi.SECBUFFER_CHANNEL_BINDINGS, c.binding)
		given = from[:]
	}
	var to [1]sspi.SecBuffer
	to[0].Set(sspi.SECBUFFER_TOKEN, make([]byte, 64<<10))
	switch status := c.Update(c.target, sspi.NewSecBufferDesc(to[:]), sspi.NewSecBufferDesc(given)); status {
	case sspi.SEC_E_OK, sspi.SEC_I_CONTINUE_NEEDED:
		return to[0].Bytes(), nil
	default:
		return nil, fmt.Errorf("no ticket for %s from this machine's own sign-in: %w", c.service, status)
	}
}

func (c *systems) First() ([]byte, error) { return c.step(nil) }

func (c *systems) Accept(token []byte) error {
	if _, err := c.step(token); err != nil {
		return err
	}
	if missing := wantedHere &^ c.EstablishedFlags; missing != 0 {
		return fmt.Errorf("the service does not prove who it is, or does not sign (%#x is missing)", missing)
	}
	const sessionKey = 9 // SECPKG_ATTR_SESSION_KEY
	var got struct {
		size uint32
		key  *byte
	}
	if status := sspi.QueryContextAttributes(c.Handle, sessionKey, (*byte)(unsafe.Pointer(&got))); status != sspi.SEC_E_OK {
		return status
	}
	c.key = append(c.key, unsafe.Slice(got.key, got.size)...)
	sspi.FreeContextBuffer(got.key)
	return nil
}

func (c *systems) SessionKey() []byte { return c.key }
func (c *systems) Close()             { _ = c.Release() }

// unsealed is SECQOP_WRAP_NO_ENCRYPT.
const unsealed = 0x80000001

func (c *systems) Wrap(data []byte, seal bool) ([]byte, error) {
	_, _, block, trailer, err := c.Sizes()
	if err != nil {
		return nil, err
	}
	quality := uint32(unsealed)
	if seal {
		quality = 0
	}
	var b [3]sspi.SecBuffer
	b[0].Set(sspi.SECBUFFER_TOKEN, make([]byte, trailer))
	b[1].Set(sspi.SECBUFFER_DATA, append([]byte(nil), data...)) // it is changed in its place
	b[2].Set(sspi.SECBUFFER_PADDING, make([]byte, block))
	if status := sspi.EncryptMessage(c.Handle, quality, sspi.NewSecBufferDesc(b[:]), 0); status != sspi.SEC_E_OK {
		return nil, status
	}
	var out []byte
	for i := range b {
		out = append(out, b[i].Bytes()...)
	}
	return out, nil
}

func (c *systems) Unwrap(token []byte) (data []byte, sealed bool, err error) {
	if len(token) == 0 {
		return nil, false, errors.New("an empty message")
	}
	held := append([]byte(nil), token...)
	var b [2]sspi.SecBuffer
	b[0].Set(sspi.SECBUFFER_STREAM, held)
	b[1].Set(sspi.SECBUFFER_DATA, nil)
	var quality uint32
	if status := sspi.DecryptMessage(c.Handle, sspi.NewSecBufferDesc(b[:]), 0, &quality); status != sspi.SEC_E_OK {
		return nil, false, fmt.Errorf("a message of the service is not signed as it should be: %w", status)
	}
	return append([]byte(nil), b[1].Bytes()...), quality&unsealed != unsealed, nil
}

func (c *systems) MIC(data []byte) ([]byte, error) {
	_, most, _, _, err := c.Sizes()
	if err != nil {
		return nil, err
	}
	var b [2]sspi.SecBuffer
	b[0].Set(sspi.SECBUFFER_DATA, append([]byte(nil), data...))
	b[1].Set(sspi.SECBUFFER_TOKEN, make([]byte, most))
	if status := sspi.MakeSignature(c.Handle, 0, sspi.NewSecBufferDesc(b[:]), 0); status != sspi.SEC_E_OK {
		return nil, status
	}
	return b[1].Bytes(), nil
}

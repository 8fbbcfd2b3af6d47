package kerberos

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jcmturner/gokrb5/v8/types"
)

// pair are both ends of a context with a key of one method.
func pair(t *testing.T, method int32, theirs byte) (us, them *context) {
	t.Helper()
	size := map[int32]int{17: 16, 18: 32, 19: 16, 20: 32}[method]
	key := types.EncryptionKey{KeyType: method, KeyValue: bytes.Repeat([]byte{7}, size)}
	us, them = &context{initiator: true, theirs: theirs}, &context{theirs: theirs}
	for _, c := range []*context{us, them} {
		if err := c.use(key); err != nil {
			t.Fatal(err)
		}
	}
	us.out, them.in, them.out, us.in = 41, 41, 900, 900
	return us, them
}

// What one end wraps, the other unwraps; and what is altered on the way, sent
// again, turned round or sent back is refused.
func TestWrapped(t *testing.T) {
	for _, method := range []int32{17, 18, 19, 20} {
		for _, seal := range []bool{false, true} {
			for _, size := range []int{0, 1, 15, 16, 17, 4000} {
				t.Run(fmt.Sprint(method, seal, size), func(t *testing.T) {
					us, them := pair(t, method, acceptorsKey)
					data := bytes.Repeat([]byte("tide"), size/4+1)[:size]
					for range 3 {
						for _, way := range [][2]*context{{us, them}, {them, us}} {
							token, err := way[0].Wrap(data, seal)
							if err != nil {
								t.Fatal(err)
							}
							if seal && size > 15 && bytes.Contains(token, data[:16]) {
								t.Error("it can be read on the way")
							}
							for i := range min(len(token), 60) {
								bad := bytes.Clone(token)
								bad[i] ^= 0x10
								if i == 6 || i == 7 { // how far it is turned: another turn is another message
									continue
								}
								to := *way[1]
								if _, _, err := to.Unwrap(bad); !errors.Is(err, errForged) {
									t.Errorf("byte %d altered: %v", i, err)
								}
							}
							if _, _, err := way[0].Unwrap(token); !errors.Is(err, errForged) {
								t.Errorf("sent back: %v", err)
							}
							got, sealed, err := way[1].Unwrap(turned(token, 28))
							if err != nil || sealed != seal || !bytes.Equal(got, data) {
								t.Fatalf("%q %v %v", got, sealed, err)
							}
							if _, _, err := way[1].Unwrap(token); !errors.Is(err, errForged) {
								t.Errorf("sent again: %v", err)
							}
						}
					}
				})
			}
		}
	}
}

// turned turns a token's body to the right, as Windows sends it.
func turned(token []byte, by int) []byte {
	out := bytes.Clone(token)
	body := out[headerSize:]
	if len(body) == 0 {
		return out
	}
	out[7] = byte(by)
	n := by % len(body)
	copy(body, append(bytes.Clone(token[len(token)-n:]), token[headerSize:len(token)-n]...))
	return out
}

func TestUnwrapRefusesWhatIsCutShort(t *testing.T) {
	us, them := pair(t, 18, 0)
	for _, seal := range []bool{false, true} {
		token, err := them.Wrap([]byte("high water at noon"), seal)
		if err != nil {
			t.Fatal(err)
		}
		for n := range token {
			to := *us
			if _, _, err := to.Unwrap(token[:n]); err == nil {
				t.Errorf("%d bytes of %d are taken", n, len(token))
			}
		}
		us.in++
	}
}

func TestOldMethodsAreRefused(t *testing.T) {
	c := &context{service: "ldap/quay1.marrowick.example"}
	if err := c.use(types.EncryptionKey{KeyType: 23, KeyValue: make([]byte, 16)}); err == nil || !strings.Contains(err.Error(), "AES") {
		t.Errorf("%v", err)
	}
}

// What is no ticket, no keytab and no configuration is named, with what to do.
func TestWhatIsNoMeans(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		at := filepath.Join(dir, name)
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return at
	}
	more := file("more", "[realms]\n HARBOUR.EXAMPLE = {\n  kdc = 127.0.0.1:9\n }\n")
	conf := file("krb5.conf", "include "+more+"\n[libdefaults]\n default_realm = MARROWICK.EXAMPLE\n")
	for name, c := range map[string]struct {
		opt         Options
		cache, conf string
		say         string
	}{
		"no tickets":          {cache: filepath.Join(dir, "none"), say: "kinit"},
		"a cache that is cut": {cache: file("cut", "\x05\x04\x00\x0c\x00"), say: "is no cache of tickets"},
		"an empty cache":      {cache: file("empty", ""), say: "is no cache of tickets"},
		"a cache elsewhere":   {cache: "KCM:1000", say: "expected a file"},
		"a keytab that is cut": {opt: Options{Name: "pilot@MARROWICK.EXAMPLE", Keytab: file("tab", "\x05\x02\x00\x00\x00\x40\x00")},
			say: "is no keytab"},
		"no keytab":         {opt: Options{Name: "pilot@MARROWICK.EXAMPLE", Keytab: filepath.Join(dir, "none")}, say: "--keytab"},
		"an empty password": {opt: Options{Name: "pilot@MARROWICK.EXAMPLE"}, say: "an empty password"},
		"no such file of Kerberos": {opt: Options{Name: "pilot@X", Password: "x"}, conf: filepath.Join(dir, "none"),
			say: "the configuration of Kerberos"},
		"nobody answers": {opt: Options{Name: "pilot@MARROWICK.EXAMPLE", Password: "x",
			Realms: map[string]string{"MARROWICK.EXAMPLE": "127.0.0.2"}},
			say: "port 88"},
		"nobody answers, by an included file": {opt: Options{Name: "pilot@HARBOUR.EXAMPLE", Password: "x"}, say: "port 88"},
		"includes itself": {opt: Options{Name: "pilot@X", Password: "x"}, conf: file("round", "include "+filepath.Join(dir, "round")+"\n"),
			say: "includes itself"},
		"no KDC": {opt: Options{Name: "pilot@NOWHERE.EXAMPLE", Password: "x"}, say: "no KDC is known"},
	} {
		t.Setenv("KRB5_CONFIG", cmp.Or(c.conf, conf))
		t.Setenv("KRB5CCNAME", c.cache)
		who, err := SignIn(c.opt)
		if err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v %v, want %s", name, who, err, c.say)
		}
	}
}

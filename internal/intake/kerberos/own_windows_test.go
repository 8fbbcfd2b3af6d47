package kerberos

import (
	"strings"
	"testing"
)

// Without anything given, the user's own sign-in is taken. A machine of no domain
// has none, and says so, with what to do or for which service.
func TestOwnSignIn(t *testing.T) {
	t.Setenv("KRB5CCNAME", "")
	who, err := SignIn(Options{})
	if err != nil {
		if !strings.Contains(err.Error(), "--bind NAME@REALM") {
			t.Errorf("%v", err)
		}
		return
	}
	defer who.Close()
	if who.Means() != ByOwn {
		t.Errorf("%s", who.Means())
	}
	c, err := who.Context("ldap/quay1.marrowick.example", []byte("tls-server-end-point:x"))
	if err != nil {
		t.Fatal(err)
	}
	if token, err := c.First(); err == nil || !strings.Contains(err.Error(), "ldap/quay1.marrowick.example") {
		t.Errorf("%d bytes, %v", len(token), err)
	}
}

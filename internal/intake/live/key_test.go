package live

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/golang-jwt/jwt/v5"
)

func pkcs8(t *testing.T, key crypto.Signer) []byte {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
}

func curve(t *testing.T, c elliptic.Curve) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(c, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestParseKey(t *testing.T) {
	strong, _ := rsa.GenerateKey(rand.Reader, 2048)
	_, edwards, _ := ed25519.GenerateKey(rand.Reader)
	for name, key := range map[string]crypto.Signer{"RS256": strong, "ES256": curve(t, elliptic.P256()), "ES384": curve(t, elliptic.P384()),
		"ES512": curve(t, elliptic.P521()), "EdDSA": edwards} {
		k, err := ParseKey(append([]byte("made in May\n"), pkcs8(t, key)...), "k1")
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		text, err := k.sign(claims{issuer: "c", subject: "s", audience: "a"})
		if err != nil {
			t.Fatal(err)
		}
		said := jwt.MapClaims{}
		token, err := jwt.ParseWithClaims(text, said, func(*jwt.Token) (any, error) { return key.Public(), nil }, jwt.WithAudience("a"),
			jwt.WithIssuer("c"), jwt.WithSubject("s"), jwt.WithExpirationRequired())
		if err != nil || token.Method.Alg() != name || token.Header["kid"] != "k1" || said["scope"] != nil {
			t.Errorf("%s: %v %v %v", name, err, token.Header, said)
		}
	}
	older, _ := x509.MarshalECPrivateKey(curve(t, elliptic.P256()))
	if _, err := ParseKey(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: older}), ""); err != nil {
		t.Errorf("SEC 1: %v", err)
	}
	if _, err := ParseKey(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(strong)}),
		""); err != nil {
		t.Errorf("PKCS #1: %v", err)
	}
	for name, c := range map[string]struct{ text, say string }{
		"nothing":       {"Harbour-Key-1", "no private key in it"},
		"a public one":  {string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: []byte("Harbour-Key-1")})), "no private key in it"},
		"a damaged one": {string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("Harbour-Key-1")})), "cannot be read"},
		"one locked": {string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: []byte("Harbour-Key-1")})),
			"has a passphrase"},
		"one locked old": {string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Headers: map[string]string{"DEK-Info": "x"},
			Bytes: []byte("Harbour-Key-1")})), "has a passphrase"},
		"P-224": {string(pkcs8(t, curve(t, elliptic.P224()))), "expected P-256"},
	} {
		if _, err := ParseKey([]byte(c.text), ""); err == nil || !strings.Contains(err.Error(), c.say) ||
			strings.Contains(err.Error(), "Harbour-Key") {
			t.Errorf("%s: %v, want %q", name, err, c.say)
		}
	}
}

// Other interfaces are asked at their own hosts, and a token is had by what a
// key signs.
func TestCollectByKey(t *testing.T) {
	key := curve(t, elliptic.P256())
	k, err := ParseKey(pkcs8(t, key), "")
	if err != nil {
		t.Fatal(err)
	}
	var main, other, door *httptest.Server
	var asked []string
	answer := func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Host+r.URL.Path+" "+r.Header.Get("Authorization"))
		fmt.Fprint(w, `{}`)
	}
	main = httptest.NewTLSServer(http.HandlerFunc(answer))
	other = httptest.NewTLSServer(http.HandlerFunc(answer))
	door = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		said := jwt.MapClaims{}
		text := r.PostFormValue("assertion") + r.PostFormValue("client_assertion")
		if _, err := jwt.ParseWithClaims(text, said, func(*jwt.Token) (any, error) { return &key.PublicKey, nil },
			jwt.WithAudience(door.URL+"/token"), jwt.WithIssuer("c")); err != nil {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprintf(w, `{"access_token": "%s/%v/%v"}`, r.PostFormValue("grant_type"), said["sub"], said["scope"])
	}))
	for _, s := range []*httptest.Server{main, other, door} {
		defer s.Close()
	}
	for _, c := range []struct {
		way     Way
		subject string
		token   string
	}{{ByGrant, "", "urn:ietf:params:oauth:grant-type:jwt-bearer/c/read.all"},
		{ByGrant, "ada@x.example", "urn:ietf:params:oauth:grant-type:jwt-bearer/ada@x.example/read.all"},
		{ByAssertion, "ada@x.example", "client_credentials/c/<nil>"}} {
		asked = nil
		plan := &Plan{Token: Token{Host: "door", Path: "/token", Scope: "read.all", Ways: []Way{BySecret, c.way}},
			Hosts: map[string]string{"door": door.URL, "other": other.URL}, Next: func([]byte) string { return "" },
			Questions: []Question{{Export: "a", Path: "/a"}, {Export: "b", Host: "other", Path: "/b"}}}
		got, replies, err := CollectTenant(t.Context(), Options{URL: main.URL, AnyCertificate: true},
			Credentials{Client: "c", Secret: "not used", Key: k, Subject: c.subject}, plan)
		if err != nil {
			t.Fatal(err)
		}
		want := []string{strings.TrimPrefix(main.URL, "https://") + "/a Bearer " + c.token, strings.TrimPrefix(other.URL, "https://") +
			"/b Bearer " + c.token}
		if !slices.Equal(asked, want) || len(replies) != 2 || got.Trust != "not verified" {
			t.Errorf("%s for %q: asked %q, want %q; %+v", c.way, c.subject, asked, want, got)
		}
	}
	plan := &Plan{Token: Token{Path: "/token"}, Hosts: map[string]string{"door": "http://elsewhere.example"}}
	if _, _, err := CollectTenant(t.Context(), Options{URL: main.URL}, Credentials{Token: "x"}, plan); err == nil ||
		!strings.Contains(err.Error(), "the interface door: http://elsewhere.example: http:// would show") {
		t.Errorf("an interface without encryption: %v", err)
	}
}

// A certificate counts only for the host that it names, be that an IP address.
func TestTrustNamesTheHost(t *testing.T) {
	s := httptest.NewTLSServer(http.NotFoundHandler())
	defer s.Close()
	pin := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	state := tls.ConnectionState{PeerCertificates: []*x509.Certificate{s.Certificate()}}
	for host, want := range map[string]bool{"127.0.0.1": true, "example.com": true, "192.0.2.7": false, "elsewhere.example": false} {
		c := &trusting{opt: Options{Issuers: pin}}
		if at, err := c.trust(state, host); (err == nil) != want || at.Host != host {
			t.Errorf("%s: %+v %v", host, at, err)
		}
	}
}

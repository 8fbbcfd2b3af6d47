package live

import (
	"bytes"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestAfter(t *testing.T) {
	soon := time.Now().Add(90 * time.Second).UTC().Format(http.TimeFormat)
	for text, want := range map[string][2]time.Duration{
		"": {time.Second, time.Second}, "7": {7 * time.Second, 7 * time.Second}, "0": {0, 0}, "-3": {time.Second, time.Second},
		"later": {time.Second, time.Second},
		soon:    {80 * time.Second, 90 * time.Second}, "Mon, 02 Jan 2006 15:04:05 GMT": {0, 0},
	} {
		if got := after(text, time.Second); got < want[0] || got > want[1] {
			t.Errorf("Retry-After %q: %v, want %v to %v", text, got, want[0], want[1])
		}
	}
}

// tenantServer answers what a tenant is asked, and notes it.
type tenantServer struct {
	asked []string
	*httptest.Server
}

func newTenantServer(t *testing.T) *tenantServer {
	s := &tenantServer{}
	refusals := map[string]int{"/busy": 2, "/late": 1}
	s.Server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.asked = append(s.asked, r.Method+" "+r.URL.RequestURI()+" "+r.Header.Get("Authorization"))
		w.Header().Set("Retry-After", "0")
		switch {
		case r.URL.Path == "/token":
			if r.PostFormValue("client_secret") != "Cape-Light-3" || r.PostFormValue("scope") != "https://"+r.Host+"/.default" ||
				r.PostFormValue("extra") != "one" {
				w.WriteHeader(http.StatusBadRequest)
				return
			}
			fmt.Fprint(w, `{"access_token": "Given-1"}`)
		case refusals[r.URL.Path] > 0:
			refusals[r.URL.Path]--
			w.WriteHeader(map[string]int{"/busy": http.StatusTooManyRequests, "/late": http.StatusBadGateway}[r.URL.Path])
		case r.URL.Path == "/page":
			fmt.Fprint(w, "<!DOCTYPE html><html><body>Sign in</body></html>")
		case r.URL.Path == "/told":
			fmt.Fprint(w, `{"error": {"code": "Forbidden"}}`)
		case r.URL.Path == "/beta":
			w.WriteHeader(http.StatusBadRequest)
		case r.URL.Path == "/tomorrow":
			w.Header().Set("Retry-After", "86400")
			w.WriteHeader(http.StatusTooManyRequests)
		case r.URL.Path == "/secret":
			w.WriteHeader(http.StatusForbidden)
		case r.URL.Query().Get("page") == "" && r.URL.Path == "/list":
			fmt.Fprint(w, `{"ids": ["a", "b/c"], "next": "2"}`)
		case r.URL.Path == "/linked" && r.URL.RawQuery == "":
			w.Header().Set("Link", `</linked?first>; rel="self", </linked?second>; rel="next"`)
			fmt.Fprint(w, `[1]`)
		default:
			fmt.Fprintf(w, `{"path": %q}`, r.URL.EscapedPath())
		}
	}))
	t.Cleanup(s.Close)
	return s
}

func nextField(reply []byte) string {
	var doc struct{ Next string }
	_ = json.Unmarshal(reply, &doc)
	return doc.Next
}

func ids(replies map[string][][]byte) []string {
	var all []string
	for _, reply := range replies["list"] {
		var doc struct{ IDs []string }
		_ = json.Unmarshal(reply, &doc)
		all = append(all, doc.IDs...)
	}
	return all
}

func TestCollectTenant(t *testing.T) {
	s := newTenantServer(t)
	issuer := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	plan := &Plan{Map: "m", Token: Token{Path: "/token", Form: map[string]string{"extra": "one"}, Scope: ".default", Ways: Ways},
		Next: nextField, NextParameter: "page",
		Questions: []Question{{Export: "list", Path: "/list"}, {Export: "each", Path: "/of/{}/parts", Values: ids},
			{Export: "busy", Path: "/busy"}, {Export: "late", Path: "/late"}, {Export: "secret", Path: "/secret", Optional: true}}}
	told := 0
	got, replies, err := CollectTenant(t.Context(), Options{URL: s.URL, Issuers: issuer, Told: func(int) { told++ }},
		Credentials{Client: "c", Secret: "Cape-Light-3"}, plan)
	if err != nil {
		t.Fatal(err)
	}
	if got.Trust != "verified" || got.Entries != 6 || told != 6 || got.Waits != 3 || !slices.Equal(got.Refused, []string{"secret"}) {
		t.Errorf("%+v, told %d times", got, told)
	}
	var names []string
	for _, r := range replies {
		names = append(names, r.Name)
	}
	if want := []string{"list.json", "list.page2.json", "each-a.json", "each-b%2Fc.json", "busy.json", "late.json"}; !slices.Equal(names,
		want) {
		t.Fatalf("replies %v, want %v", names, want)
	}
	if data := replies[3].Data; !bytes.Contains(data, []byte("/of/b%2Fc/parts")) {
		t.Errorf("a value with a slash: %s", data)
	}
	if !strings.HasSuffix(s.asked[1], "/list Bearer Given-1") {
		t.Errorf("asked %q", s.asked)
	}
	// A token given by hand, another scheme, pages by header.
	s.asked = nil
	plan = &Plan{Token: Token{Path: "/token", Scheme: "SSWS"}, ByHeader: true, Questions: []Question{{Export: "linked", Path: "/linked"}}}
	if _, _, err := CollectTenant(t.Context(), Options{URL: s.URL, Issuers: issuer}, Credentials{Token: "Mine-2"}, plan); err != nil {
		t.Fatal(err)
	}
	if want := []string{"GET /linked SSWS Mine-2", "GET /linked?second SSWS Mine-2"}; !slices.Equal(s.asked, want) {
		t.Errorf("asked %q, want %q", s.asked, want)
	}
	// Who is asked to wait for a day does not ask again sooner, optional or not, and says so.
	s.asked = nil
	plan = &Plan{Token: Token{Path: "/token", Scheme: "SSWS"}, Questions: []Question{{Export: "tomorrow", Path: "/tomorrow", Optional: true}}}
	_, _, err = CollectTenant(t.Context(), Options{URL: s.URL, Issuers: issuer}, Credentials{Token: "Mine-2"}, plan)
	if err == nil || !strings.Contains(err.Error(), "24h0m0s: gather again after that") || len(s.asked) != 1 {
		t.Errorf("%v, asked %q", err, s.asked)
	}
	// A page for people, and an error in place of a list, are no empty list: nothing is taken.
	for path, want := range map[string]string{"/page": "with a page", "/told": "in place of a list", "/beta": ""} {
		plan = &Plan{Token: Token{Path: "/token", Scheme: "SSWS"}, Questions: []Question{{Export: "x", Path: path, Optional: true}}}
		got, _, err := CollectTenant(t.Context(), Options{URL: s.URL, Issuers: issuer}, Credentials{Token: "Mine-2"}, plan)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) || err == nil && !slices.Equal(got.Refused, []string{"x"}) {
			t.Errorf("%s: %v %+v", path, err, got)
		}
	}
	// Whatever goes wrong, no message tells a secret.
	for name, by := range map[string]Credentials{"a wrong secret": {Client: "c", Secret: "Wrong-4"},
		"a token that is no header": {Token: "Bad\nToken-5"}, "tokens elsewhere": {Client: "c", Secret: "Wrong-4",
			TokenURL: "https://127.0.0.1:1/Wrong-4"}} {
		_, _, err := CollectTenant(t.Context(), Options{URL: s.URL, Issuers: issuer}, by, plan)
		if err == nil || strings.Contains(err.Error(), "Wrong-4") || strings.Contains(err.Error(), "Token-5") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What we signed in with is in no reply that is kept, however the server writes it.
func TestEchoedToken(t *testing.T) {
	x := &tenant{token: "Given+1/Lamp", by: Credentials{Secret: "short"}}
	for _, echo := range []string{`{"you": "Given+1/Lamp"}`, `["Given%2B1%2FLamp", "R2l2ZW4rMS9MYW1w"]`, `{"next": "/x?t=Given%2B1%2FLamp"}`} {
		got := string(x.withoutOwn([]byte(echo)))
		if strings.Contains(got, "Given") || strings.Contains(got, "R2l2") || !json.Valid([]byte(got)) {
			t.Errorf("%s: %s", echo, got)
		}
	}
	if got := string(x.withoutOwn([]byte(`"short"`))); got != `"short"` {
		t.Errorf("a word that may stand there by chance: %s", got)
	}
}

// Package standin serves an invented tenant on loopback, with the addresses
// and replies of a real one, so that live collection can be tried end to end
// without a cloud: a token for a client's id and secret, pages, and, on
// demand, requests for patience. Where the product has several interfaces, each
// has a port of its own; where it wants a signed assertion, it is checked.
package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake/fieldmap"
)

// Options say what is served, and how unwillingly.
type Options struct {
	Map      *fieldmap.Map
	Exports  fs.FS // the tenant's exports, one file for each kind
	PageSize int   // entries on a page; 0: all on one
	Throttle int   // every so many-th request is asked for patience; 0: none
}

// Server is a stand-in that listens.
type Server struct {
	Address     string // https://127.0.0.1:PORT
	Certificate string // SHA-256 of the certificate, in hex
	Client      string
	Secret      string            // empty where the product takes none
	Key         []byte            // PEM, of the client; nil where the product takes none
	Interfaces  map[string]string // addresses of the further ones, by id

	opt    Options
	token  string
	key    *ecdsa.PrivateKey
	asked  atomic.Int64
	served []*http.Server

	lock    sync.Mutex
	changed map[string]any // exports that a request changed
}

// Listen begins to serve at an address, which must be of loopback.
func Listen(address string, opt Options) (*Server, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%q: expected HOST:PORT, such as 127.0.0.1:0", address)
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("%q is not an address of loopback: the stand-in listens nowhere else; expected 127.0.0.1:PORT or [::1]:PORT",
			address)
	}
	if opt.Map.Live == nil {
		return nil, fmt.Errorf("the field map %s does not tell how its product is asked (live)", opt.Map.ID.Value)
	}
	certificate, err := selfSigned(net.ParseIP(host))
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(certificate.Certificate[0])
	s := &Server{Certificate: hex.EncodeToString(sum[:]), Client: "stand-in", Interfaces: map[string]string{}, opt: opt, token: random()}
	if s.takes("secret") {
		s.Secret = random()
	}
	if s.takes("assertion") || s.takes("grant") {
		if err := s.makeKey(); err != nil {
			return nil, err
		}
	}
	s.Address, err = s.serve(address, "", certificate)
	for _, h := range opt.Map.Live.Hosts {
		if err == nil {
			s.Interfaces[h.ID.Value], err = s.serve(net.JoinHostPort(host, "0"), h.ID.Value, certificate)
		}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// takes reports whether the product gives a token in a way.
func (s *Server) takes(way string) bool {
	by := s.opt.Map.Live.Token.By
	return len(by) == 0 && way == "secret" || slices.ContainsFunc(by, func(t strictyaml.Text) bool { return t.Value == way })
}

// makeKey makes the client's key.
func (s *Server) makeKey() (err error) {
	if s.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(s.key)
	s.Key = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	return err
}

// serve begins to answer for one interface.
func (s *Server) serve(address, id string, certificate *tls.Certificate) (string, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	mine := "https://" + l.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { s.answer(w, r, mine, id) })
	if token := s.opt.Map.Live.Token; token.Host.Value == id {
		mux.HandleFunc(token.Path, func(w http.ResponseWriter, r *http.Request) { s.giveToken(w, r, mine+token.Path) })
	}
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	s.served = append(s.served, server)
	go func() {
		_ = server.Serve(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*certificate}, MinVersion: tls.VersionTLS12}))
	}()
	return mine, nil
}

// Close ends the serving.
func (s *Server) Close() error {
	var all []error
	for _, server := range s.served {
		all = append(all, server.Close())
	}
	return errors.Join(all...)
}

func random() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

func selfSigned(ip net.IP) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "stand-in"},
		IPAddresses: []net.IP{ip},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// patience reports whether this request is one that is asked for patience, and
// asks.
func (s *Server) patience(w http.ResponseWriter) bool {
	n := s.asked.Add(1)
	if s.opt.Throttle == 0 || n%int64(s.opt.Throttle) != 0 {
		return false
	}
	w.Header().Set("Retry-After", "0")
	status := http.StatusTooManyRequests
	if n/int64(s.opt.Throttle)%2 == 0 {
		status = http.StatusServiceUnavailable
	}
	http.Error(w, "patience", status)
	return true
}

// giveToken gives one to whom shows what the product asks for, at the address
// at which it was asked.
func (s *Server) giveToken(w http.ResponseWriter, r *http.Request, at string) {
	if s.patience(w) {
		return
	}
	var err error
	switch {
	case r.PostFormValue("grant_type") == "urn:ietf:params:oauth:grant-type:jwt-bearer" && s.takes("grant"):
		err = s.signed(r.PostFormValue("assertion"), at, true)
	case r.PostFormValue("grant_type") != "client_credentials" || r.PostFormValue("client_id") != s.Client ||
		r.PostFormValue("scope") != s.scope():
		err = errors.New("invalid_request")
	case r.PostFormValue("client_assertion_type") == "urn:ietf:params:oauth:client-assertion-type:jwt-bearer" && s.takes("assertion"):
		err = s.signed(r.PostFormValue("client_assertion"), at, false)
	case s.Secret == "" || r.PostFormValue("client_secret") != s.Secret:
		err = errors.New("invalid_client")
	}
	if err != nil {
		w.WriteHeader(http.StatusUnauthorized)
		reply(w, map[string]any{"error": err.Error()})
		return
	}
	reply(w, map[string]any{"token_type": "Bearer", "expires_in": 3600, "access_token": s.token})
}

// scope is what must be asked for.
func (s *Server) scope() string {
	scope := s.opt.Map.Live.Token.Scope
	if strings.HasPrefix(scope, ".") {
		return s.Address + "/" + scope
	}
	return scope
}

// signed checks an assertion (RFC 7523, section 3). One that is the grant names
// the scope too.
func (s *Server) signed(text, at string, scoped bool) error {
	said := jwt.MapClaims{}
	_, err := jwt.ParseWithClaims(text, said, func(*jwt.Token) (any, error) { return &s.key.PublicKey, nil },
		jwt.WithValidMethods([]string{"ES256"}),
		jwt.WithAudience(at), jwt.WithIssuer(s.Client), jwt.WithExpirationRequired(), jwt.WithIssuedAt())
	switch subject, _ := said.GetSubject(); {
	case err != nil:
		return errors.New("invalid_client")
	case scoped && said["scope"] != s.scope():
		return errors.New("invalid_scope")
	case !scoped && subject != s.Client:
		return errors.New("invalid_client")
	}
	return nil
}

// answer finds the request among those of the field map that one interface
// takes.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, at, id string) {
	if s.patience(w) {
		return
	}
	if r.Header.Get("Authorization") != "Bearer "+s.token {
		http.Error(w, `{"error":"invalid_token"}`, http.StatusUnauthorized)
		return
	}
	if r.Method != http.MethodGet {
		s.change(w, r)
		return
	}
	for _, request := range s.opt.Map.Live.Requests {
		address, err := url.Parse(request.Path)
		if err != nil || request.Host.Value != id {
			continue
		}
		before, behind, each := strings.Cut(address.Path, "{}")
		value := ""
		if each {
			inner, begins := strings.CutPrefix(r.URL.Path, before)
			var ends bool
			if value, ends = strings.CutSuffix(inner, behind); !begins || !ends || value == "" || strings.Contains(value, "/") {
				continue
			}
		} else if r.URL.Path != address.Path {
			continue
		}
		name := request.Export.Value
		if each {
			name += "-" + value
		}
		s.page(w, r, at, name, request.Export.Value)
		return
	}
	http.NotFound(w, r)
}

// page sends one page of an export.
func (s *Server) page(w http.ResponseWriter, r *http.Request, at, name, export string) {
	value, ok := s.export(name, export)
	if !ok {
		http.NotFound(w, r)
		return
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("from"))
	if page := s.opt.Map.Live.Page; page != "" {
		from, _ = strconv.Atoi(r.URL.Query().Get(page))
	}
	list, put := listOf(value)
	next := 0
	if size := s.opt.PageSize; list != nil && size > 0 {
		from = min(max(from, 0), len(list))
		to := min(from+size, len(list))
		if to < len(list) {
			next = to
		}
		value = put(list[from:to])
	}
	if object, ok := value.(map[string]any); ok && next == 0 {
		delete(object, s.opt.Map.Live.NextField()) // here the list ends, wherever the export was cut
	}
	if next > 0 {
		query := r.URL.Query()
		query.Set("from", strconv.Itoa(next))
		address := at + r.URL.Path + "?" + query.Encode()
		live := s.opt.Map.Live
		object, isObject := value.(map[string]any)
		switch {
		case live.Header:
			w.Header().Set("Link", "<"+address+`>; rel="next"`)
		case isObject && live.Page != "":
			object[live.NextField()] = strconv.Itoa(next)
		case isObject:
			object[live.NextField()] = address
		}
	}
	reply(w, value)
}

// change takes a request that changes what is served.
func (s *Server) change(w http.ResponseWriter, r *http.Request) {
	const most = 1 << 20
	var body any
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, most)).Decode(&body); err != nil {
		http.Error(w, `{"error":"no JSON"}`, http.StatusBadRequest)
		return
	}
	export, then, ok := s.opt.Map.Take(r.Method, r.URL.EscapedPath(), body, func(export string) any {
		value, _ := s.export(export, export)
		return value
	})
	if !ok {
		http.NotFound(w, r)
		return
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.changed == nil {
		s.changed = map[string]any{}
	}
	s.changed[export] = then
	w.WriteHeader(http.StatusNoContent)
}

// export returns the content of the file that holds an export.
func (s *Server) export(name, export string) (any, bool) {
	s.lock.Lock()
	then, ok := s.changed[name]
	s.lock.Unlock()
	if ok {
		text, err := json.Marshal(then) // a copy, which a page may cut
		if err != nil {
			return nil, false
		}
		var value any
		err = json.Unmarshal(text, &value)
		return value, err == nil
	}
	files, _ := fs.Glob(s.opt.Exports, "*.json")
	for _, file := range files {
		data, err := fs.ReadFile(s.opt.Exports, file)
		if err != nil || s.opt.Map.ExportOf(file, data) != export {
			continue
		}
		if name != export && strings.TrimSuffix(path.Base(file), ".json") != name {
			continue
		}
		var value any
		err = json.Unmarshal(data, &value)
		return value, err == nil
	}
	if name != export {
		return []any{}, true // a group without members
	}
	return nil, false
}

// listOf finds the list in a reply that pages are made of, and how to put a
// part of it in its place.
func listOf(value any) (list []any, put func([]any) any) {
	if list, ok := value.([]any); ok {
		return list, func(part []any) any { return part }
	}
	object, ok := value.(map[string]any)
	if !ok {
		return nil, nil
	}
	for key, v := range object {
		if list, ok := v.([]any); ok {
			return list, func(part []any) any {
				copied := map[string]any{}
				for k, v := range object {
					copied[k] = v
				}
				copied[key] = part
				return copied
			}
		}
	}
	return nil, nil
}

func reply(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	_ = e.Encode(value)
}

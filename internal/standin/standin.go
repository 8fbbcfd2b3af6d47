// Package standin serves an invented tenant on loopback, with the addresses
// and replies of a real one, so that live collection can be tried end to end
// without a cloud: a token for a client's id and secret, pages, and, on
// demand, requests for patience.
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
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

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
	Secret      string

	opt   Options
	token string
	asked atomic.Int64
	http  *http.Server
}

// Listen begins to serve at an address, which must be of loopback.
func Listen(address string, opt Options) (*Server, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%q: expected HOST:PORT, such as 127.0.0.1:0", address)
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("%q is not an address of loopback: the stand-in listens nowhere else; expected 127.0.0.1:PORT or [::1]:PORT", address)
	}
	if opt.Map.Live == nil {
		return nil, fmt.Errorf("the field map %s does not tell how its product is asked (live)", opt.Map.ID.Value)
	}
	certificate, err := selfSigned(net.ParseIP(host))
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(certificate.Certificate[0])
	s := &Server{Address: "https://" + l.Addr().String(), Certificate: hex.EncodeToString(sum[:]), Client: "stand-in", Secret: random(), opt: opt, token: random()}
	mux := http.NewServeMux()
	mux.HandleFunc(opt.Map.Live.Token.Path, s.giveToken)
	mux.HandleFunc("/", s.answer)
	s.http = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		_ = s.http.Serve(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*certificate}, MinVersion: tls.VersionTLS12}))
	}()
	return s, nil
}

// Close ends the serving.
func (s *Server) Close() error { return s.http.Close() }

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
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "stand-in"}, IPAddresses: []net.IP{ip},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
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

func (s *Server) giveToken(w http.ResponseWriter, r *http.Request) {
	if s.patience(w) {
		return
	}
	if r.PostFormValue("grant_type") != "client_credentials" || r.PostFormValue("client_id") != s.Client || r.PostFormValue("client_secret") != s.Secret {
		http.Error(w, `{"error":"invalid_client"}`, http.StatusUnauthorized)
		return
	}
	reply(w, map[string]any{"token_type": "Bearer", "expires_in": 3600, "access_token": s.token})
}

// answer finds the request among those of the field map.
func (s *Server) answer(w http.ResponseWriter, r *http.Request) {
	if s.patience(w) {
		return
	}
	if r.Header.Get("Authorization") != "Bearer "+s.token {
		http.Error(w, `{"error":"invalid_token"}`, http.StatusUnauthorized)
		return
	}
	for _, request := range s.opt.Map.Live.Requests {
		address, err := url.Parse(request.Path)
		if err != nil {
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
		s.page(w, r, name, request.Export.Value)
		return
	}
	http.NotFound(w, r)
}

// page sends one page of an export.
func (s *Server) page(w http.ResponseWriter, r *http.Request, name, export string) {
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
		address := s.Address + r.URL.Path + "?" + query.Encode()
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

// export returns the content of the file that holds an export.
func (s *Server) export(name, export string) (any, bool) {
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

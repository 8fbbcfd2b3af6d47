package live

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/redact"
)

// Plan says what a tenant is asked, in order. It comes from a field map.
type Plan struct {
	Map string
	Token
	// Hosts are the addresses of further interfaces, by the names that questions
	// and the token use for them. The token goes to these hosts and to the one
	// that was named.
	Hosts     map[string]string
	Questions []Question
	// Next returns where the next page of a reply is; empty after the last.
	Next func(reply []byte) string
	// NextParameter is the query's parameter that Next goes into, where it is
	// not an address.
	NextParameter string
	// ByHeader says that the next page is named by a Link header (RFC 8288).
	ByHeader bool
}

// Token says how a tenant's token is had.
type Token struct {
	Host   string // by name; empty: the one that was named
	Path   string
	Form   map[string]string // sent as well
	Scope  string
	Scheme string // of a token given by hand; empty: Bearer
	Ways   []Way  // in which it may be had; the first is the one to name
}

// Way is a way to get a token.
type Way string

// The ways of getting a token.
const (
	BySecret    Way = "secret"    // the client's secret (RFC 6749, section 4.4)
	ByAssertion Way = "assertion" // an assertion signed with the client's key (RFC 7523, section 2.2)
	ByGrant     Way = "grant"     // an assertion that is itself the grant (RFC 7523, section 2.1)
)

// Ways are all ways of getting a token.
var Ways = []Way{BySecret, ByAssertion, ByGrant}

// Question is one export to ask for.
type Question struct {
	Export string
	Host   string // by name; empty: the one that was named
	Path   string
	// Values, if not nil, returns for what the question is asked, each put in
	// place of {}, from the replies that came before.
	Values   func(replies map[string][][]byte) []string
	Optional bool // an answer "not allowed" or "not there" is no error
}

// Credentials are how a tenant is signed in to. They come from the
// environment.
type Credentials struct {
	Token          string // as it is, or:
	Client, Secret string // to get one with
	Key            *Key   // to sign for one with
	Subject        string // for whom a signed grant acts; empty: for the client itself
	TokenURL       string // where; empty: at the plan's path
}

// Given reports whether there is enough to sign in in one of these ways.
func (c *Credentials) Given(ways []Way) bool {
	return c.Token != "" || c.Client != "" && (c.Secret != "" && slices.Contains(ways, BySecret) || c.Key != nil &&
		slices.ContainsFunc(ways, signs))
}

func signs(w Way) bool { return w == ByAssertion || w == ByGrant }

// Reply is one answer of a tenant, as it came.
type Reply struct {
	Name string // of the file that holds it
	Data []byte
}

// IsTenant reports whether a source is one that CollectTenant reads.
func IsTenant(source string) bool {
	low := strings.ToLower(source)
	return strings.HasPrefix(low, "https://") || strings.HasPrefix(low, "http://")
}

// Bounds of one collection.
const (
	mostTries   = 8
	mostWait    = 10 * time.Minute
	mostReply   = 256 << 20
	mostReplies = 1 << 30 // bytes in all: they are held in memory, and touch no disk
	mostPages   = 100_000
	replyWithin = 2 * time.Minute
)

// tenant is one collection under way.
type tenant struct {
	trusting
	ctx     context.Context
	plan    *Plan
	by      Credentials
	base    *url.URL
	clients map[string]*http.Client // by host name: each checks its own certificate
	token   string
	scheme  string
	hosts   map[string]*url.URL
	all     []Reply
	size    int64
	replies map[string][][]byte
}

// CollectTenant asks a tenant all that the plan says, until ctx ends. The replies stay in
// memory: they are as they came, secrets and all.
func CollectTenant(ctx context.Context, opt Options, by Credentials, plan *Plan) (*Collected, []Reply, error) {
	ctx, done := context.WithTimeoutCause(ctx, mostTime, errTooLong)
	defer done()
	base, err := tenantAddress(opt.URL)
	if err != nil {
		return nil, nil, err
	}
	t := &tenant{ctx: ctx, trusting: trusting{opt: opt, first: base.Hostname(), got: &Collected{URL: opt.URL, Bases: []string{},
		Map: plan.Map}}, plan: plan, by: by, base: base,
		clients: map[string]*http.Client{}, hosts: map[string]*url.URL{"": base}, replies: map[string][][]byte{}}
	for name, address := range plan.Hosts {
		if t.hosts[name], err = tenantAddress(address); err != nil {
			return nil, nil, fmt.Errorf("the interface %s: %w", name, err)
		}
	}
	if err := t.signIn(); err != nil {
		return nil, nil, t.explain(err)
	}
	for i := range plan.Questions {
		if err := t.ask(&plan.Questions[i]); err != nil {
			return nil, nil, t.explain(err)
		}
	}
	return t.got, t.all, nil
}

// client returns what asks a host.
func (t *tenant) client(host string) *http.Client {
	if t.clients[host] == nil {
		t.clients[host] = &http.Client{
			Timeout:   replyWithin,
			Transport: &http.Transport{TLSClientConfig: t.config(host), Proxy: http.ProxyFromEnvironment},
			CheckRedirect: func(r *http.Request, _ []*http.Request) error {
				return fmt.Errorf("it sends us on to %s, where the token would go too", r.URL.Host)
			},
		}
	}
	return t.clients[host]
}

// tenantAddress reads the address of one interface.
func tenantAddress(text string) (*url.URL, error) {
	base, err := url.Parse(text)
	switch {
	case err != nil || base.Hostname() == "":
		return nil, errors.New("an address that cannot be read; expected https://HOST[:PORT]")
	case Plain(text) != nil:
		return nil, Plain(text)
	case !strings.EqualFold(base.Scheme, "https"):
		return nil, fmt.Errorf("%s: http:// would show the token to everybody on the way; expected https://", text)
	}
	return base, nil
}

// explain words an error so that it says what to do next, without secrets.
func (t *tenant) explain(err error) error {
	if t.distrust != nil {
		return t.untrusted()
	}
	var bad *answerError
	if errors.As(err, &bad) {
		return fmt.Errorf("%s: %w; nothing was taken", t.opt.URL, err)
	}
	text := err.Error()
	for _, secret := range []string{t.token, t.by.Token, t.by.Secret} {
		if secret != "" {
			text = strings.ReplaceAll(text, secret, "…")
		}
	}
	return fmt.Errorf("%s: %s after %d replies; nothing was taken; check the address and try again", t.opt.URL, text, t.got.Entries)
}

// answerError is a reply that is none to go on with.
type answerError struct {
	path   string
	status int
	advice string
}

func (e *answerError) Error() string {
	return fmt.Sprintf("%s: the server answers %d %s; %s", e.path, e.status, http.StatusText(e.status), e.advice)
}

// leavesOpen reports whether a question that may go without an answer goes without this one:
// the interface has it not, or not for this client. A token that is not accepted, and a server
// that is busy, are another matter.
func (e *answerError) leavesOpen() bool {
	switch e.status {
	case http.StatusUnauthorized, http.StatusTooManyRequests:
		return false
	}
	return e.status >= 400 && e.status < 500 || e.status == http.StatusNotImplemented
}

// noList says why a reply of success holds nothing: it is a page for people, or tells of an
// error. Read as an empty list it would be evidence.
func noList(path string, reply []byte) error {
	if bytes.HasPrefix(bytes.TrimSpace(reply), []byte("<")) {
		return fmt.Errorf("%s: the server answers with a page, such as one to sign in; check the address, and that no proxy stands between", path)
	}
	var told struct {
		Error json.RawMessage `json:"error"`
	}
	if json.Unmarshal(reply, &told) == nil && told.Error != nil && string(told.Error) != "null" {
		return fmt.Errorf("%s: the server answers with an error in place of a list; nothing was taken: gather again, or export that list to a file", path)
	}
	return nil
}

// advice says what the usual refusals mean.
var advice = map[int]string{
	http.StatusBadRequest:         "check the field map's path and the scope",
	http.StatusUnauthorized:       "the token is not accepted: it may have run out, or be of another tenant",
	http.StatusForbidden:          "the client may not read this: give it the reading right that docs/sources.md names",
	http.StatusNotFound:           "check the address, and that the field map is the one for this product",
	http.StatusTooManyRequests:    "the server asked for patience until there was none left; try again later",
	http.StatusServiceUnavailable: "the server asked for patience until there was none left; try again later",
}

// signIn gets the token: the one given, or one for what the client can show.
func (t *tenant) signIn() error {
	if t.scheme = cmp.Or(t.plan.Scheme, "Bearer"); t.by.Token != "" {
		t.token = t.by.Token
		return nil
	}
	t.scheme = "Bearer"
	address := t.by.TokenURL
	if address == "" {
		address = t.hosts[t.plan.Token.Host].JoinPath(t.plan.Token.Path).String()
	}
	if err := Plain(address); err != nil {
		return fmt.Errorf("the address for tokens: %w", err)
	}
	to, err := url.Parse(address)
	if err != nil || !strings.EqualFold(to.Scheme, "https") {
		return errors.New("the address for tokens must begin with https://")
	}
	form, err := t.form(to)
	if err != nil {
		return err
	}
	reply, _, err := t.send(func() (*http.Request, error) {
		r, err := http.NewRequestWithContext(t.ctx, http.MethodPost, to.String(), strings.NewReader(form.Encode()))
		if err == nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		return r, err
	}, to.Path)
	if err != nil {
		return fmt.Errorf("asking for a token: %w", err)
	}
	var answer struct {
		Token string `json:"access_token"`
	}
	if err := json.Unmarshal(reply, &answer); err != nil || answer.Token == "" {
		return errors.New("asking for a token: the reply holds no access_token")
	}
	t.token = answer.Token
	return nil
}

// form is what is sent for a token.
func (t *tenant) form(to *url.URL) (url.Values, error) {
	scope := t.plan.Scope
	if strings.HasPrefix(scope, ".") {
		scope = "https://" + t.base.Host + "/" + scope
	}
	form := url.Values{}
	for name, value := range t.plan.Form {
		form.Set(name, value)
	}
	switch way := t.way(); way {
	case BySecret:
		form.Set("grant_type", "client_credentials")
		form.Set("client_id", t.by.Client)
		form.Set("client_secret", t.by.Secret)
		form.Set("scope", scope)
	case ByAssertion:
		signed, err := t.by.Key.sign(claims{issuer: t.by.Client, subject: t.by.Client, audience: to.String()})
		if err != nil {
			return nil, err
		}
		form.Set("grant_type", "client_credentials")
		form.Set("client_id", t.by.Client)
		form.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		form.Set("client_assertion", signed)
		form.Set("scope", scope)
	case ByGrant:
		signed, err := t.by.Key.sign(claims{issuer: t.by.Client, subject: cmp.Or(t.by.Subject, t.by.Client), audience: to.String(), scope: scope})
		if err != nil {
			return nil, err
		}
		form.Set("grant_type", "urn:ietf:params:oauth:grant-type:jwt-bearer")
		form.Set("assertion", signed)
	}
	return form, nil
}

// way picks how the token is had: by the key, where there is one.
func (t *tenant) way() Way {
	if t.by.Key != nil {
		if i := slices.IndexFunc(t.plan.Ways, signs); i >= 0 {
			return t.plan.Ways[i]
		}
	}
	return BySecret
}

// ask asks one question, for each of its values, page by page.
func (t *tenant) ask(q *Question) error {
	values := []string{""}
	if q.Values != nil {
		values = q.Values(t.replies)
	}
	for _, value := range values {
		path := strings.ReplaceAll(q.Path, "{}", url.PathEscape(value))
		name := q.Export
		if value != "" {
			name += "-" + url.PathEscape(value)
		}
		if err := t.pages(q, t.hosts[q.Host].String(), path, name); err != nil {
			return err
		}
	}
	return nil
}

// pages follows the pages of one reply.
func (t *tenant) pages(q *Question, base, path, name string) error {
	address, err := url.Parse(strings.TrimSuffix(base, "/") + path)
	if err != nil {
		return fmt.Errorf("%s is no address", path)
	}
	seen := map[string]bool{}
	for page := 1; ; page++ {
		if seen[address.String()] || page > mostPages {
			return fmt.Errorf("%s: the pages go round in a circle", path)
		}
		seen[address.String()] = true
		reply, head, err := t.send(func() (*http.Request, error) {
			r, err := http.NewRequestWithContext(t.ctx, http.MethodGet, address.String(), nil)
			if err == nil {
				r.Header.Set("Authorization", t.scheme+" "+t.token)
				r.Header.Set("Accept", "application/json")
			}
			return r, err
		}, address.Path)
		var bad *answerError
		if errors.As(err, &bad) && q.Optional && bad.leavesOpen() {
			t.got.Refused = append(t.got.Refused, q.Export)
			return nil
		}
		if err != nil {
			return err
		}
		if err := noList(path, reply); err != nil {
			return err
		}
		file := name + ".json"
		if page > 1 {
			file = fmt.Sprintf("%s.page%d.json", name, page)
		}
		next := t.next(reply, head)
		reply = t.withoutOwn(reply)
		if t.size += int64(len(reply)); t.size > mostReplies {
			return fmt.Errorf("%s: the replies come to more than %d MiB; gather exports in files instead", path, mostReplies>>20)
		}
		t.all = append(t.all, Reply{file, reply})
		t.replies[q.Export] = append(t.replies[q.Export], reply)
		if page == 1 {
			t.got.Bases = append(t.got.Bases, path)
		}
		t.got.Entries++
		if t.opt.Told != nil {
			t.opt.Told(t.got.Entries)
		}
		if next == "" {
			return nil
		}
		if address, err = t.follow(address, next); err != nil {
			return err
		}
	}
}

// leastSecret is how long a secret is at least that is looked for in replies: anything
// shorter may stand there by chance.
const leastSecret = 8

// withoutOwn is a reply without what we signed in with, which a server may echo.
func (t *tenant) withoutOwn(reply []byte) []byte {
	for _, secret := range []string{t.token, t.by.Token, t.by.Secret} {
		if len(secret) < leastSecret {
			continue
		}
		quoted, _ := json.Marshal(secret)
		for _, form := range []string{secret, string(quoted[1 : len(quoted)-1]), url.QueryEscape(secret), url.PathEscape(secret),
			base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret))} {
			reply = bytes.ReplaceAll(reply, []byte(form), []byte(redact.Struck))
		}
	}
	return reply
}

var linkForm = regexp.MustCompile(`<([^>]*)>\s*;[^,]*rel="?next"?`)

// next returns where a reply says its next page is.
func (t *tenant) next(reply []byte, head http.Header) string {
	if t.plan.ByHeader {
		for _, l := range head.Values("Link") {
			if m := linkForm.FindStringSubmatch(l); m != nil {
				return m[1]
			}
		}
		return ""
	}
	return t.plan.Next(reply)
}

// follow resolves the next page's address. Another host would get the token.
func (t *tenant) follow(from *url.URL, next string) (*url.URL, error) {
	if t.plan.NextParameter != "" {
		to := *from
		query := to.Query()
		query.Set(t.plan.NextParameter, next)
		to.RawQuery = query.Encode()
		return &to, nil
	}
	to, err := from.Parse(next)
	if err != nil {
		return nil, errors.New("the next page has no address that can be read")
	}
	if to.Host != from.Host || !strings.EqualFold(to.Scheme, "https") {
		return nil, fmt.Errorf("the next page is at %s://%s, where the token would go too: refused", to.Scheme, to.Host)
	}
	return to, nil
}

// send makes a request, again and again while the server asks for patience.
func (t *tenant) send(request func() (*http.Request, error), path string) ([]byte, http.Header, error) {
	pause := time.Second
	for try := 1; ; try++ {
		r, err := request()
		if err != nil {
			return nil, nil, err
		}
		reply, err := t.client(r.URL.Hostname()).Do(r)
		if err != nil {
			var wrapped *url.Error
			if errors.As(err, &wrapped) {
				err = wrapped.Err // the address may hold what is no one's business
			}
			return nil, nil, err
		}
		body, err := io.ReadAll(io.LimitReader(reply.Body, mostReply+1))
		reply.Body.Close()
		switch {
		case err != nil:
			return nil, nil, fmt.Errorf("the reply to %s broke off: %w", path, err)
		case len(body) > mostReply:
			return nil, nil, fmt.Errorf("the reply to %s is larger than %d MiB", path, mostReply>>20)
		case reply.StatusCode == http.StatusOK:
			return body, reply.Header, nil
		}
		patience := reply.StatusCode == http.StatusTooManyRequests || reply.StatusCode >= 500
		if !patience || try == mostTries {
			return nil, nil, &answerError{path, reply.StatusCode, cmp.Or(advice[reply.StatusCode], "try again later")}
		}
		wait := after(reply.Header.Get("Retry-After"), pause)
		if wait > mostWait { // asked sooner, it would only refuse again
			return nil, nil, &answerError{path, reply.StatusCode, fmt.Sprintf("the server asks to be left alone for %s: gather again after that",
				wait.Round(time.Second))}
		}
		pause *= 2
		t.got.Waits++
		select {
		case <-time.After(wait):
		case <-t.ctx.Done():
			return nil, nil, context.Cause(t.ctx)
		}
	}
}

// after reads Retry-After (RFC 9110, section 10.2.3): seconds, or a date.
func after(text string, otherwise time.Duration) time.Duration {
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(time.Until(at), 0)
	}
	return otherwise
}

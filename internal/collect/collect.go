package collect

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/kerberos"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/live"

	"github.com/klauspost/compress/zstd"
)

// LiveOptions say how live sources are read.
type LiveOptions = live.Options

// Credentials are how tenants are signed in to.
type Credentials = live.Credentials

// Tickets say how one signs in by Kerberos.
type Tickets = kerberos.Options

// Address is where a server answers.
type Address = live.Address

// ParseAddress reads HOST or HOST:PORT.
var ParseAddress = live.ParseAddress

// ParseKey reads the private key of a client that has no secret.
var ParseKey = live.ParseKey

var classIn = regexp.MustCompile(`\(objectClass=([^)*]+)\)`)

// AskedLive lists in Markdown what a directory and its policy store are asked for.
func AskedLive() string {
	var b strings.Builder
	b.WriteString("What is asked for, and nothing else:\n\n")
	all := ldif.Attributes()
	for _, s := range live.Searches(all) {
		var classes []string
		for _, m := range classIn.FindAllStringSubmatch(s.Filter, -1) {
			classes = append(classes, m[1])
		}
		fmt.Fprintf(&b, "- Of %s", s.Of)
		if len(classes) > 0 {
			fmt.Fprintf(&b, ", entries of the classes %s", strings.Join(classes, ", "))
		}
		what := strings.Join(s.Attributes, ", ")
		if slices.Equal(s.Attributes, all) {
			what = "the settings' attributes (below)"
		}
		fmt.Fprintf(&b, ": %s.\n", what)
	}
	b.WriteString("- Who one is, by the server's word (RFC 4532).\n")
	fmt.Fprintf(&b, "- Of the share sysvol, in each folder of DOMAIN/Policies: %s.\n", strings.Join(live.StoreFiles(), ", "))
	fmt.Fprintf(&b, "- The settings' attributes, of whatever make the directory is: %s.\n", strings.Join(all, ", "))
	return b.String()
}

// asking is one asking of live sources.
type asking struct {
	*custody.Engagement
	opt   GatherOptions
	how   LiveOptions // signed in, once that is known to be needed
	asked bool
	hosts map[string]bool // names of folders of tenants
	got   []*live.Collected
	found []candidate
}

// collect reads the live sources, and returns what they answered as files that
// are in memory: as they come, replies may hold secrets, and none of that is
// ever written. What is left of the sources is on disk.
func collect(e *custody.Engagement, sources []string, opt GatherOptions) (all []*live.Collected, found []candidate,
	files []string, err error) {
	a := &asking{Engagement: e, opt: opt, how: opt.Live, hosts: map[string]bool{}}
	defer func() {
		if a.how.Identity != nil {
			a.how.Identity.Close()
		}
	}()
	for _, source := range sources {
		switch {
		case live.IsTenant(source):
			err = a.tenant(source)
		case live.Is(source):
			err = a.directory(source)
		default:
			files = append(files, source)
		}
		if err != nil {
			return nil, nil, nil, fmt.Errorf("gather %w", err)
		}
	}
	return a.got, a.found, files, nil
}

func (a *asking) options(source string) LiveOptions {
	how := a.how
	how.URL, how.Attributes = source, ldif.Attributes()
	if a.opt.Progress != nil {
		how.Told = func(n int) { a.opt.Progress(source, int64(n), -1) }
	}
	return how
}

func (a *asking) add(source string, got *live.Collected, came []candidate) {
	for i := range came {
		came[i].origin = cmp.Or(came[i].origin, source)
	}
	a.got, a.found = append(a.got, got), append(a.found, came...)
}

func (a *asking) tenant(source string) error {
	// One folder for each: two tenants may answer at one host.
	folder := numbered(hostOf(source), a.hosts)
	a.hosts[folder] = true
	got, came, err := collectTenant(a.Engagement, a.options(source), a.opt, folder)
	if err == nil {
		a.add(source, got, came)
	}
	return err
}

// directory reads a directory, the policy store of its domain, and, where the
// forest is wanted, the other domains: as far as they let themselves be read.
func (a *asking) directory(source string) error {
	if err := live.Plain(source); err != nil {
		return err
	}
	if err := a.signIn(source); err != nil {
		return fmt.Errorf("%s: %w", source, err)
	}
	first, err := a.domain(source)
	if err != nil {
		return err
	}
	from, err := url.Parse(source)
	if err != nil {
		return err
	}
	for _, d := range first.Domains {
		if first.Server == nil || d.Name == first.Server.Domain {
			continue
		}
		if a.how.Identity != nil {
			a.how.Identity.Ask(strings.ToUpper(d.Name), a.kdcOf(d.Name))
		}
		to := url.URL{Scheme: from.Scheme, Host: d.Name}
		if port := from.Port(); port != "" {
			to.Host += ":" + port
		}
		if _, err := a.domain(to.String()); err != nil {
			if ended := context.Cause(a.Context); ended != nil {
				return ended
			}
			first.Refused = append(first.Refused, fmt.Sprintf("the domain %s: %v", d.Name, err))
		}
	}
	return nil
}

// kdcOf is the address of a domain's KDC: that of its server, where one was
// given.
func (a *asking) kdcOf(domain string) string {
	for _, name := range []string{domain, strings.ToUpper(domain)} {
		if at, ok := a.how.Servers[name]; ok {
			return at.Host
		}
	}
	return domain
}

// domain reads one directory with its store.
func (a *asking) domain(source string) (*live.Collected, error) {
	how := a.options(source)
	got, came, err := collectDirectory(a.Context, how)
	if err != nil {
		return nil, err
	}
	if !a.opt.DirectoryOnly {
		files := live.CollectStore(a.Context, how, got)
		if err := context.Cause(a.Context); err != nil {
			return nil, err
		}
		for _, f := range files {
			c := inMemory(got.Server.Host+"/"+f.Path, f.Data, f.Written)
			c.origin = c.path
			came = append(came, c)
		}
	}
	a.add(source, got, came)
	return got, nil
}

// signIn makes ready what directories are signed in to with, once.
func (a *asking) signIn(source string) error {
	if a.asked {
		return nil
	}
	a.asked = true
	tickets := a.opt.Tickets
	name := a.how.Bind
	if tickets != nil {
		name = tickets.Name
	}
	password := ""
	if name != "" && (tickets == nil || tickets.Keytab == "") {
		var err error
		if password, err = a.opt.Password(name); err != nil {
			return err
		}
	}
	if tickets == nil {
		a.how.Password = password
		return nil
	}
	by := *tickets
	by.Password, by.Realms = password, map[string]string{}
	for name, at := range a.how.Servers {
		by.Realms[strings.ToUpper(name)] = at.Host
	}
	_, realm, _ := strings.Cut(name, "@")
	if realm == "" && name == "" {
		_, realm = kerberos.CacheOwner()
	}
	// A controller of a domain is its KDC, too.
	if u, err := url.Parse(source); err == nil && realm != "" && by.Realms[strings.ToUpper(realm)] == "" &&
		!kerberos.HasKDC(strings.ToUpper(realm)) {
		by.Realms[strings.ToUpper(realm)] = u.Hostname()
	}
	var err error
	a.how.Identity, err = kerberos.SignIn(by)
	return err
}

// collectDirectory holds what a directory answers compressed: a million
// accounts are some hundred MiB.
func collectDirectory(ctx context.Context, how LiveOptions) (*live.Collected, []candidate, error) {
	var held bytes.Buffer
	packed, err := zstd.NewWriter(&held, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, nil, err
	}
	counted := &counter{to: packed}
	got, err := live.Collect(ctx, how, counted)
	if closed := packed.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return nil, nil, err
	}
	c := inMemory(live.FileName(how.URL), nil, time.Now())
	c.size, c.named = counted.n, true
	c.open = func() (io.ReadCloser, error) {
		z, err := zstd.NewReader(bytes.NewReader(held.Bytes()))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	}
	return got, []candidate{c}, nil
}

// counter counts what passes.
type counter struct {
	to io.Writer
	n  int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.n += int64(n)
	return n, err
}

// hostOf names the folder of a tenant's replies.
func hostOf(source string) string {
	if u, err := url.Parse(source); err == nil && u.Hostname() != "" {
		return strings.ReplaceAll(strings.ToLower(u.Hostname()), ":", "-")
	}
	return "tenant"
}

// collectTenant asks a tenant by its field map.
func collectTenant(e *custody.Engagement, how LiveOptions, opt GatherOptions, folder string) (*live.Collected, []candidate, error) {
	m, err := liveMap(e, opt.Map)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", how.URL, err)
	}
	plan, err := planOf(m, opt.Hosts)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", how.URL, err)
	}
	by := opt.Credentials
	if !by.Given(plan.Ways) {
		return nil, nil, fmt.Errorf("%s: no way to sign in: set STERNLEDGER_TOKEN, or STERNLEDGER_CLIENT_ID and %s", how.URL, wanted(plan.Ways))
	}
	got, replies, err := live.CollectTenant(e.Context, how, by, plan)
	if err != nil {
		return nil, nil, err
	}
	var all []candidate
	for _, r := range replies {
		all = append(all, inMemory(folder+"/"+r.Name, r.Data, time.Now()))
	}
	return got, all, nil
}

// wanted names the variables that a way to get a token needs.
func wanted(ways []live.Way) string {
	var names []string
	if slices.Contains(ways, live.BySecret) {
		names = append(names, "STERNLEDGER_CLIENT_SECRET")
	}
	if slices.ContainsFunc(ways, func(w live.Way) bool { return w != live.BySecret }) {
		names = append(names, "STERNLEDGER_CLIENT_KEY (a private key in PEM)")
	}
	return strings.Join(names, " or ")
}

// liveMap returns the field map of that id, which must tell how to ask.
func liveMap(e *custody.Engagement, id string) (*fieldmap.Map, error) {
	all, err := e.FieldMaps()
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, m := range all {
		if m.Live != nil {
			ids = append(ids, m.ID.Value)
		}
	}
	i := slices.IndexFunc(all, func(m *fieldmap.Map) bool { return m.ID.Value == id && m.Live != nil })
	switch {
	case id == "":
		return nil, fmt.Errorf("which product is it? Name its field map with --map: %s", strings.Join(ids, ", "))
	case i < 0:
		return nil, fmt.Errorf("no field map %q that says how to ask; %s, of %s", id, strictyaml.Hint(id, ids),
			strings.Join(ids, ", "))
	}
	return all[i], nil
}

// planOf turns what a field map says of asking into a plan. hosts are addresses
// that take the place of the map's.
func planOf(m *fieldmap.Map, hosts map[string]string) (*live.Plan, error) {
	l := m.Live
	plan := &live.Plan{Map: m.ID.Value, Hosts: map[string]string{}, Next: l.NextPage, NextParameter: l.Page, ByHeader: l.Header,
		Token: live.Token{Host: l.Token.Host.Value, Path: l.Token.Path, Form: l.Token.Form, Scope: l.Token.Scope, Scheme: l.Token.Auth}}
	for _, by := range l.Token.By {
		plan.Ways = append(plan.Ways, live.Way(by.Value))
	}
	if len(plan.Ways) == 0 {
		plan.Ways = []live.Way{live.BySecret}
	}
	for _, h := range l.Hosts {
		plan.Hosts[h.ID.Value] = h.Address.Value
	}
	for id, address := range hosts {
		if _, ok := plan.Hosts[id]; !ok {
			known := slices.Sorted(maps.Keys(plan.Hosts))
			if len(known) == 0 {
				return nil, fmt.Errorf("--interface %s: the field map %s has no further interfaces", id, plan.Map)
			}
			return nil, fmt.Errorf("--interface %s: the field map %s has %s", id, plan.Map, strings.Join(known, ", "))
		}
		plan.Hosts[id] = address
	}
	for _, r := range l.Requests {
		q := live.Question{Export: r.Export.Value, Host: r.Host.Value, Path: r.Path, Optional: r.May}
		if r.Each != nil {
			q.Values = r.Each.Values
		}
		plan.Questions = append(plan.Questions, q)
	}
	return plan, nil
}

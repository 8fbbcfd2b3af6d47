package collect

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/live"

	"github.com/klauspost/compress/zstd"
)

// LiveOptions say how live sources are read.
type LiveOptions = live.Options

// Credentials are how tenants are signed in to.
type Credentials = live.Credentials

func isLive(source string) bool { return live.Is(source) || live.IsTenant(source) }

// ParseKey reads the private key of a client that has no secret.
var ParseKey = live.ParseKey

// collect reads the live sources, and returns what they answered as files that
// are in memory: as they come, replies may hold secrets, and none of that is
// ever written. What is left of the sources is on disk.
func collect(e *custody.Engagement, sources []string, opt GatherOptions) (all []*live.Collected, found []candidate,
	files []string, err error) {
	asked := false
	hosts := map[string]bool{}
	for _, source := range sources {
		if !isLive(source) {
			files = append(files, source)
			continue
		}
		how := opt.Live
		how.URL, how.Attributes = source, ldif.Attributes()
		if opt.Progress != nil {
			how.Told = func(n int) { opt.Progress(source, int64(n), -1) }
		}
		var got *live.Collected
		var came []candidate
		if live.IsTenant(source) {
			// One folder for each: two tenants may answer at one host.
			folder := numbered(hostOf(source), hosts)
			hosts[folder] = true
			got, came, err = collectTenant(e, how, opt, folder)
		} else {
			if how.Bind != "" && !asked {
				if opt.Live.Password, err = opt.Password(how.Bind); err != nil {
					return nil, nil, nil, err
				}
				asked, how.Password = true, opt.Live.Password
			}
			got, came, err = collectDirectory(e.Context, how)
		}
		if err != nil {
			return nil, nil, nil, fmt.Errorf("gather %w", err)
		}
		for i := range came {
			came[i].origin = source
		}
		all, found = append(all, got), append(found, came...)
	}
	return all, found, files, nil
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

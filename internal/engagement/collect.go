package engagement

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/live"
)

// LiveOptions say how live sources are read.
type LiveOptions = live.Options

// Credentials are how tenants are signed in to.
type Credentials = live.Credentials

func isLive(source string) bool { return live.Is(source) || live.IsTenant(source) }

// collect reads the live sources into files of a folder, and returns the
// sources with those files in their place, and which address each file, or
// folder of files, is of.
func (e *Engagement) collect(sources []string, opt GatherOptions, folder string) (all []*live.Collected, files []string, origins map[string]string, err error) {
	origins = map[string]string{}
	asked := false
	for i, source := range sources {
		if !isLive(source) {
			files = append(files, source)
			continue
		}
		how := opt.Live
		how.URL = source
		if opt.Progress != nil {
			how.Told = func(n int) { opt.Progress(source, int64(n), -1) }
		}
		// A folder for each: one server can be read for several bases.
		place := filepath.Join(folder, fmt.Sprint(i))
		var got *live.Collected
		var name string
		if live.IsTenant(source) {
			name = filepath.Join(place, hostOf(source))
			got, err = e.collectTenant(how, opt, name)
		} else {
			if how.Bind != "" && !asked {
				if opt.Live.Password, err = opt.Password(how.Bind); err != nil {
					return nil, nil, nil, err
				}
				asked, how.Password = true, opt.Live.Password
			}
			name = filepath.Join(place, live.FileName(source))
			got, err = collectDirectory(how, name)
		}
		if err != nil {
			return nil, nil, nil, fmt.Errorf("gather %w", err)
		}
		all, files, origins[name] = append(all, got), append(files, name), source
	}
	return all, files, origins, nil
}

func collectDirectory(how LiveOptions, name string) (*live.Collected, error) {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	got, err := live.Collect(how, f)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return got, err
}

// hostOf names the folder of a tenant's replies.
func hostOf(source string) string {
	if u, err := url.Parse(source); err == nil && u.Hostname() != "" {
		return strings.ReplaceAll(strings.ToLower(u.Hostname()), ":", "-")
	}
	return "tenant"
}

// collectTenant asks a tenant by its field map.
func (e *Engagement) collectTenant(how LiveOptions, opt GatherOptions, folder string) (*live.Collected, error) {
	m, err := e.liveMap(opt.Map)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", how.URL, err)
	}
	by := opt.Credentials
	if by.Token == "" && (by.Client == "" || by.Secret == "") {
		return nil, fmt.Errorf("%s: no way to sign in: set STERNLEDGER_TOKEN, or STERNLEDGER_CLIENT_ID and STERNLEDGER_CLIENT_SECRET", how.URL)
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	return live.CollectTenant(how, by, planOf(m), folder)
}

// liveMap returns the field map of that id, which must tell how to ask.
func (e *Engagement) liveMap(id string) (*fieldmap.Map, error) {
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
		return nil, fmt.Errorf("no field map %q that tells how to ask; the nearest is %q, of %s", id, strictyaml.Nearest(id, ids), strings.Join(ids, ", "))
	}
	return all[i], nil
}

// planOf turns what a field map says of asking into a plan.
func planOf(m *fieldmap.Map) *live.Plan {
	l := m.Live
	plan := &live.Plan{Map: m.ID.Value, TokenPath: l.Token.Path, TokenForm: l.Token.Form, Scope: l.Token.Scope, AuthScheme: l.Token.Auth, Next: l.NextPage, NextParameter: l.Page, ByHeader: l.Header}
	for _, r := range l.Requests {
		q := live.Question{Export: r.Export.Value, Path: r.Path, Optional: r.May}
		if r.Each != nil {
			q.Values = r.Each.Values
		}
		plan.Questions = append(plan.Questions, q)
	}
	return plan
}

// Package engagement holds the use cases: what each command does. It is the
// only place where the core, the readers and the ledger meet.
package engagement

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/ledger"
)

// EvidenceDir is the folder of the stored copies in an engagement folder.
const EvidenceDir = "evidence"

// Engagement is one open engagement folder.
type Engagement struct {
	Dir    string
	Config *Config
	Ledger *ledger.Ledger
	Now    func() time.Time

	then *inputs // of a recorded weighing, in a state of the engagement that is past
}

// Begin makes an engagement folder, which must not hold one yet.
func Begin(dir, title, auditor string, now func() time.Time) error {
	for _, name := range []string{ConfigName, ledger.FileName, EvidenceDir} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return fmt.Errorf("%s: there is a %s already; an engagement is never started over: choose another folder", dir, name)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, EvidenceDir), 0o700); err != nil {
		return err
	}
	config := fmt.Sprintf(starter, quoted(title), quoted(auditor))
	if err := os.WriteFile(filepath.Join(dir, ConfigName), []byte(config), 0o600); err != nil {
		return err
	}
	if err := ledger.Create(dir); err != nil {
		return err
	}
	e, err := Open(dir, now)
	if err != nil {
		return err
	}
	defer e.Close()
	return e.record(beginKind, map[string]string{"title": title, "auditor": auditor})
}

func quoted(text string) string {
	q, _ := json.Marshal(text) // a JSON string is a YAML string too
	return string(q)
}

// Open opens an engagement folder and finishes what a stopped program left.
func Open(dir string, now func() time.Time) (*Engagement, error) {
	c, err := readConfig(dir)
	if err != nil {
		return nil, err
	}
	l, err := ledger.Open(dir)
	if err != nil {
		return nil, err
	}
	e := &Engagement{Dir: dir, Config: c, Ledger: l, Now: now}
	if err := e.settle(); err != nil {
		l.Close()
		return nil, err
	}
	return e, nil
}

// Close closes the engagement.
func (e *Engagement) Close() error { return e.Ledger.Close() }

// actor is who an entry is by.
func (e *Engagement) actor() string { return e.Config.Auditor }

// Kinds of entries.
const (
	beginKind    = "begin"
	gatherKind   = "gather"
	weighKind    = "weigh"
	waiveKind    = "waive"
	withdrawKind = "withdraw"
)

// record appends one entry in a change of its own.
func (e *Engagement) record(kind string, body any) error {
	tx, err := e.Ledger.Change()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Append(e.Now(), e.actor(), kind, body); err != nil {
		return err
	}
	return tx.Commit()
}

// Subjects of holdings in the ledger.
const (
	authoritySubject = "authority:"
	templateSubject  = "template:"
	tenantSubject    = authoritySubject + string(estate.Tenant) + ":"
)

// subjectOf names an authority in the ledger.
func subjectOf(at estate.Place) string {
	return authoritySubject + string(at.Kind) + ":" + at.Name
}

// Estate loads what the current evidence says, with the named columns of the
// objects; without names, all columns.
func (e *Engagement) Estate(columns ...string) (*estate.Estate, error) {
	holdings, err := e.Ledger.Current()
	if err != nil {
		return nil, err
	}
	if len(columns) > 0 && slices.ContainsFunc(holdings, func(h ledger.Holding) bool { return strings.HasPrefix(h.Subject, tenantSubject) }) {
		columns = append(slices.Clone(columns), "source", "principal", "file", "line") // by which synchronised accounts are joined
	}
	var all estate.Estate
	for _, h := range holdings {
		if strings.HasPrefix(h.Subject, templateSubject) {
			var t estate.Template
			if err := json.Unmarshal([]byte(h.Body), &t); err != nil {
				return nil, fmt.Errorf("%s in the ledger: %w", h.Subject, err)
			}
			all.Templates = append(all.Templates, t)
			continue
		}
		a := &estate.Authority{Objects: &estate.Objects{}}
		if err := json.Unmarshal([]byte(h.Body), a); err != nil {
			return nil, fmt.Errorf("%s in the ledger: %w", h.Subject, err)
		}
		if err := e.useDefault(a); err != nil {
			return nil, err
		}
		if err := e.Ledger.Load(h.ID, a.Objects, columns...); err != nil {
			return nil, err
		}
		all.Authorities = append(all.Authorities, a)
	}
	return &all, nil
}

// useDefault gives an LDAP directory the default policy that the engagement
// names, else the one that the evidence does.
func (e *Engagement) useDefault(a *estate.Authority) error {
	said := e.Config.forAuthority(a.Place()).DefaultPolicy
	switch {
	case a.Kind != estate.LDAP:
	case said.Value != "":
		a.DefaultPolicy = said.Value
		if !a.UseDefault(said.Value) {
			return said.Errorf(filepath.Join(e.Dir, ConfigName), "default-policy %q of %s is not in the evidence; gather its entry", said.Value, a.Name)
		}
	case a.DefaultPolicy != "":
		a.UseDefault(a.DefaultPolicy)
	}
	return nil
}

// ErrNoEvidence says that nothing was gathered yet.
var ErrNoEvidence = errors.New("nothing was gathered yet; take exports with \"sternledger gather FILE…\"")

// governing is what precedence and tiers need of the objects; principal and
// display names, and dates, are for single accounts.
var governing = []string{"class", "flags", "rid", "primary", "group-type", "applied", "resultant", "hold-ends", "holds", "rdn", "name", "parent"}

// surveyed loads what precedence needs, and more columns, and surveys it.
func (e *Engagement) surveyed(how func(*estate.Estate, func(*estate.Authority) estate.Dialect, []govern.TierRule) *govern.Survey, more ...string) (*govern.Survey, error) {
	all, err := e.Estate(append(slices.Clone(governing), more...)...)
	if err != nil {
		return nil, err
	}
	if len(all.Authorities) == 0 && len(all.Templates) == 0 {
		return nil, fmt.Errorf("%s: %w", e.Dir, ErrNoEvidence)
	}
	return how(all, e.Config.dialect, e.Config.tierRules()), nil
}

// Survey resolves every account of the current evidence.
func (e *Engagement) Survey() (*govern.Survey, error) { return e.surveyed(govern.NewSurvey) }

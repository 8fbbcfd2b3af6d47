package assess

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/rehearse"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// RehearseOptions say whose lockout is played against, and what is played.
type RehearseOptions struct {
	Scope     string // name
	Account   string // instead of a scope
	Authority string // in which the account is looked for
	Timeline  string // file; empty: a series
	Tries     int64  // of the series: so many at once,
	Every     string // every so often,
	For       string // for so long
}

// Rehearsal is what came of playing sign-ins.
type Rehearsal struct {
	Who      string
	Scope    *govern.Scope
	Lockout  forecast.Lockout
	Settings map[setting.ID]govern.Effective
	Events   []rehearse.Event
	Asides   []string // what it means that a word of the timeline was played
	Notes    []string
}

var lockoutIDs = []setting.ID{setting.LockoutThreshold, setting.LockoutWindow, setting.LockoutDuration}

// Rehearse plays sign-ins against a scope's or account's lockout.
func Rehearse(e *custody.Engagement, opt RehearseOptions) (*Rehearsal, error) {
	tries, err := opt.signIns()
	if err != nil {
		return nil, err
	}
	r := &Rehearsal{}
	var s *govern.Survey
	if opt.Account != "" {
		var p place
		if s, p, err = account(e, opt.Account, opt.Authority); err != nil {
			return nil, err
		}
		r.Who = s.Estate.Authorities[p.authority].Objects.Name.At(p.row)
		r.Scope, _, r.Settings = effectiveFor(s, p)
	} else {
		if s, err = e.Survey(); err != nil {
			return nil, err
		}
		var names []string
		for _, scope := range s.Scopes {
			names = append(names, scope.Name())
		}
		i := slices.Index(names, opt.Scope)
		if i < 0 {
			return nil, fmt.Errorf("--scope %q: there is none; %s", opt.Scope, strictyaml.Hint(opt.Scope, names))
		}
		r.Scope, r.Settings = s.Scopes[i], s.Scopes[i].Settings
		r.Who = r.Scope.Name()
	}
	r.Lockout = forecast.LockoutOf(r.Scope.Counter(), func(id setting.ID) setting.Value {
		if x := r.Settings[id]; x.Missing == govern.Present {
			return x.Value
		}
		return setting.Value{}
	})
	if !r.Lockout.Known {
		return nil, fmt.Errorf("the lockout of %s is not known: %s", r.Who, r.missing())
	}
	r.Events = rehearse.Play(r.Lockout, tries)
	if slices.ContainsFunc(tries, func(t rehearse.SignIn) bool { return t.With == rehearse.Old }) {
		if r.Lockout.SparesOld {
			r.Asides = append(r.Asides,
				"old is the password of two changes ago; the one of the last change still signs in for a while (an hour, unless set otherwise)")
		} else {
			r.Asides = append(r.Asides, "an old password counts like a wrong one here: the place keeps no former ones, or does not look at them")
		}
	}
	if r.Lockout.KeepsOn && !r.Lockout.Never {
		r.Asides = append(r.Asides, "a success clears nothing here: failures count until they are forgotten")
	}
	r.note(s)
	return r, nil
}

// missing says what the evidence lacks.
func (r *Rehearsal) missing() string {
	for _, id := range lockoutIDs {
		if x := r.Settings[id]; x.Missing != govern.Present {
			return string(id) + ": " + string(x.Missing)
		}
	}
	return "its values do not make a lockout"
}

// note marks where evidence disagrees about the lockout: a domain and its
// template, a tenant and the domain of its accounts, the doors of a machine.
func (r *Rehearsal) note(s *govern.Survey) {
	i := slices.Index(s.Estate.Authorities, r.Scope.Authority)
	if i < 0 {
		return
	}
	for _, m := range r.Scope.Authority.Remarks {
		if m.Kind == estate.DoorsDiffer {
			r.Notes = append(r.Notes, fmt.Sprintf("%s (%s). The weakest was played.", m.Text, m.Cites[0]))
		}
	}
	var cloud map[setting.ID]govern.Effective
	if r.Scope.Elsewhere != nil {
		cloud = s.OwnSettings(i)
	}
	var configured map[setting.ID]*govern.ConfiguredValue
	if r.Scope.Authority.Kind == estate.Domain && r.Scope.Policy == r.Scope.Authority.Head {
		configured = govern.Configured(s.Templates[i].Root())
	}
	for _, id := range lockoutIDs {
		own, row := r.Settings[id], setting.Get(id)
		if own.Missing != govern.Present {
			continue
		}
		if c := configured[id]; c != nil && c.Problem == "" && c.Value.IsSet() && c.Value != own.Value {
			r.Notes = append(r.Notes, fmt.Sprintf("%s: the domain enforces %s (%s), and %s configures %s (%s). What is enforced was played.",
				id, row.Text(own.Value), own.Cite, c.By.Name(), row.Text(c.Value), c.Cite))
		}
		if c := r.Scope.Home[id]; r.Scope.Way == estate.PasswordHash && c.Missing == govern.Present && c.Value.IsSet() && c.Value != own.Value {
			r.Notes = append(r.Notes,
				fmt.Sprintf("%s: at the door of %s, whose accounts these are, it is %s (%s); %s checks a copy of the hash by itself, and "+
					"has %s (%s). The tenant's door was played.",
					id, r.Scope.Elsewhere.Name, row.Text(c.Value), c.Cite, r.Scope.Authority.Name, row.Text(own.Value), own.Cite))
		} else if c := cloud[id]; c.Missing == govern.Present && c.Value.IsSet() && c.Value != own.Value {
			r.Notes = append(r.Notes, fmt.Sprintf("%s: %s has %s (%s), and %s, whose accounts these are, %s (%s). The domain's was played.",
				id, r.Scope.Authority.Name, row.Text(c.Value), c.Cite, r.Scope.Elsewhere.Name, row.Text(own.Value), own.Cite))
		}
	}
}

// signIns reads the timeline, or makes the series.
func (o *RehearseOptions) signIns() ([]rehearse.SignIn, error) {
	if o.Timeline != "" {
		info, err := os.Stat(o.Timeline)
		if err == nil && info.Size() > 64<<20 {
			err = errors.New("more than 64 MiB; expected a timeline")
		}
		if err != nil {
			return nil, fmt.Errorf("--timeline %s: %w", o.Timeline, custody.Cause(err))
		}
		data, err := os.ReadFile(o.Timeline)
		if err != nil {
			return nil, fmt.Errorf("--timeline %s: %w", o.Timeline, custody.Cause(err))
		}
		return rehearse.Timeline(filepath.Base(o.Timeline), string(data))
	}
	seconds := func(flag, text string) (int64, error) {
		v, err := setting.Get(setting.LockoutWindow).Parse(text)
		n, ok := v.Number()
		if err != nil || !ok {
			return 0, fmt.Errorf("--%s %q: expected a time with its unit, such as 10m", flag, text)
		}
		return n, nil
	}
	every, err := seconds("every", o.Every)
	if err != nil {
		return nil, err
	}
	during, err := seconds("for", o.For)
	if err != nil {
		return nil, err
	}
	all, err := rehearse.Series(o.Tries, every, during)
	if err != nil {
		return nil, fmt.Errorf("--tries %d --every %s --for %s: %w", o.Tries, o.Every, o.For, err)
	}
	return all, nil
}

// Document describes the rehearsal.
func (r *Rehearsal) Document() contract.RehearseDocument {
	d := contract.RehearseDocument{Schema: "sternledger/rehearse/1", Scope: r.Scope.Name(), Counting: r.Lockout.Counting.String(),
		Settings: map[string]*contract.SettingDocument{}, Events: []contract.EventDocument{},
		Notes: append(append([]string{}, r.Notes...), r.Asides...)}
	if r.Who != d.Scope {
		d.Account = r.Who
	}
	for _, id := range lockoutIDs {
		if x := r.Settings[id]; x.Missing == govern.Present {
			d.Settings[string(id)] = contract.NewSettingDocument(id, x)
		}
	}
	for _, ev := range r.Events {
		d.Events = append(d.Events, contract.EventDocument{Seconds: ev.Seconds, Event: ev.Kind, Count: ev.Count})
	}
	sum := rehearse.Summed(r.Events)
	d.Summary = contract.RehearseSummaryDocument{Failures: sum.Failures, Successes: sum.Successes, Refused: sum.Refused, Locks: sum.Locks}
	if sum.FirstLock >= 0 {
		d.Summary.FirstLock = &sum.FirstLock
	}
	return d
}

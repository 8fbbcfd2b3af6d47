package custody

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// WaiveOptions say what is accepted.
type WaiveOptions struct {
	Fingerprints []string
	Setting      string // with Scope, instead of fingerprints
	Scope        string // name, or pattern
	Matter       string // name or fingerprint, instead of both
	Place        string // name, or pattern: of a matter, only there
	Value        string // of a matter, only the row that has it, or that has this fingerprint
	Until        string // the last day
	Reason       string
}

// waiveEntry is the ledger's entry of a waiver.
type waiveEntry struct {
	Weighing int64           `json:"weighing"` // in which the findings stood
	Until    string          `json:"until"`
	Reason   string          `json:"reason"`
	Findings []waivedFinding `json:"findings"`
}

type waivedFinding struct {
	Fingerprint string        `json:"fingerprint"`
	Steady      string        `json:"steady,omitempty"`
	Scope       string        `json:"scope"`
	Check       string        `json:"check"`
	Setting     setting.ID    `json:"setting"`
	Verdict     check.Kind    `json:"verdict"`
	Severity    string        `json:"severity"`
	Valued      bool          `json:"valued,omitempty"` // the severity follows from what mending it is worth
	Observed    string        `json:"observed"`
	Value       setting.Value `json:"value"`
	Accounts    *int          `json:"accounts"`
}

// withdrawEntry is the ledger's entry of the end of waivers.
type withdrawEntry struct {
	Entry        int64    `json:"waiver"` // the entry that recorded them
	Fingerprints []string `json:"fingerprints"`
	Reason       string   `json:"reason"`
}

// Mended is a waiver that a weighing found nothing for any more. What comes back later was
// never accepted as coming back.
type Mended struct {
	Entry       int64  `json:"entry"` // of the waiver
	Fingerprint string `json:"fingerprint"`
}

// Waived is what was recorded.
type Waived struct {
	Entry    int64
	Waivers  []check.Waiver
	Withdrew bool
}

// Waive records that findings of the newest weighing are accepted until a day.
func (e *Engagement) Waive(opt WaiveOptions) (*Waived, error) {
	if strings.TrimSpace(opt.Reason) == "" {
		return nil, fmt.Errorf("a waiver without a reason is refused; say why it is accepted, and who decided it, with --reason")
	}
	if opt.Until == "" {
		return nil, fmt.Errorf("a waiver without an end is refused; say until when with --until DATE, such as --until %s",
			e.Now().UTC().AddDate(0, 6, 0).Format(time.DateOnly))
	}
	until, err := time.Parse(time.DateOnly, opt.Until)
	if err != nil {
		return nil, fmt.Errorf("--until %q: expected a day such as %s", opt.Until, e.Now().UTC().AddDate(0, 6, 0).Format(time.DateOnly))
	}
	if over(until, e.Now()) {
		return nil, fmt.Errorf("--until %s is past; expected a day in the future", opt.Until)
	}
	if last, rule := e.Config.LongestWaiver(e.Now()); until.After(last) {
		return nil, fmt.Errorf("--until %s is more than %s away; the last day that a waiver may have is %s (waivers: longest in %s says so)", opt.Until,
			rule, last.Format(time.DateOnly), ConfigName)
	}
	w, err := e.recallNewest()
	if err != nil {
		return nil, err
	}
	if opt.Matter != "" && record.IsName(opt.Matter) {
		// Names are of one record, and nobody knows which one was looked at.
		if newer, err := e.sinceGathered(w); err != nil || newer != "" {
			return nil, cmp.Or(err, fmt.Errorf("--matter %s: %s since weighing %d, and names belong to one record: weigh again, and take the name "+
				"from there, or use the fingerprint", opt.Matter, newer, w.Number))
		}
	}
	found, err := w.pick(opt)
	if err != nil {
		return nil, err
	}
	body := waiveEntry{Weighing: w.Number, Until: opt.Until, Reason: opt.Reason}
	for _, f := range found {
		x := waivedFinding{Fingerprint: f.Fingerprint, Steady: check.Steady(f), Scope: f.ScopeName(), Check: f.Check, Verdict: f.Kind, Severity: string(f.Severity),
			Valued: f.Worth != nil, Observed: f.Observed}
		if f.Kind == check.Waived {
			x.Verdict = f.Beneath
		}
		if f.Check == "" {
			x.Setting, x.Value = f.Settings[0], f.Scope.Settings[f.Settings[0]].Value
		} else {
			x.Accounts = f.Accounts
		}
		body.Findings = append(body.Findings, x)
	}
	if err := e.record(WaiveKind, body); err != nil {
		return nil, err
	}
	return e.lastWaived()
}

// pick returns the findings that the options mean.
func (w *Weighing) pick(opt WaiveOptions) ([]*check.Finding, error) {
	var found []*check.Finding
	if len(opt.Fingerprints) > 0 {
		var known []string
		for i := range w.Findings {
			known = append(known, w.Findings[i].Fingerprint)
		}
		for _, p := range opt.Fingerprints {
			i := slices.Index(known, p)
			if i < 0 {
				return nil, fmt.Errorf("no finding %q in weighing %d; %s", p, w.Number, strictyaml.Hint(p, known))
			}
			found = append(found, &w.Findings[i])
		}
		return found, nil
	}
	if opt.Matter != "" {
		return w.inMatter(opt)
	}
	filter := WeighFilter{Setting: opt.Setting, Scope: opt.Scope}
	if err := filter.Check(w); err != nil {
		return nil, err
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if f.Check == "" && string(f.Settings[0]) == opt.Setting && filter.InScope(f.ScopeName()) {
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("weighing %d has no finding on %s in %s; what a check found is waived by its fingerprint", w.Number,
			opt.Setting, opt.Scope)
	}
	return found, nil
}

// inMatter returns the findings of a matter, or those of them in some places.
func (w *Weighing) inMatter(opt WaiveOptions) ([]*check.Finding, error) {
	filter := WeighFilter{Place: opt.Place}
	if err := filter.Check(w); err != nil {
		return nil, err
	}
	m, err := w.Matter(opt.Matter)
	if err != nil {
		return nil, err
	}
	all := m.Findings
	if opt.Value != "" {
		if all, err = valued(m, opt.Value); err != nil {
			return nil, err
		}
	}
	var found []*check.Finding
	for _, f := range all {
		if filter.inPlace(f.Authority.Label()) {
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s is in no place like %q; \"sternledger weigh --matter %s\" lists where it is", m.Name, opt.Place, m.Name)
	}
	return found, nil
}

// valued returns the findings of the rows of a matter that have a value.
func valued(m *record.Matter, value string) (found []*check.Finding, err error) {
	var known []string
	for _, r := range m.Rows {
		name := m.Value(r)
		known = append(known, name)
		if strings.EqualFold(name, value) || r.Fingerprint == value {
			found = append(found, r.Findings...)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("--value %q: no row of %s has it; %s; \"sternledger weigh --matter %s\" lists them", value, m.Name,
			strictyaml.Hint(value, known), m.Name)
	}
	return found, nil
}

// sinceGathered says what was gathered since a record was made; empty: nothing.
func (e *Engagement) sinceGathered(w *Weighing) (string, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return "", err
	}
	told, err := w.Told(e)
	if err != nil {
		return "", err
	}
	for i := range entries {
		if entries[i].Kind == GatherKind && entries[i].Seq > told.Inputs.Seen {
			return fmt.Sprintf("entry %d gathered more", entries[i].Seq), nil
		}
	}
	return "", nil
}

// Withdraw ends waivers before their day: all of an entry, or one by its
// fingerprint.
func (e *Engagement) Withdraw(what, reason string) (*Waived, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("say why it is withdrawn with --reason")
	}
	all, err := e.WaiversAt(e.Now())
	if err != nil {
		return nil, err
	}
	var body withdrawEntry
	for _, w := range all {
		if w.Withdrawn || w.Fingerprint != what && fmt.Sprint(w.Entry) != what {
			continue
		}
		if body.Entry != 0 && body.Entry != w.Entry { // several entries on one finding: the newest
			body.Fingerprints = nil
		}
		body.Entry = w.Entry
		body.Fingerprints = append(body.Fingerprints, w.Fingerprint)
	}
	if body.Entry == 0 {
		return nil, fmt.Errorf("no waiver %q to withdraw; \"sternledger waive --list\" shows them with their entries", what)
	}
	body.Reason = reason
	if err := e.record(WithdrawKind, body); err != nil {
		return nil, err
	}
	out, err := e.lastWaived()
	if err == nil {
		out.Withdrew = true
		if out.Waivers, err = e.WaiversAt(e.Now()); err == nil {
			out.Waivers = slices.DeleteFunc(out.Waivers, func(w check.Waiver) bool {
				return w.Entry != body.Entry || !slices.Contains(body.Fingerprints, w.Fingerprint)
			})
		}
	}
	return out, err
}

// lastWaived is the newest entry with its waivers.
func (e *Engagement) lastWaived() (*Waived, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return nil, err
	}
	out := &Waived{Entry: entries[len(entries)-1].Seq}
	all, err := e.WaiversAt(e.Now())
	for _, w := range all {
		if w.Entry == out.Entry {
			out.Waivers = append(out.Waivers, w)
		}
	}
	return out, err
}

// over reports whether a last day is past.
func over(until, now time.Time) bool { return !now.UTC().Before(until.AddDate(0, 0, 1)) }

// waivers reads what was ever waived, and what of it is over by then.
func (e *Engagement) WaiversAt(now time.Time) ([]check.Waiver, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return nil, err
	}
	var all []check.Waiver
	for _, entry := range entries {
		damaged := func(err error) error {
			return fmt.Errorf("entry %d of the ledger: %w; run \"sternledger verify\"", entry.Seq, err)
		}
		switch entry.Kind {
		case WaiveKind:
			var body waiveEntry
			if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
				return nil, damaged(err)
			}
			until, err := time.Parse(time.DateOnly, body.Until)
			if err != nil {
				return nil, damaged(err)
			}
			for _, f := range body.Findings {
				all = append(all, check.Waiver{Entry: entry.Seq, At: entry.At, By: entry.Actor, Fingerprint: f.Fingerprint, Steady: f.Steady, Scope: f.Scope,
					Check: f.Check, Setting: f.Setting, Kind: f.Verdict,
					Severity: baseline.Severity(f.Severity), Valued: f.Valued, Observed: f.Observed, Value: f.Value, Accounts: f.Accounts, Until: body.Until,
					Reason: body.Reason, Over: over(until, now)})
			}
		case WeighKind:
			var body WeighEntry
			if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
				return nil, damaged(err)
			}
			for i := range all {
				if slices.Contains(body.Mended, Mended{all[i].Entry, all[i].Fingerprint}) && all[i].Mended == 0 {
					all[i].Mended = body.Weighing
				}
			}
		case WithdrawKind:
			var body withdrawEntry
			if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
				return nil, damaged(err)
			}
			for i := range all {
				if all[i].Entry == body.Entry && slices.Contains(body.Fingerprints, all[i].Fingerprint) {
					all[i].Withdrawn, all[i].Why = true, fmt.Sprintf("by entry %d: %s", entry.Seq, body.Reason)
				}
			}
		}
	}
	return all, nil
}

// Waivers lists what was ever waived with its state: against the newest
// weighing's evidence, as of now.
func (e *Engagement) Waivers() ([]check.Waiver, error) {
	all, err := e.WaiversAt(e.Now())
	if err != nil || len(all) == 0 {
		return all, err
	}
	w, err := e.recallNewest()
	if err != nil {
		return nil, err
	}
	bare := *w.Result
	bare.Findings = slices.Clone(w.Findings)
	for i := range bare.Findings {
		if f := &bare.Findings[i]; f.Kind == check.Waived {
			f.Kind = f.Beneath
		}
	}
	bare.Verdicts = nil
	bare.Waive(all)
	return bare.Waivers, nil
}

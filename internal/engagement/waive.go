package engagement

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/core/weigh"
)

// WaiveOptions say what is accepted.
type WaiveOptions struct {
	Fingerprints []string
	Setting      string // with Scope, instead of fingerprints
	Scope        string // name, or pattern
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
	Scope       string        `json:"scope"`
	Check       string        `json:"check"`
	Setting     setting.ID    `json:"setting"`
	Verdict     weigh.Kind    `json:"verdict"`
	Severity    string        `json:"severity"`
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

// Waived is what was recorded.
type Waived struct {
	Entry    int64
	Waivers  []weigh.Waiver
	Withdrew bool
}

// Waive records that findings of the newest weighing are accepted until a day.
func (e *Engagement) Waive(opt WaiveOptions) (*Waived, error) {
	if strings.TrimSpace(opt.Reason) == "" {
		return nil, fmt.Errorf("a waiver without a reason is refused; say why it is accepted, and who decided it, with --reason")
	}
	if opt.Until == "" {
		return nil, fmt.Errorf("a waiver without an end is refused; say until when with --until DATE, such as --until %s", e.Now().UTC().AddDate(0, 6, 0).Format(time.DateOnly))
	}
	until, err := time.Parse(time.DateOnly, opt.Until)
	if err != nil {
		return nil, fmt.Errorf("--until %q: expected a day such as %s", opt.Until, e.Now().UTC().AddDate(0, 6, 0).Format(time.DateOnly))
	}
	if over(until, e.Now()) {
		return nil, fmt.Errorf("--until %s is past; expected a day to come", opt.Until)
	}
	w, err := e.recallNewest()
	if err != nil {
		return nil, err
	}
	found, err := w.pick(opt)
	if err != nil {
		return nil, err
	}
	body := waiveEntry{Weighing: w.Number, Until: opt.Until, Reason: opt.Reason}
	for _, f := range found {
		x := waivedFinding{Fingerprint: f.Fingerprint, Scope: f.ScopeName(), Check: f.Check, Verdict: f.Kind, Severity: string(f.Severity), Observed: f.Observed}
		if f.Kind == weigh.Waived {
			x.Verdict = f.Beneath
		}
		if f.Check == "" {
			x.Setting, x.Value = f.Settings[0], f.Scope.Settings[f.Settings[0]].Value
		} else {
			x.Accounts = f.Accounts
		}
		body.Findings = append(body.Findings, x)
	}
	if err := e.record(waiveKind, body); err != nil {
		return nil, err
	}
	return e.lastWaived()
}

// pick returns the findings that the options mean.
func (w *Weighing) pick(opt WaiveOptions) ([]*weigh.Finding, error) {
	var found []*weigh.Finding
	if len(opt.Fingerprints) > 0 {
		var known []string
		for i := range w.Findings {
			known = append(known, w.Findings[i].Fingerprint)
		}
		for _, p := range opt.Fingerprints {
			i := slices.Index(known, p)
			if i < 0 {
				return nil, fmt.Errorf("no finding %q in weighing %d; the nearest is %q", p, w.Number, strictyaml.Nearest(p, known))
			}
			found = append(found, &w.Findings[i])
		}
		return found, nil
	}
	filter := WeighFilter{Setting: opt.Setting, Scope: opt.Scope}
	if err := filter.Check(w); err != nil {
		return nil, err
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if f.Check == "" && string(f.Settings[0]) == opt.Setting && filter.inScope(f.ScopeName()) {
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("weighing %d has no finding on %s in %s; what a check found is waived by its fingerprint", w.Number, opt.Setting, opt.Scope)
	}
	return found, nil
}

// Withdraw ends waivers before their day: all of an entry, or one by its
// fingerprint.
func (e *Engagement) Withdraw(what, reason string) (*Waived, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("say why it is withdrawn with --reason")
	}
	all, err := e.waivers(e.Now())
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
	if err := e.record(withdrawKind, body); err != nil {
		return nil, err
	}
	out, err := e.lastWaived()
	if err == nil {
		out.Withdrew = true
		if out.Waivers, err = e.waivers(e.Now()); err == nil {
			out.Waivers = slices.DeleteFunc(out.Waivers, func(w weigh.Waiver) bool {
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
	all, err := e.waivers(e.Now())
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
func (e *Engagement) waivers(now time.Time) ([]weigh.Waiver, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return nil, err
	}
	var all []weigh.Waiver
	for _, entry := range entries {
		damaged := func(err error) error {
			return fmt.Errorf("entry %d of the ledger: %w; run \"sternledger verify\"", entry.Seq, err)
		}
		switch entry.Kind {
		case waiveKind:
			var body waiveEntry
			if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
				return nil, damaged(err)
			}
			until, err := time.Parse(time.DateOnly, body.Until)
			if err != nil {
				return nil, damaged(err)
			}
			for _, f := range body.Findings {
				all = append(all, weigh.Waiver{Entry: entry.Seq, At: entry.At, By: entry.Actor, Fingerprint: f.Fingerprint, Scope: f.Scope, Check: f.Check, Setting: f.Setting, Kind: f.Verdict,
					Severity: baseline.Severity(f.Severity), Observed: f.Observed, Value: f.Value, Accounts: f.Accounts, Until: body.Until, Reason: body.Reason, Over: over(until, now)})
			}
		case withdrawKind:
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
func (e *Engagement) Waivers() ([]weigh.Waiver, error) {
	all, err := e.waivers(e.Now())
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
		if f := &bare.Findings[i]; f.Kind == weigh.Waived {
			f.Kind = f.Beneath
		}
	}
	bare.Verdicts = nil
	bare.Waive(all)
	return bare.Waivers, nil
}

// WaiversDocument is the output of waive.
type WaiversDocument struct {
	Schema  string           `json:"schema"`
	Entry   int64            `json:"entry"` // that recorded it; 0: a list
	Waivers []WaiverDocument `json:"waivers"`
}

// WaiverDocument is one accepted finding.
type WaiverDocument struct {
	Entry       int64             `json:"entry"`
	At          string            `json:"at"`
	By          string            `json:"by"`
	Fingerprint string            `json:"fingerprint"`
	Scope       string            `json:"scope"`
	Check       string            `json:"check"`
	Setting     setting.ID        `json:"setting"`
	Verdict     weigh.Kind        `json:"verdict"`
	Observed    string            `json:"observed"`
	Accounts    *int              `json:"accounts"`
	Until       string            `json:"until"`
	Reason      string            `json:"reason"`
	State       weigh.WaiverState `json:"state"`
	Why         string            `json:"why"` // it does not hold
}

func waiverDocuments(all []weigh.Waiver) []WaiverDocument {
	docs := []WaiverDocument{}
	for _, w := range all {
		docs = append(docs, WaiverDocument{w.Entry, w.At, w.By, w.Fingerprint, w.Scope, w.Check, w.Setting, w.Kind, w.Observed, w.Accounts, w.Until, w.Reason, w.State, w.Why})
	}
	return docs
}

// NewWaiversDocument describes waivers.
func NewWaiversDocument(entry int64, all []weigh.Waiver) WaiversDocument {
	return WaiversDocument{"sternledger/waive/1", entry, waiverDocuments(all)}
}

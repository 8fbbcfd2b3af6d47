package custody

import (
	"encoding/json"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/ledger"
)

// Version is the program's; CHANGELOG.md tells what is in it.
const Version = "0.5.0"

// ThisProgram names this one, with its commit where the build knows it.
func ThisProgram() record.Program {
	p := record.Program{Version: Version}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				p.Commit = s.Value
			case s.Key == "vcs.modified" && s.Value == "true":
				p.Modified = true
			}
		}
	}
	return p
}

// Current is the evidence that facts came from: an export that a newer one took the place
// of is no change when it leaves.
func (e *Engagement) Current(facts *estate.Estate) ([]ledger.Evidence, error) {
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	current := map[string]bool{}
	for _, a := range facts.Authorities {
		for _, f := range a.Files {
			current[f] = true
		}
	}
	for _, t := range facts.Templates {
		current[t.Policy.Cite.File] = true // facts of earlier versions tell no files
		for _, f := range t.Files {
			current[f] = true
		}
	}
	return slices.DeleteFunc(evidence, func(x ledger.Evidence) bool { return !current[x.Name] }), nil
}

// age says of which days the evidence is that facts came from.
func (e *Engagement) age(facts *estate.Estate) (string, error) {
	evidence, err := e.Current(facts)
	return record.Age(func(yield func(string) bool) {
		for _, x := range evidence {
			if !yield(day(x.Written)) {
				return
			}
		}
	}), err
}

// day is that of a time (RFC 3339); empty of what is none.
func day(at string) string {
	if _, err := time.Parse(time.RFC3339, at); err != nil {
		return ""
	}
	return at[:len(time.DateOnly)]
}

// From notes what evidence the facts of a weighing came from.
func (w *Weighing) From(evidence []ledger.Evidence) {
	w.Files, w.Written = map[string]string{}, map[string]string{}
	for _, x := range evidence {
		w.Files[x.Name], w.Written[x.Name] = x.SHA256, day(x.Written)
	}
}

// Objects loads columns of the objects of a weighing that was read back, from the
// facts of its time; of one just made they are there.
func (w *Weighing) Objects(columns ...string) error {
	if w.Past == nil {
		return nil
	}
	aside, err := w.Past.Aside()
	if err != nil {
		return err
	}
	holdings, err := w.Past.Ledger.Current(aside)
	if err != nil {
		return err
	}
	ids := map[string]int64{}
	for _, h := range holdings {
		ids[h.Subject] = h.ID
	}
	objects := map[int64]*estate.Objects{}
	for _, a := range w.Places {
		if id, ok := ids[SubjectOf(a.Place())]; ok {
			a.Objects = &estate.Objects{}
			objects[id] = a.Objects
		}
	}
	return w.Past.Ledger.Load(objects, columns...)
}

// Told is the entry of a weighing that was read back.
func (w *Weighing) Told(e *Engagement) (*WeighEntry, error) {
	if w.told != nil {
		return w.told, nil
	}
	r, err := e.Recorded(w.Number)
	if err != nil {
		return nil, err
	}
	return r.Told, nil
}

// fromDocument makes a record of a weighing of versions before records. They kept
// what was shown, and what it was made of: the verdicts and findings are theirs;
// places and scopes are worked out again.
func (r *recordedWeighing) fromDocument() (*Weighing, error) {
	var doc contract.WeighDocument
	if err := json.Unmarshal([]byte(r.row.Document), &doc); err != nil {
		return nil, err
	}
	w, err := r.again(true)
	if err != nil {
		return nil, err
	}
	w.Program = record.Program{Version: r.Told.Inputs.Program}
	w.Past = r.past
	o := older{w: w, scopes: map[string]*govern.Scope{}, told: map[string]*contract.ScopeCountDocument{}}
	for _, s := range w.Scopes {
		o.scopes[s.Name()] = s
	}
	w.Scopes = nil // what this program makes of the accounts is not what was recorded
	for i := range doc.Scopes {
		o.told[doc.Scopes[i].Scope] = &doc.Scopes[i]
		w.Scopes = append(w.Scopes, o.scope(doc.Scopes[i].Scope))
	}
	o.WaiversAt(doc.Waivers)
	w.Verdicts = nil
	for i := range doc.Verdicts {
		w.Verdicts = append(w.Verdicts, o.verdict(&doc.Verdicts[i]))
	}
	aliases := map[string]string{}
	for i := range w.Findings {
		aliases[w.Findings[i].Fingerprint] = w.Findings[i].Alias
	}
	w.Findings = nil
	for i := range doc.Findings {
		f := o.finding(&doc.Findings[i])
		f.Alias = aliases[f.Fingerprint]
		w.Findings = append(w.Findings, f)
	}
	w.Survey = nil
	return w, nil
}

// older turns a document's words back into what they meant.
type older struct {
	w      *Weighing
	scopes map[string]*govern.Scope
	told   map[string]*contract.ScopeCountDocument
}

// scope finds a scope by its name. One that this program does not see any more gets
// a stand-in, with that name.
func (o *older) scope(name string) *govern.Scope {
	if s := o.scopes[name]; s != nil {
		return s
	}
	a, rest := o.place(name), name
	if label := a.Label() + " / "; strings.HasPrefix(name, label) {
		rest = strings.TrimPrefix(name, label)
	}
	s := &govern.Scope{Authority: a, Tier: govern.Standard, Settings: map[setting.ID]govern.Effective{}}
	if told := o.told[name]; told != nil {
		s.Tier = told.Tier
		if told.Accounts != nil {
			s.Accounts = *told.Accounts
		}
	}
	if policy, split := strings.CutSuffix(rest, " / "+s.Tier); split {
		rest, s.Split = policy, true
	}
	if s.Rule, s.Policy = govern.Default, a.Head; a.Head == nil || s.PolicyName() != rest {
		s.Rule, s.Policy = govern.Group, &estate.Policy{Name: rest, Platform: a.Platform}
	}
	o.scopes[name] = s
	return s
}

// place finds the place of which a scope or finding is named, the longest name
// first.
func (o *older) place(name string) *estate.Authority {
	var best *estate.Authority
	for _, a := range o.w.Places {
		if (name == a.Label() || strings.HasPrefix(name, a.Label()+" / ")) && (best == nil || len(a.Label()) > len(best.Label())) {
			best = a
		}
	}
	if best == nil { // a place of which nothing was gathered
		best = &estate.Authority{Name: name, Objects: &estate.Objects{}}
		o.w.Places = append(o.w.Places, best)
	}
	return best
}

func (o *older) demand(id, ref string, on setting.ID, text string) (*baseline.Baseline, *baseline.Demand) {
	i := slices.IndexFunc(o.w.Baselines, func(b *baseline.Baseline) bool { return b.ID == id })
	if i < 0 {
		b := &baseline.Baseline{ID: id, Title: id}
		o.w.Baselines = append(o.w.Baselines, b)
		i = len(o.w.Baselines) - 1
	}
	b := o.w.Baselines[i]
	if s, ok := setting.Lookup(on); ok {
		text = s.Renamed(text)
	}
	var near *baseline.Demand
	for k := range b.Demands {
		d := &b.Demands[k]
		if d.Setting == on && d.Ref == ref {
			if near = d; d.Text() == text {
				break
			}
		}
	}
	if near == nil {
		near = &baseline.Demand{Condition: baseline.Condition{Setting: on, Kind: baseline.OneOf}, Ref: ref}
	}
	return b, near
}

func (o *older) verdict(d *contract.VerdictDocument) weigh.Verdict {
	b, demand := o.demand(d.Baseline, d.Ref, d.Setting, d.Demanded)
	return weigh.Verdict{Scope: o.scope(d.Scope), Baseline: b, Demand: demand, Kind: d.Verdict, Beneath: d.Beneath,
		Severity: d.Severity, Observed: d.Observed}
}

func (o *older) finding(d *contract.FindingDocument) check.Finding {
	f := check.Finding{Fingerprint: d.Fingerprint, Kind: d.Verdict, Beneath: d.Beneath, Check: d.Check, Severity: d.Severity,
		Accounts: d.Accounts, Examples: d.Examples, Settings: d.Settings,
		Observed: d.Observed, Demanded: d.Demanded, Reason: d.Reason, Remedy: d.Remedy}
	if f.Authority = o.place(d.Scope); d.Scope != f.Authority.Label() {
		f.Scope = o.scope(d.Scope)
		f.Authority = f.Scope.Authority
	}
	for _, c := range d.Evidence {
		f.Evidence = append(f.Evidence, estate.Cite(c))
	}
	for _, b := range d.Baselines {
		f.Baselines = append(f.Baselines, check.Source(b))
	}
	for i := range o.w.Waivers {
		if x := &o.w.Waivers[i]; d.Waiver != 0 && x.Entry == d.Waiver && (x.Fingerprint == d.Fingerprint || x.Scope == d.Scope &&
			x.Check == d.Check && (d.Check != "" || slices.Contains(d.Settings, x.Setting))) {
			f.Waiver = x
		}
	}
	if f.Kind == check.Waived && f.Waiver == nil {
		o.w.Waivers = append(slices.Clip(o.w.Waivers), check.Waiver{Entry: d.Waiver, Fingerprint: d.Fingerprint, Scope: d.Scope,
			State: check.InForce})
		f.Waiver = &o.w.Waivers[len(o.w.Waivers)-1]
	}
	return f
}

// waivers gives the waivers of the time the states that they had.
func (o *older) WaiversAt(docs []contract.WaiverDocument) {
	for i := range o.w.Waivers {
		x := &o.w.Waivers[i]
		for _, d := range docs {
			if d.Entry == x.Entry && d.Fingerprint == x.Fingerprint {
				x.State, x.Why = d.State, d.Why
			}
		}
	}
}

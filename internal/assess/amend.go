package assess

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/core/weigh"
	"sternledger/internal/custody"
)

// AmendOptions pick amendments of a plan.
type AmendOptions struct {
	Pick, Except []string // names or fingerprints
	Scope        string   // of those that reach this scope, or one that fits the pattern
	For          string   // of those that this owner answers for
	Least        bool     // the fewest after which no grave finding is left that an amendment could end
	Until        float64  // the fewest after which a privileged account falls with no more than this chance; 0: not asked
}

// Amending is the plan of the newest record, and what the amendments that are picked
// would come to.
type Amending struct {
	Weighing *custody.Weighing
	Number   int64
	Plan     *amend.Plan
	Picked   []*amend.Amendment
	Whole    bool // all of the plan
	Settled  int
	Ends     []*check.Finding // those that are settled
	Brings   []check.Finding  // findings that appear
	Worse    []string         // verdicts that get worse, in words
	Graves   int              // grave findings that are left
	Touched  map[*amend.Amendment]*amend.Touched
	Played   *amend.Played // what comes of everybody with all that are picked and not held back
	Before   Burden
	After    Burden
	Exposed  *[2]exposure.Total // now, and with what is picked and not held back; nil: not known
	Steps    []amend.Step       // of what is picked
	Reached  float64            // with Until: the chance that it comes to
	Seal     string             // of the entry of that weighing
	trial    *trial
	people   *amend.Population
	all      *tried // with all amendments of the plan
}

// Burden is what settings cost the people who live under them, in a year.
type Burden struct {
	Changes float64 // forced changes of passwords
	Calls   float64 // to have accounts unlocked
}

// Amend plans what ends the findings of the newest record, and weighs the estate as
// it would be with the amendments.
func Amend(e *custody.Engagement, opt AmendOptions) (*Amending, error) {
	before, err := e.RecallLast()
	if err != nil {
		return nil, err
	}
	if before == nil {
		return nil, errors.New("no weighing is recorded so far; amendments are made from one: weigh first, with \"sternledger weigh\"")
	}
	w, err := weighing(e, custody.WeighOptions{})
	if err != nil {
		return nil, err
	}
	differs, err := reasons(e, before, w, custody.WeighOptions{})
	if err != nil {
		return nil, err
	}
	if len(differs) > 0 {
		return nil, fmt.Errorf("what is now is not what weighing %d found (%s): weigh again, with \"sternledger weigh\", so that amendments "+
			"are made from what is",
			before.Number, strings.Join(differs, "; "))
	}
	if err := complete(e, w); err != nil {
		return nil, err
	}
	w.Number, w.Past = before.Number, nil
	t := &trial{e: e, w: w}
	if t.choice, err = choiceOf(e, &custody.Weighing{Survey: w.Survey, Record: w.Record, Texts: map[string]string{}, At: w.At},
		custody.WeighOptions{}); err != nil {
		return nil, err
	}
	x := &Amending{Weighing: w, Number: before.Number, Plan: amend.New(w.Record, Writing, e.Config.OwnerOf), trial: t,
		people: amend.NewPopulation(w.Survey)}
	row, err := e.Ledger.Weighing(x.Number)
	if err != nil {
		return nil, err
	}
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, err
	}
	x.Seal = custody.SealOf(&entry)
	if err := x.effects(); err != nil {
		return nil, err
	}
	if err := x.pick(e, opt); err != nil {
		return nil, err
	}
	after := x.all
	if !x.Whole {
		x.people.Hold(x.Picked, w.At.Unix())
		if after, err = x.whole(x.Picked); err != nil {
			return nil, err
		}
	}
	ended, appeared := amend.Compare(w.Result, after.Result)
	x.Settled, x.Ends, x.Brings, x.Worse = len(ended), ended, appeared, amend.Texts(amend.Worse(w.Result, after.Result))
	for i := range after.Findings {
		if f := &after.Findings[i]; f.Kind != check.Waived && f.Severity == baseline.Grave {
			x.Graves++
		}
	}
	if now, _ := exposure.Sum(w.Population); now.Accounts > 0 {
		then, _ := exposure.Sum(after.Population)
		x.Exposed, x.Steps = &[2]exposure.Total{now, then}, amend.Staircase(w.Record, x.Picked, len(x.Picked))
	}
	x.Touched = map[*amend.Amendment]*amend.Touched{}
	for _, a := range x.Picked {
		x.Touched[a] = x.people.Touch(a, w.At.Unix())
	}
	x.Played = x.people.Play(x.Picked, w.At.Unix())
	if x.Before, err = burden(e, w.Survey); err == nil {
		x.After, err = burden(e, after.survey)
	}
	return x, err
}

// trial weighs the estate as it would be.
type trial struct {
	e      *custody.Engagement
	w      *custody.Weighing
	choice *weigh.Choice
}

type tried struct {
	*weigh.Result
	survey *govern.Survey
}

func (t *trial) with(all []*amend.Amendment) (*tried, error) {
	return t.on(amend.Apply(t.w.Survey.Estate, all))
}

func (t *trial) on(e *estate.Estate) (*tried, error) {
	survey := govern.NewSurvey(e, t.e.Config.Dialect, t.e.Config.TierRules())
	x := &tried{weigh.Run(survey, *t.choice), survey}
	waivers, err := t.e.WaiversAt(t.w.At)
	if err != nil {
		return nil, err
	}
	x.Waive(waivers)
	return x, nil
}

// mostWork is how many objects are looked at, over all amendments, to see what each of
// them does alone; a place takes as long as so many objects. Beyond it, what each
// settles is counted by its setting.
const (
	mostWork  = 5_000_000
	placeWork = 300
)

// effects finds what each amendment settles and brings, and what all of them leave.
func (x *Amending) effects() error {
	p, t := x.Plan, x.trial
	objects := 0
	for _, a := range t.w.Places {
		objects += a.Objects.Len() + placeWork
	}
	if p.Exact = objects*len(p.Amendments) <= mostWork; p.Exact {
		for _, a := range p.Amendments {
			after, err := t.with(a.WithFirst())
			if err != nil {
				return err
			}
			ended, appeared := amend.Compare(t.w.Result, after.Result)
			a.Seen(ended, appeared, amend.Worse(t.w.Result, after.Result))
		}
		p.Part()
		if err := x.idle(); err != nil {
			return err
		}
	}
	x.people.Hold(p.Amendments, t.w.At.Unix())
	var err error
	if x.all, err = x.whole(p.Amendments); err != nil {
		return err
	}
	if err := x.unharmed(); err != nil {
		return err
	}
	ended, appeared := amend.Compare(t.w.Result, x.all.Result)
	p.Seen(t.w.Result, ended, appeared)
	return nil
}

// idle takes out what settles nothing, alone or together with the others.
func (x *Amending) idle() error {
	p := x.Plan
	candidates := p.Idle()
	if len(candidates) == 0 {
		return nil
	}
	settled := func() (int, error) {
		after, err := x.trial.with(p.Amendments)
		if err != nil {
			return 0, err
		}
		ended, _ := amend.Compare(x.trial.w.Result, after.Result)
		return len(ended), nil
	}
	before, err := settled()
	if err != nil {
		return err
	}
	for _, a := range candidates {
		all := slices.Clone(p.Amendments)
		p.Drop(a)
		without, err := settled()
		if err != nil {
			return err
		}
		if without < before {
			p.Amendments, p.Out = all, p.Out[:len(p.Out)-1]
		}
	}
	return nil
}

// unharmed takes out of the plan what makes verdicts worse only together with others:
// of those that reach such a verdict's scope, the last without which it stays.
func (x *Amending) unharmed() error {
	p, before := x.Plan, x.trial.w.Result
	for worse := amend.Worse(before, x.all.Result); len(worse) > 0; {
		at, found := worse[0].Scope.ID(), false
		for i := len(p.Amendments) - 1; i >= 0 && !found; i-- {
			a := p.Amendments[i]
			if !slices.ContainsFunc(a.Scopes, func(s *govern.Scope) bool { return s.ID() == at }) {
				continue
			}
			needing := p.Needing(a)
			after, err := x.whole(slices.DeleteFunc(slices.Clone(p.Amendments), func(b *amend.Amendment) bool { return slices.Contains(needing, b) }))
			if err != nil {
				return err
			}
			if left := amend.Worse(before, after.Result); len(left) < len(worse) {
				a.Worse = append(a.Worse, worse[0].Text)
				p.Leave([]*amend.Amendment{a})
				worse, x.all, found = left, after, true
			}
		}
		if !found {
			return nil // it is told, and comes of no single one
		}
	}
	return nil
}

// whole weighs the estate with amendments, machines of Unix read again.
func (x *Amending) whole(all []*amend.Amendment) (*tried, error) {
	then := amend.Apply(x.Weighing.Survey.Estate, all)
	if err := x.reread(x.trial.e, then, all); err != nil {
		return nil, err
	}
	return x.trial.on(then)
}

// pick takes the amendments that the options name.
func (x *Amending) pick(e *custody.Engagement, opt AmendOptions) error {
	named := func(option string, names []string) ([]*amend.Amendment, error) {
		var all []*amend.Amendment
		for _, name := range names {
			a := x.Plan.Named(name)
			if i := slices.IndexFunc(x.Plan.Out, func(o amend.Out) bool { return strings.EqualFold(o.Name, name) || o.Fingerprint == name }); a == nil && i >= 0 {
				return nil, fmt.Errorf("--%s %s: %s was planned, and is left out: %s", option, name, x.Plan.Out[i].Name, x.Plan.Out[i].Why)
			}
			if a == nil {
				return nil, fmt.Errorf("--%s %q: no amendment of weighing %d is called that; \"sternledger amend --all\" lists them", option, name,
					x.Number)
			}
			if !slices.Contains(all, a) {
				all = append(all, a)
			}
		}
		return all, nil
	}
	picked, err := named("pick", opt.Pick)
	if err != nil {
		return err
	}
	if len(opt.Pick) == 0 {
		picked = slices.Clone(x.Plan.Amendments)
	}
	except, err := named("except", opt.Except)
	if err != nil {
		return err
	}
	if opt.Scope != "" {
		picked = slices.DeleteFunc(picked, func(a *amend.Amendment) bool {
			return !slices.ContainsFunc(a.Scopes, func(s *govern.Scope) bool { return custody.Fits(opt.Scope, s.Name()) })
		})
		if len(picked) == 0 {
			var names []string
			for _, s := range x.Weighing.Scopes {
				names = append(names, s.Name())
			}
			return fmt.Errorf("--scope %q: no amendment reaches it; %s", opt.Scope, strictyaml.Hint(opt.Scope, names))
		}
	}
	if opt.For != "" {
		if _, err := ownedBy(e, x.Weighing, opt.For); err != nil {
			return err
		}
		picked = slices.DeleteFunc(picked, func(a *amend.Amendment) bool {
			return !slices.ContainsFunc(a.Spots, func(s amend.Spot) bool { return strings.EqualFold(s.Owner, opt.For) })
		})
	}
	picked = slices.DeleteFunc(picked, func(a *amend.Amendment) bool { return slices.Contains(except, a) })
	if opt.Until > 0 {
		free := slices.DeleteFunc(slices.Clone(picked), func(a *amend.Amendment) bool { return len(a.Back()) > 0 })
		if picked, x.Reached = amend.Until(x.Weighing.Record, free, opt.Until); x.Reached > opt.Until {
			return fmt.Errorf("--until %v: with all %d amendments that are not held back and take something off, somebody gets in as a privileged "+
				"account with a chance of %.3f a year on average; expected no less than that", opt.Until, len(picked), x.Reached)
		} else if len(picked) == 0 {
			return fmt.Errorf("--until %v: it is %.3f now; nothing has to be changed for that", opt.Until, x.Reached)
		}
	}
	if opt.Least {
		if picked, err = x.least(picked); err != nil {
			return err
		}
	}
	for _, a := range picked {
		for _, f := range a.First {
			switch {
			case slices.Contains(picked, f):
			case len(opt.Pick) > 0 || slices.Contains(except, f):
				return fmt.Errorf("%s (%s of %s) does not hold without %s (%s of %s): pick %s too, or leave out both", a.Name, a.Title(),
					a.Spots[0].Policy(), f.Name, f.Title(), f.Spots[0].Policy(), f.Name)
			default:
				picked = append(picked, f)
			}
		}
	}
	x.Picked = nil
	for _, a := range x.Plan.Amendments { // in the plan's order
		if slices.Contains(picked, a) {
			x.Picked = append(x.Picked, a)
		}
	}
	x.Whole = len(x.Picked) == len(x.Plan.Amendments)
	return nil
}

// least leaves out, the least first, what is not needed for the grave findings that
// all of them end.
func (x *Amending) least(all []*amend.Amendment) ([]*amend.Amendment, error) {
	graves := func(list []*amend.Amendment) (map[string]bool, error) {
		after, err := x.trial.with(list)
		if err != nil {
			return nil, err
		}
		left := map[string]bool{}
		for i := range after.Findings {
			if f := &after.Findings[i]; f.Kind != check.Waived && f.Severity == baseline.Grave {
				left[f.Fingerprint] = true
			}
		}
		return left, nil
	}
	want, err := graves(all)
	if err != nil {
		return nil, err
	}
	// What settles no grave finding alone can only be needed together with others.
	list := slices.Clone(all)
	for i := len(list) - 1; i >= 0; i-- {
		a := list[i]
		if slices.ContainsFunc(list, func(b *amend.Amendment) bool { return slices.Contains(b.First, a) }) {
			continue
		}
		without := slices.Delete(slices.Clone(list), i, i+1)
		left, err := graves(without)
		if err != nil {
			return nil, err
		}
		same := len(left) == len(want)
		for f := range left {
			same = same && want[f]
		}
		if same {
			list = without
		}
	}
	return list, nil
}

// burden adds up what the settings of all scopes cost.
func burden(e *custody.Engagement, s *govern.Survey) (b Burden, err error) {
	f, err := forecasts(e, s, ForecastOptions{Assumptions: forecast.Usual})
	if errors.Is(err, errNoScopes) {
		return b, nil
	} else if err != nil {
		return b, err
	}
	for i := range f.Scopes {
		x := &f.Scopes[i]
		if x.Scope.Elsewhere != nil || x.Accounts == nil {
			continue
		}
		if c := x.Now.ChangesPerDay; c != nil {
			b.Changes += *c * forecast.Usual.WorkingDays
		}
		if c := x.Now.CallsPerYear; c != nil {
			b.Calls += *c
		}
	}
	return b, nil
}

// Document describes what was picked.
func (x *Amending) Document() contract.AmendDocument {
	d := contract.AmendDocument{Schema: "sternledger/amend/1", Weighing: x.Number, Seal: x.Seal, Findings: x.Plan.Findings,
		Settled: x.Settled, Ends: prints(x.Ends), Graves: x.Graves,
		Amendments: []contract.AmendmentDocument{}, Decisions: []contract.DecisionDocument{}, Evidence: []string{},
		Appear: []contract.FindingDocument{}, Worse: append([]string{}, x.Worse...),
		Changes: [2]float64{x.Before.Changes, x.After.Changes}, Calls: [2]float64{x.Before.Calls, x.After.Calls}}
	d.LeftOut = []contract.LeftOutDocument{}
	for _, o := range x.Plan.Out {
		d.LeftOut = append(d.LeftOut, contract.LeftOutDocument{Name: o.Name, Fingerprint: o.Fingerprint, Why: o.Why})
	}
	for _, a := range x.Picked {
		d.Amendments = append(d.Amendments, x.amendment(a))
	}
	for _, p := range x.Plan.Decisions {
		d.Decisions = append(d.Decisions, contract.DecisionDocument{Title: p.Title, Choices: p.Choices, Severity: p.Severity,
			Findings: prints(p.Findings)})
	}
	d.Evidence = append(d.Evidence, prints(x.Plan.Evidence)...)
	if x.Exposed != nil {
		d.Exposure = &[2]contract.FallsDocument{contract.NewFallsDocument(x.Exposed[0]), contract.NewFallsDocument(x.Exposed[1])}
	}
	d.Steps = contract.NewStepDocuments(x.Steps)
	d.Held, d.Played = prints(x.Plan.Held), contract.NewPlayedDocument(x.Played)
	for i := range x.Brings {
		d.Appear = append(d.Appear, contract.NewFindingDocument(&x.Brings[i]))
	}
	return d
}

func (x *Amending) amendment(a *amend.Amendment) contract.AmendmentDocument {
	d := contract.AmendmentDocument{Name: a.Name, Fingerprint: a.Fingerprint, Setting: a.Setting, Title: a.Title(), From: a.Was(),
		To: a.Becomes(), Holder: a.Holder(),
		First: []string{}, Severity: a.Severity, Settles: prints(a.Settles), Appear: []string{}, Scopes: []string{}, Accounts: a.Accounts,
		Privileged: a.Privileged, Worth: a.Worth.Float(),
		Touches: contract.NewTouchDocument(x.Touched[a]), Notes: append([]string{}, a.Notes...)}
	if a.Flag != 0 {
		d.Flag = a.Flag.Names()[0]
	} else if !a.Precedence {
		d.Value = &a.To
	}
	for _, f := range a.First {
		d.First = append(d.First, f.Name)
	}
	for i := range a.Brings {
		d.Appear = append(d.Appear, a.Brings[i].Fingerprint)
	}
	for _, s := range a.Scopes {
		d.Scopes = append(d.Scopes, s.Name())
	}
	for i := range a.Spots {
		s := &a.Spots[i]
		one := contract.SpotDocument{Place: s.At.Name, Kind: s.At.Kind, Policy: s.Name, Origin: s.Origin, Where: s.Where, Owner: s.Owner,
			Evidence: contract.CiteDocument(s.Cite), Written: x.written(a, s), Held: contract.NewHeldDocuments(s.Held, x.Weighing.At)}
		if a.Flag != 0 {
			if at := x.place(s.At); at != nil {
				for _, row := range s.Rows {
					one.Accounts = append(one.Accounts, at.Objects.Name.At(row))
				}
			}
		}
		d.Spots = append(d.Spots, one)
	}
	return d
}

func (x *Amending) place(at estate.Place) *estate.Authority {
	for _, a := range x.Weighing.Places {
		if a.Place() == at {
			return a
		}
	}
	return nil
}

// written is the value as the place writes it; empty where that is not known.
func (x *Amending) written(a *amend.Amendment, s *amend.Spot) string {
	switch {
	case a.Flag != 0:
		return ""
	case a.Precedence:
		return a.Becomes()
	}
	return Writing.Written(govern.Effective{Fact: estate.Fact{Cite: estate.Cite{Where: s.Where}, Unit: s.Unit}}, a.To)
}

func prints(all []*check.Finding) []string {
	out := []string{}
	for _, f := range all {
		out = append(out, f.Fingerprint)
	}
	return out
}

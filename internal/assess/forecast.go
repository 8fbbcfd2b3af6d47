package assess

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/probe"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// ForecastOptions are the choices of one forecast.
type ForecastOptions struct {
	Scope       string   // name, or pattern; empty: all
	If          []string // SETTING=VALUE, to see what a change would come to
	Assumptions forecast.Assumptions
	Exposure    []string // assumptions of exposure, as NAME=VALUE
}

// Forecasts are the figures of all scopes, with the changed ones beside them.
type Forecasts struct {
	Assumptions forecast.Assumptions
	Changes     map[setting.ID]setting.Value
	Scopes      []ScopeForecast
	Exposure    *exposure.Assumptions
}

// ScopeForecast is one scope's figures.
type ScopeForecast struct {
	Scope    *govern.Scope
	Accounts *int64 // enabled ones; nil: not listed
	Now      record.Figures
	Then     *record.Figures // with the changes; nil: none were asked for
	// Exposed is how exposed one of its accounts is, on average, and ThenExposed with the
	// changes; nil: no account of it is opened by a password.
	Exposed, ThenExposed *Exposed
}

// Exposed is the chance that somebody gets in as an account within a year, with that of
// each route at documented defaults where the evidence is silent.
type Exposed struct {
	Accounts int // that a password opens; 0: none is listed, and one stands for them
	Each     exposure.Range
	Routes   exposure.Chances
}

// Forecast says what the settings of each scope allow and ask.
func Forecast(e *custody.Engagement, opt ForecastOptions) (*Forecasts, error) {
	survey, err := e.Surveyed(govern.NewSurvey, "ends", "traits")
	if err != nil {
		return nil, err
	}
	return forecasts(e, survey, opt)
}

func forecasts(e *custody.Engagement, survey *govern.Survey, opt ForecastOptions) (*Forecasts, error) {
	f := &Forecasts{Assumptions: opt.Assumptions, Changes: map[setting.ID]setting.Value{}}
	for _, text := range opt.If {
		id, value, ok := strings.Cut(text, "=")
		s, known := setting.Lookup(setting.ID(strings.TrimSpace(id)))
		if !ok || !known {
			var ids []string
			for _, row := range setting.Table() {
				ids = append(ids, string(row.ID))
			}
			return nil, fmt.Errorf("--if %q: expected SETTING=VALUE, such as min-age=1d; %s", text,
				strictyaml.Hint(id, ids))
		}
		v, err := s.Parse(value)
		if err != nil {
			return nil, fmt.Errorf("--if %q: %w", text, err)
		}
		f.Changes[s.ID] = v
	}
	var err error
	if f.Exposure, err = e.Config.Assumptions(opt.Exposure); err != nil {
		return nil, err
	}
	model := exposure.NewModel(f.Exposure, survey.Scopes)
	cohorts := map[*govern.Scope][]*exposure.Cohort{}
	population := exposure.Population(survey, e.Now().Unix())
	for i := range population {
		c := &population[i]
		cohorts[c.Scope] = append(cohorts[c.Scope], c)
		if c.Beyond != nil {
			cohorts[c.Beyond] = append(cohorts[c.Beyond], c)
		}
	}
	scopes, err := pickScopes(survey, opt.Scope)
	if err != nil {
		return nil, err
	}
	families, err := patterns(e, probe.Person{})
	if err != nil {
		return nil, err
	}
	shares := weakShares{families: families, known: map[string]record.Share{}}
	for _, scope := range scopes {
		one := ScopeForecast{Scope: scope}
		if scope.Listed() {
			n := int64(scope.Accounts)
			if scope.Authority.Listed {
				n = int64(scope.Enabled)
			}
			one.Accounts = &n
		}
		policy := forecast.Policy(func(id setting.ID) setting.Value {
			if x := scope.Settings[id]; x.Missing == govern.Present {
				return x.Value
			}
			return setting.Value{}
		})
		at := placeOf(survey, scope)
		one.Now = one.figures(policy, opt.Assumptions)
		one.Now.Weak = shares.of(at)
		if len(f.Changes) > 0 {
			then := one.figures(policy.With(f.Changes), opt.Assumptions)
			then.Weak = shares.of(at.With(f.Changes))
			one.Then = &then
		}
		one.Exposed = exposed(model, cohorts[scope], nil)
		if len(f.Changes) > 0 {
			one.ThenExposed = exposed(model, cohorts[scope], exposure.Changes{scope: {Set: f.Changes}})
		}
		f.Scopes = append(f.Scopes, one)
	}
	return f, nil
}

// exposed is the mean over the accounts of cohorts.
func exposed(m *exposure.Model, all []*exposure.Cohort, changes exposure.Changes) *Exposed {
	x, n := &Exposed{}, 0
	for _, c := range all {
		each, routes := m.Range(c, changes), m.Of(c, changes, exposure.Default)
		count := exposure.Millionths(c.Count)
		x.Each = exposure.Range{Least: x.Each.Least + count*each.Least, Default: x.Each.Default + count*each.Default, Most: x.Each.Most + count*each.Most}
		for i, p := range routes {
			x.Routes[i] += float64(c.Count) * p
		}
		if n += c.Count; !c.Assumed {
			x.Accounts += c.Count
		}
	}
	if n == 0 {
		return nil
	}
	count := exposure.Millionths(n)
	x.Each = exposure.Range{Least: x.Each.Least / count, Default: x.Each.Default / count, Most: x.Each.Most / count}
	for i := range x.Routes {
		x.Routes[i] /= float64(n)
	}
	return x
}

// weakShares counts what places make of the weak patterns. Thousands of machines are
// alike, and those are asked once.
type weakShares struct {
	families []probe.Family
	known    map[string]record.Share
}

func (w *weakShares) of(at *probe.Place) (s record.Share) {
	like := likeness(at)
	if s, ok := w.known[like]; ok && like != "" {
		return s
	}
	defer func() { w.known[like] = s }()
	for _, f := range w.families {
		for _, text := range f.Passwords {
			if f.Weak {
				count(&s, probe.Judge(at, probe.Person{}, text).Verdict)
			}
		}
	}
	return s
}

// likeness is a text that is the same for places that ask the same of passwords;
// empty where that cannot be told.
func likeness(at *probe.Place) string {
	values := map[setting.ID][2]string{}
	for id, x := range at.Settings {
		text, err := x.Value.MarshalText()
		if err != nil {
			return ""
		}
		values[id] = [2]string{string(text), string(x.Missing)}
	}
	var asks *estate.Asks
	if at.Asks != nil {
		bare := *at.Asks
		bare.Cite, bare.Further = estate.Cite{}, slices.Clone(bare.Further)
		for i := range bare.Further {
			bare.Further[i].Cite = estate.Cite{}
		}
		asks = &bare
	}
	text, err := json.Marshal([]any{at.Platform, at.Dialect, values, asks, at.Cloud})
	if err != nil {
		return ""
	}
	return string(text)
}

func (s *ScopeForecast) figures(p forecast.Policy, a forecast.Assumptions) record.Figures {
	f := record.Figures{Forecast: forecast.Of(s.Scope.Counter(), p, a)}
	if s.Accounts != nil {
		f.Scope = f.For(*s.Accounts, a)
	}
	return f
}

func (x *Exposed) document() *contract.ScopeExposureDocument {
	if x == nil {
		return nil
	}
	d := &contract.ScopeExposureDocument{Accounts: x.Accounts, Each: [3]float64{x.Each.Least.Float(), x.Each.Default.Float(), x.Each.Most.Float()},
		Routes: map[string]float64{}}
	for i, p := range x.Routes {
		d.Routes[exposure.RouteKeys[i]] = math.Round(p*1e6) / 1e6
	}
	return d
}

// Document describes the forecasts.
func (f *Forecasts) Document() contract.ForecastDocument {
	d := contract.ForecastDocument{Schema: "sternledger/forecast/1", If: map[string]string{}, Scopes: []contract.ScopeForecastDocument{}}
	for id, v := range f.Changes {
		d.If[string(id)] = setting.Get(id).Text(v)
	}
	alphabet := int64(0)
	for _, n := range forecast.Sizes {
		alphabet += n
	}
	for i := range f.Scopes {
		s := &f.Scopes[i]
		one := contract.ScopeForecastDocument{Scope: s.Scope.Name(), Accounts: s.Accounts, FiguresDocument: contract.NewFiguresDocument(&s.Now),
			Assumptions: contract.AssumptionsDocument{OnlineRate: f.Assumptions.OnlineRate, OfflineRate: f.Assumptions.OfflineRate,
				LocksPerYear: f.Assumptions.LocksPerYear, WorkingDays: f.Assumptions.WorkingDays, SignIns: f.Assumptions.SignIns, Alphabet: alphabet}}
		one.Exposure = s.Exposed.document()
		one.ChangedExposure = s.ThenExposed.document()
		if s.Then != nil {
			changed := contract.NewFiguresDocument(s.Then)
			one.Changed = &changed
		}
		d.Scopes = append(d.Scopes, one)
	}
	return d
}

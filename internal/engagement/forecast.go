package engagement

import (
	"fmt"
	"strings"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/probe"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// ForecastOptions are the choices of one forecast.
type ForecastOptions struct {
	Scope       string   // name, or pattern; empty: all
	If          []string // SETTING=VALUE, to see what a change would come to
	Assumptions forecast.Assumptions
}

// Forecasts are the figures of all scopes, with the changed ones beside them.
type Forecasts struct {
	Assumptions forecast.Assumptions
	Changes     map[setting.ID]setting.Value
	Scopes      []ScopeForecast
}

// ScopeForecast is one scope's figures.
type ScopeForecast struct {
	Scope    *govern.Scope
	Accounts *int64 // enabled ones; nil: not listed
	Now      Figures
	Then     *Figures // with the changes; nil: none were asked for
}

// Figures are a forecast with what follows for the scope's accounts.
type Figures struct {
	forecast.Forecast
	forecast.Scope
	Weak Share // what the rules make of the weak patterns of probe
}

// Forecast says what the settings of each scope allow and ask.
func (e *Engagement) Forecast(opt ForecastOptions) (*Forecasts, error) {
	survey, err := e.Survey()
	if err != nil {
		return nil, err
	}
	f := &Forecasts{Assumptions: opt.Assumptions, Changes: map[setting.ID]setting.Value{}}
	for _, text := range opt.If {
		id, value, ok := strings.Cut(text, "=")
		s, known := setting.Lookup(setting.ID(strings.TrimSpace(id)))
		if !ok || !known {
			var ids []string
			for _, row := range setting.Table() {
				ids = append(ids, string(row.ID))
			}
			return nil, fmt.Errorf("--if %q: expected SETTING=VALUE, such as min-age=1d; the nearest setting is %q", text, strictyaml.Nearest(id, ids))
		}
		v, err := s.Parse(value)
		if err != nil {
			return nil, fmt.Errorf("--if %q: %w", text, err)
		}
		f.Changes[s.ID] = v
	}
	scopes, err := pickScopes(survey, opt.Scope)
	if err != nil {
		return nil, err
	}
	families, err := e.patterns(probe.Person{})
	if err != nil {
		return nil, err
	}
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
		one.Now.Weak = weakShare(at, families)
		if len(f.Changes) > 0 {
			then := one.figures(policy.With(f.Changes), opt.Assumptions)
			then.Weak = weakShare(at.With(f.Changes), families)
			one.Then = &then
		}
		f.Scopes = append(f.Scopes, one)
	}
	return f, nil
}

// weakShare counts what a place makes of the weak patterns.
func weakShare(at *probe.Place, families []probe.Family) Share {
	var s Share
	for _, f := range families {
		for _, text := range f.Passwords {
			if f.Weak {
				s.add(probe.Judge(at, probe.Person{}, text).Verdict)
			}
		}
	}
	return s
}

func (s *ScopeForecast) figures(p forecast.Policy, a forecast.Assumptions) Figures {
	f := Figures{Forecast: forecast.Of(s.Scope.Counter(), p, a)}
	if s.Accounts != nil {
		f.Scope = f.For(*s.Accounts, a)
	}
	return f
}

// ForecastDocument is the output of forecast. Null means: not known, or
// unbounded by the settings.
type ForecastDocument struct {
	Schema string                  `json:"schema"`
	If     map[string]string       `json:"if"`
	Scopes []ScopeForecastDocument `json:"scopes"`
}

// ScopeForecastDocument is one scope's figures, and those with the changes.
type ScopeForecastDocument struct {
	Scope    string `json:"scope"`
	Accounts *int64 `json:"accounts"`
	FiguresDocument
	Changed     *FiguresDocument    `json:"changed,omitempty"`
	Assumptions AssumptionsDocument `json:"assumptions"`
}

// FiguresDocument is the figures of one policy. Times are in seconds.
type FiguresDocument struct {
	Guesses        []GuessesDocument `json:"guesses"`
	WayBack        *int64            `json:"way_back_seconds"`
	SpaceBits      *float64          `json:"space_bits"`
	Space          string            `json:"space"` // the exact number, in decimal; empty: not known
	Exhaust        *float64          `json:"exhaust_seconds"`
	Length         int64             `json:"characters_to_type"`
	ChangesPerYear *float64          `json:"changes_per_year"`
	Spray          *int64            `json:"weekend_guesses_against_all"`
	AtOnce         *int64            `json:"one_guess_on_all"`
	ChangesPerDay  *float64          `json:"changes_per_working_day"`
	CallsPerYear   *float64          `json:"unlock_calls_per_year"`
	Denial         *int64            `json:"tries_to_lock_all"`
	DenialEvery    *int64            `json:"tries_repeated_after_seconds"`
	Weak           Share             `json:"weak_patterns"`
}

// GuessesDocument is the guesses for one account over one horizon.
type GuessesDocument struct {
	Horizon   string `json:"horizon"`
	Seconds   *int64 `json:"seconds"`
	UnderLock *int64 `json:"under_lock"`
	IntoLock  *int64 `json:"into_lock"`
	Locks     *int64 `json:"locks"`
	Helped    *int64 `json:"under_lock_with_sign_ins"`
	Most      *int64 `json:"most"`           // the greatest of them
	AtRate    *int64 `json:"at_online_rate"` // where nothing locks
}

// AssumptionsDocument is what the settings do not say.
type AssumptionsDocument struct {
	OnlineRate   float64 `json:"online_guesses_per_second"`
	OfflineRate  float64 `json:"offline_guesses_per_second"`
	LocksPerYear float64 `json:"locks_per_user_and_year"`
	WorkingDays  float64 `json:"working_days_per_year"`
	SignIns      float64 `json:"sign_ins_per_working_day"`
	Alphabet     int64   `json:"alphabet"` // printable ASCII characters
}

func figuresDocument(f *Figures) FiguresDocument {
	d := FiguresDocument{Guesses: []GuessesDocument{}, WayBack: f.WayBack, SpaceBits: f.Bits, Exhaust: f.Exhaust, Length: f.Length, ChangesPerYear: f.Changes,
		Spray: f.Spray, AtOnce: f.AtOnce, ChangesPerDay: f.ChangesPerDay, CallsPerYear: f.CallsPerYear, Denial: f.Denial, DenialEvery: f.DenialEvery, Weak: f.Weak}
	if f.Space != nil {
		d.Space = f.Space.String()
	}
	for _, g := range f.Guesses {
		d.Guesses = append(d.Guesses, GuessesDocument{g.Horizon, g.Seconds, g.UnderLock, g.IntoLock, g.Locks, g.Helped, g.Most, g.AtRate})
	}
	return d
}

// Document describes the forecasts.
func (f *Forecasts) Document() ForecastDocument {
	d := ForecastDocument{Schema: "sternledger/forecast/1", If: map[string]string{}, Scopes: []ScopeForecastDocument{}}
	for id, v := range f.Changes {
		d.If[string(id)] = setting.Get(id).Text(v)
	}
	alphabet := int64(0)
	for _, n := range forecast.Sizes {
		alphabet += n
	}
	for i := range f.Scopes {
		s := &f.Scopes[i]
		one := ScopeForecastDocument{Scope: s.Scope.Name(), Accounts: s.Accounts, FiguresDocument: figuresDocument(&s.Now),
			Assumptions: AssumptionsDocument{f.Assumptions.OnlineRate, f.Assumptions.OfflineRate, f.Assumptions.LocksPerYear, f.Assumptions.WorkingDays, f.Assumptions.SignIns, alphabet}}
		if s.Then != nil {
			changed := figuresDocument(s.Then)
			one.Changed = &changed
		}
		d.Scopes = append(d.Scopes, one)
	}
	return d
}

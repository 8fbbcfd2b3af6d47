package contract

import (
	"sternledger/internal/core/record"
)

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
	// Exposure is null where no account of the scope is opened by a password.
	Exposure        *ScopeExposureDocument `json:"exposure"`
	ChangedExposure *ScopeExposureDocument `json:"changed_exposure,omitempty"`
}

// ScopeExposureDocument is the chance that somebody gets in as an account of a scope within
// a year, on average.
type ScopeExposureDocument struct {
	Accounts int                `json:"accounts"` // 0: none is listed, and one stands for them
	Each     [3]float64         `json:"each"`     // at least, at documented defaults, at most
	Routes   map[string]float64 `json:"routes"`   // at documented defaults
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
	Weak           record.Share      `json:"weak_patterns"`
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

func NewFiguresDocument(f *record.Figures) FiguresDocument {
	d := FiguresDocument{Guesses: []GuessesDocument{}, WayBack: f.WayBack, SpaceBits: f.Bits, Exhaust: f.Exhaust, Length: f.Length,
		ChangesPerYear: f.Changes,
		Spray:          f.Spray, AtOnce: f.AtOnce, ChangesPerDay: f.ChangesPerDay, CallsPerYear: f.CallsPerYear, Denial: f.Denial,
		DenialEvery: f.DenialEvery, Weak: f.Weak}
	if f.Space != nil {
		d.Space = f.Space.String()
	}
	for _, g := range f.Guesses {
		d.Guesses = append(d.Guesses, GuessesDocument{g.Horizon, g.Seconds, g.UnderLock, g.IntoLock, g.Locks, g.Helped, g.Most, g.AtRate})
	}
	return d
}

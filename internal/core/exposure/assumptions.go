package exposure

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/strictyaml"
)

// ID names an assumption in code.
type ID int

// The assumptions.
const (
	Door ID = iota
	DoorInside
	FactorPassed
	Stolen
	StolenTenant
	ReadBack
	Asked
	EmptyByFlag
	EmptyTaken
	Reused
	Successor
	NeverAge
	WayBackOpen
	KnownInside
	LeastLength
	Shortest
	HalfLength
	LengthStep
	Classes
	Banned
	LeastLeft
	FastRate
	TenantRate
	MissingShare
	WeightPrivileged
	WeightService
	GravePrivileged
	GraveAny
	SeriousPrivileged
	SeriousAny
	headFactor
	headPower
	bodyFactor
	bodyPower
	tailStart
	tailSlope
	mostGuessed
	count
)

// Sure says how well an assumption is founded.
type Sure string

// The grades.
const (
	Measured Sure = "measured" // by a published study that is named
	Reasoned Sure = "reasoned" // follows from what is measured or documented
	Judged   Sure = "judged"   // an expert's guess
)

// Assumption is one figure that settings do not tell. It can be set to anything from
// Least to Most.
type Assumption struct {
	Name        string
	Value       float64
	Least, Most float64
	Unit        string
	Meaning     string
	Source      string
	Sure        Sure
}

const curve = "fit of Wang and others (2017) for one large leak, its head by the leak's own counts, its tail after guess curves published in 2012 and 2015"

// Table is every assumption, in the order of the IDs.
var Table = [count]Assumption{
	Door: {"door", 0.5, 0, 1, "chance in a year", "Somebody guesses at an account whose sign-in is open to the Internet.",
		"operators of cloud services report that most tenants are tried every year", Judged},
	DoorInside: {"door-inside", 0.1, 0, 1, "chance in a year", "Somebody guesses at an account that can only be reached from inside.",
		"needs a foothold first", Judged},
	FactorPassed: {"factor-passed", 0.02, 0, 1, "share", "Gets past a second factor that is asked for at every sign-in.",
		"operators report that a second factor stops 98 to 99.9 in 100", Reasoned},
	Stolen: {"stolen", 0.02, 0, 1, "chance in a year", "The place's store of passwords is stolen.", "yearly share of organisations with a domain-wide intrusion",
		Judged},
	StolenTenant: {"stolen-tenant", 0.002, 0, 1, "chance in a year", "A cloud's store of passwords is stolen.", "rarer than one's own by an order of magnitude",
		Judged},
	ReadBack: {"read-back", 0.1, 0, 1, "chance in a year", "Somebody reads a store from which passwords can be read back.",
		"backups, replicas and administrators reach it without cracking anything", Judged},
	Asked: {"asked", 0.2, 0, 1, "chance in a year", "Somebody asks for what any account can ask for, and guesses at it offline.",
		"a usual first step after any foothold", Judged},
	EmptyByFlag: {"empty-by-flag", 0.05, 0, 1, "share", "An account that may have an empty password by its own flag has one.", "seen in reviews of such accounts",
		Judged},
	EmptyTaken: {"empty-taken", 0.005, 0, 1, "share", "An account has an empty password where one would be taken.", "rare, since people are asked for one",
		Judged},
	Reused: {"reused", 0.02, 0, 1, "chance for each year of age", "A password that is in use becomes known by a leak elsewhere, or by phishing.",
		"shares of accounts in later leaks of other services", Judged},
	Successor: {"successor", 0.4, 0, 1, "share", "A password that was changed leads to its successor.",
		"Zhang, Monrose and Reiter (2010): 41 in 100 within seconds offline", Measured},
	NeverAge: {"never-age", 2, 0.1, 20, "years", "Mean age of passwords that never have to be changed.", "ages seen in exports", Judged},
	WayBackOpen: {"way-back", 0.03, 0, 1, "chance in a year", "A known password is set again, where a week is enough to get back to it.",
		"users who change a password to satisfy an expiry", Judged},
	KnownInside: {"known-inside", 0.2, 0, 1, "share", "A known password is of use where it can only be tried from inside.", "needs a foothold first", Judged},
	LeastLength: {"least-length", 0.25, 0, 1, "share", "Of passwords that no guess list holds, those of just the minimum length.",
		"lengths in published leaks under a minimum", Reasoned},
	Shortest: {"shortest", 6, 1, 20, "characters", "Nobody chooses a shorter password, even where it is allowed.", "lengths in leaks of services without a minimum",
		Reasoned},
	HalfLength: {"half-length", 9, 1, 40, "characters", "Minimum length that takes half of the guessable passwords away.",
		"leaks cut at each length: what is left of their most usual passwords", Reasoned},
	LengthStep: {"length-step", 1.5, 0.1, 20, "characters", "So many characters more or less change that ratio by two.", "as above", Reasoned},
	Classes: {"classes", 0.75, 0, 1, "share", "What asking for three classes of characters leaves of the guessable passwords.",
		"studies of composition rules (2010 to 2016): a small gain", Reasoned},
	Banned:    {"banned", 0.6, 0, 1, "share", "What an enforced list of banned passwords leaves of them.", "studies of blocklists (2010 to 2020)", Reasoned},
	LeastLeft: {"least-left", 0.05, 0, 1, "share", "What rules always leave of them.", "some people defeat any rule", Judged},
	FastRate: {"fast-rate", 1e11, 1, 1e18, "guesses a second", "Guesses on a stolen fast hash; slower methods have their share of it.",
		"published rates of hardware of a few thousand euros", Measured},
	TenantRate: {"tenant-rate", 1e6, 1, 1e18, "guesses a second", "Guesses on a hash stolen from a cloud.", "services say that they hash slowly", Reasoned},
	MissingShare: {"missing", 0.25, 0, 1, "share", "What is not known counts for so much of what it would be worth at the documented default.",
		"most evidence that comes in late shows nothing worse than the default", Judged},
	WeightPrivileged:  {"weight-privileged", 10, 0, 1000, "times", "A privileged account counts for so many, where one figure is needed.", "reach", Judged},
	WeightService:     {"weight-service", 3, 0, 1000, "times", "A service account counts for so many.", "reach, and nobody notices", Judged},
	GravePrivileged:   {"grave-privileged", 0.01, 0, 1, "chance in a year", "From here on a finding is grave for a privileged account.", "a choice", Judged},
	GraveAny:          {"grave", 0.02, 0, 1, "chance in a year", "From here on a finding is grave.", "a choice", Judged},
	SeriousPrivileged: {"serious-privileged", 0.001, 0, 1, "chance in a year", "From here on it is serious for a privileged account.", "a choice", Judged},
	SeriousAny:        {"serious", 0.002, 0, 1, "chance in a year", "From here on it is serious.", "a choice", Judged},
	headFactor: {"curve-head", 0.009, 0, 1, "share", "Chosen passwords found by the first guess: curve-head × guesses ^ curve-head-power, or the body if less.", curve,
		Measured},
	headPower:   {"curve-head-power", 0.36, 0, 1, "power", "See curve-head.", curve, Measured},
	bodyFactor:  {"curve-body", 0.0374, 0, 1, "share", "Up to a million guesses: curve-body × guesses ^ curve-body-power.", curve, Measured},
	bodyPower:   {"curve-body-power", 0.187, 0, 1, "power", "See curve-body.", curve, Measured},
	tailStart:   {"curve-tail", 0.495, 0, 1, "share", "At a million guesses; from there on by curve-tail-slope.", curve, Measured},
	tailSlope:   {"curve-tail-slope", 0.06, 0, 1, "share", "More for each ten times as many guesses.", curve, Measured},
	mostGuessed: {"curve-most", 0.98, 0, 1, "share", "No list of guesses holds more.", curve, Measured},
}

// Assumptions are a value for each row of the Table.
type Assumptions [count]float64

// Usual are the assumptions unless told otherwise.
func Usual() *Assumptions {
	var a Assumptions
	for i := range Table {
		a[i] = Table[i].Value
	}
	return &a
}

// Set changes one assumption by its name. The error says what is expected.
func (a *Assumptions) Set(name, value string) error {
	i := slices.IndexFunc(Table[:], func(x Assumption) bool { return x.Name == name })
	if i < 0 {
		var names []string
		for _, x := range Table {
			names = append(names, x.Name)
		}
		return fmt.Errorf("%q is no assumption; %s; \"sternledger forecast --assumptions\" lists them", name, strictyaml.Hint(name, names))
	}
	row := &Table[i]
	n, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	if err != nil || math.IsNaN(n) || n < row.Least || n > row.Most {
		return fmt.Errorf("%s: %q; expected a number from %s to %s (%s)", name, value, number(row.Least), number(row.Most), row.Unit)
	}
	a[i] = n
	return nil
}

// Check reports assumptions that contradict one another.
func (a *Assumptions) Check() error {
	for _, pair := range [][2]ID{{SeriousAny, GraveAny}, {SeriousPrivileged, GravePrivileged}, {DoorInside, Door}, {StolenTenant, Stolen}} {
		if low, high := pair[0], pair[1]; a[low] > a[high] {
			return fmt.Errorf("%s is %s and %s is %s; expected the first to be no more than the second", Table[low].Name, number(a[low]),
				Table[high].Name, number(a[high]))
		}
	}
	return nil
}

// Changed are the assumptions that are not the usual ones, by name.
func (a *Assumptions) Changed() map[string]float64 {
	changed := map[string]float64{}
	for i, x := range Table {
		if a[i] != x.Value {
			changed[x.Name] = a[i]
		}
	}
	return changed
}

// With returns the usual assumptions with the ones that were changed.
func With(changed map[string]float64) (*Assumptions, error) {
	a := Usual()
	for name, n := range changed {
		i := slices.IndexFunc(Table[:], func(x Assumption) bool { return x.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("%q is no assumption", name)
		}
		a[i] = n
	}
	return a, nil
}

func number(n float64) string { return strconv.FormatFloat(n, 'g', -1, 64) }

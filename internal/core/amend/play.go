package amend

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Horizon is for how many days accounts are played, from the day on which the plan was
// made.
const Horizon = 90

// Outcome is what comes of an account's sign-in, the better before the worse.
type Outcome uint8

// The outcomes.
const (
	AsBefore Outcome = iota
	NotKnown         // the evidence lacks what would tell, such as when the password was set
	MustAct          // at the sign-in something has to be done first: programs cannot
	ShutOut          // it cannot sign in any more
)

// Cause says why an account's sign-in is not what it was.
type Cause uint8

// The causes.
const (
	NoCause      Cause = iota
	Aged               // the password is older than it may be
	Idle               // and has been so for longer than the account may be idle
	EmptyRefused       // its empty password is refused
	FactorAsked        // it has no second factor to give
)

// Serves says how it is known that programs sign in as an account.
type Serves uint8

// The ways.
const (
	ForPeople Serves = iota // nothing says so
	ByName                  // its name, or that of the unit it is in, is a hint, and no more
	Told                    // a service principal name, or the engagement's own tier
)

// Fate is what comes of one account when changes are made, if nobody does anything
// about it.
type Fate struct {
	Outcome Outcome
	Day     int // from which it is so; 0: the day of the plan
	Cause   Cause
	Place   estate.Place
	Name    string
	Admin   bool
	Root    bool // of a Unix machine
	Serves  Serves
}

// Played is what comes of all accounts that changes reach.
type Played struct {
	Shut, Must Within
	Unknown    int            // accounts of which the evidence lacks what would tell
	Unlisted   []estate.Place // places that they reach whose accounts are not in the evidence
	NextLocks  int            // accounts with as many failed attempts as lock from now on
	Fates      []Fate         // the worst first; of people who only have to change passwords the first few
	Harms      []Harm
}

// Within counts accounts by when it is so with them.
type Within struct{ AtOnce, Week, Month, Horizon int }

// All is the sum.
func (w Within) All() int { return w.AtOnce + w.Week + w.Month + w.Horizon }

func (w *Within) add(day int) {
	switch {
	case day <= 0:
		w.AtOnce++
	case day <= 7:
		w.Week++
	case day <= 30:
		w.Month++
	default:
		w.Horizon++
	}
}

// Damage is what must not come of a change without somebody who decides it.
type Damage uint8

// The damages, the gravest first.
const (
	NoWayIn     Damage = iota // no administrator of the place can sign in any more
	RootOut                   // root cannot
	AllLockable               // a stranger can lock every administrator, until an administrator unlocks
	ServiceOut                // programs cannot sign in any more
	MayLockAll                // whether AllLockable comes of it the evidence does not tell
	Unforeseen                // the evidence does not tell whether one of these comes of it
)

// Harm is a damage at a place.
type Harm struct {
	Damage Damage
	Place  estate.Place
	Fates  []Fate // of the accounts that it is about
	Day    int    // from which on
}

// never is a day that does not come.
const never = 1 << 30

// life is how an account's sign-in goes on: from a day on something has to be done at
// it, and from a later one on nothing helps.
type life struct {
	must, shut int
	why, end   Cause
	unknown    bool
	limit      int64 // of the age, for what is not known
}

// worse compares what becomes of an account with what would have been.
func (now life) worse(before life) (Outcome, int, Cause) {
	switch {
	case now.shut < before.shut && now.shut <= Horizon:
		return ShutOut, now.shut, now.end
	case now.unknown && (!before.unknown || now.limit != before.limit):
		return NotKnown, 0, now.why
	case now.must < before.must && now.must <= Horizon && now.must < before.shut:
		return MustAct, now.must, now.why
	}
	return AsBefore, 0, NoCause
}

// expiry is what an old password does to a sign-in.
type expiry uint8

const (
	asks   expiry = iota // it has to be changed at the sign-in
	shuts                // nobody signs in with it: only an administrator gives another
	keeps                // each password keeps the end that it was given when it was set, or none
	gives                // the same; one that has none is given one at the next sign-in
	ofLine               // the account's own line tells, as Linux-PAM reads it
)

// expiries are by platform, as documented or, where a server of its kind runs in the
// labs, as tried there. Others ask.
var expiries = map[setting.Platform]expiry{setting.UnixMachine: ofLine, setting.LDAPDirectory: shuts, setting.DirectoryServer: gives,
	setting.KerberosRealm: keeps}

// changed is what changes make of settings, flags and lines.
type changed struct {
	settings map[govern.ScopeID]map[setting.ID]setting.Value
	lines    map[govern.ScopeID]map[setting.ID]setting.Value // of shadow
	scopes   map[govern.ScopeID]*govern.Scope                // of both
	cleared  map[estate.Place]map[int]estate.Flag
	places   map[estate.Place]bool // where something changes that sign-ins hang on
}

// by gathers what amendments change that sign-ins hang on, with or without the spots
// that are held back.
func (c *changed) by(all []*Amendment, held bool) {
	c.settings, c.lines = map[govern.ScopeID]map[setting.ID]setting.Value{}, map[govern.ScopeID]map[setting.ID]setting.Value{}
	c.scopes = map[govern.ScopeID]*govern.Scope{}
	c.cleared, c.places = map[estate.Place]map[int]estate.Flag{}, map[estate.Place]bool{}
	for _, a := range all {
		if !a.Bears() {
			continue
		}
		at := a.scopesAt()
		for i := range a.Spots {
			if s := &a.Spots[i]; held || len(s.Held) == 0 {
				c.spot(a, s, at(s))
			}
		}
	}
}

// scopesAt returns what says which scopes a spot of the amendment reaches: of thousands
// of places, each has its own.
func (a *Amendment) scopesAt() func(*Spot) []*govern.Scope {
	if len(a.Spots) == 1 {
		return func(*Spot) []*govern.Scope { return a.Scopes }
	}
	by := map[estate.Place][]*govern.Scope{}
	for _, scope := range a.Scopes {
		at := scope.Authority.Place()
		by[at] = append(by[at], scope)
	}
	return func(s *Spot) []*govern.Scope {
		if s.Via == s.At {
			return by[s.At]
		}
		return append(by[s.At][:len(by[s.At]):len(by[s.At])], by[s.Via]...)
	}
}

func (c *changed) spot(a *Amendment, s *Spot, scopes []*govern.Scope) {
	if a.Flag != 0 {
		c.places[s.At] = true
		rows := c.cleared[s.At]
		if rows == nil {
			rows = map[int]estate.Flag{}
			c.cleared[s.At] = rows
		}
		for _, row := range s.Rows {
			rows[row] |= a.Flag
		}
		return
	}
	into := c.settings
	if s.Holder == Unix && slices.Contains(ages, a.Setting) {
		if !Ageing(s.Cite) {
			return // only accounts that are made later
		}
		into = c.lines
	}
	for _, scope := range scopes {
		id := scope.ID()
		if into[id] == nil {
			into[id] = map[setting.ID]setting.Value{}
		}
		into[id][a.Setting], c.scopes[id] = a.To, scope
		c.places[id.At] = true
	}
}

// ages are the settings of which an account's line of shadow has its own.
var ages = []setting.ID{setting.MaxAge, setting.InactiveDisable, setting.MinAge, setting.ExpiryWarning}

// Ages reports whether a change of a setting is written into a row's line of shadow:
// there has to be a password that grows old, a line that the system takes, and no
// stricter number in it than the one that is wanted.
func Ages(o *estate.Objects, row int, id setting.ID, to setting.Value) bool {
	if o.ClassOf(row) != estate.Account || o.TraitsOf(row)&(estate.NoPassword|estate.NoLine) != 0 {
		return false
	}
	own := uint32(0)
	switch id {
	case setting.MaxAge:
		own = o.MaxDays.At(row)
	case setting.InactiveDisable:
		own = o.IdleDays.At(row)
	}
	n, finite := to.Number()
	return own == 0 || finite && int64(own-1)*aDay > n || !finite && own != 0
}

// bearing are the settings that an account's sign-in hangs on.
var bearing = []setting.ID{setting.MaxAge, setting.InactiveDisable, setting.EmptyAccepted, setting.SecondFactor, setting.LockoutThreshold, setting.LockoutDuration,
	setting.LockoutAdministrator}

// Bears reports whether an amendment bears on who can sign in.
func (a *Amendment) Bears() bool {
	return a.Flag == estate.NeverExpires || slices.Contains(bearing, a.Setting)
}

// Play plays every account that amendments reach, together, from a time in Unix seconds
// on: what happens to them if nobody acts on it.
func (p *Population) Play(all []*Amendment, at int64) *Played { return p.play(all, at, false) }

// PlayAt returns what plays those of one place.
func (p *Population) PlayAt(all []*Amendment, at int64) func(estate.Place) *Played {
	var c changed
	c.by(all, false)
	return func(place estate.Place) *Played { return p.playAt(&c, map[estate.Place]bool{place: true}, at) }
}

func (p *Population) play(all []*Amendment, at int64, held bool) *Played {
	places := map[estate.Place]bool{}
	for _, a := range all {
		if a.Bears() {
			for place := range a.places() {
				places[place] = true
			}
		}
	}
	var c changed
	c.by(all, held)
	return p.playAt(&c, places, at)
}

// playAt plays the accounts of some places.
func (p *Population) playAt(c *changed, places map[estate.Place]bool, at int64) *Played {
	x := &Played{}
	var authorities []int
	for place := range places {
		if i, ok := p.index[place]; ok {
			authorities = append(authorities, i)
		}
	}
	slices.Sort(authorities)
	for _, i := range authorities {
		if c.places[p.places[i].Place()] {
			p.playPlace(x, i, c, at)
		}
	}
	x.sort()
	return x
}

// mostFates is how many people who only have to change passwords are named.
const mostFates = 50

// playPlace plays the accounts of one authority.
func (p *Population) playPlace(x *Played, authority int, c *changed, at int64) {
	from := p.places[authority]
	if from.Kind == estate.Machine || from.Kind == estate.Domain || from.Kind == estate.LDAP || from.Kind == estate.Tenant {
		if !from.Listed && from.Accounts == 0 {
			x.unlisted(from, c)
			return
		}
	}
	var ways [2]ways // as they are, and as they would be
	place := &played{Played: x, from: from}
	clear := c.cleared[from.Place()]
	for id, in := range p.of(authority) {
		settings, lines := c.settings[id], c.lines[id]
		touched := len(settings) > 0 || len(lines) > 0
		if in.scope.Elsewhere != nil {
			continue // its own place plays it
		}
		for _, row := range in.rows {
			before := p.lifeOf(in.scope, row, nil, nil, 0, at)
			now := before
			if touched || clear[row] != 0 {
				now = p.lifeOf(in.scope, row, settings, lines, clear[row], at)
			}
			admin := p.administers(authority, row)
			if admin > 0 {
				ways[0].add(admin, before, lockable(in.scope, row, nil))
				ways[1].add(admin, now, lockable(in.scope, row, settings))
			}
			if n, ok := settings[setting.LockoutThreshold].Number(); ok && int64(from.Objects.Failures.At(row)) >= n {
				x.NextLocks++
			}
			outcome, day, cause := now.worse(before)
			if outcome == AsBefore {
				continue
			}
			place.fate(Fate{outcome, day, cause, from.Place(), from.Objects.Name.At(row), admin > 0,
				from.Platform == setting.UnixMachine && from.Objects.RID.At(row) == 0, serving(from, row, in.scope.Tier)})
		}
	}
	place.judge(&ways)
}

// unlisted notes a place of which the evidence names no account.
func (x *Played) unlisted(from *estate.Authority, c *changed) {
	x.Unlisted = append(x.Unlisted, from.Place())
	aged, locks := false, false
	for id, settings := range c.settings {
		if id.At != from.Place() {
			continue
		}
		_, finite := settings[setting.MaxAge].Number()
		aged = aged || finite && expiries[from.Platform] == shuts
		scope := c.scopes[id]
		locks = locks || lockable(scope, estate.NotFound, nil) == spared && lockable(scope, estate.NotFound, settings) != spared
	}
	if locks {
		x.Harms = append(x.Harms, Harm{Damage: MayLockAll, Place: from.Place()})
	}
	if aged {
		x.Harms = append(x.Harms, Harm{Damage: Unforeseen, Place: from.Place()})
	}
}

// lifeOf plays one account, with what changes make of its scope's settings, of its line
// and of its flags.
func (p *Population) lifeOf(scope *govern.Scope, row int, settings, lines map[setting.ID]setting.Value, cleared estate.Flag, at int64) life {
	o := scope.Authority.Objects
	flags, ends := o.FlagsOf(row)&^cleared, int64(o.Ends.At(row))
	l := life{must: never, shut: never}
	value := func(id setting.ID) (setting.Value, bool) {
		if v, ok := settings[id]; ok {
			return v, true
		}
		e := scope.Settings[id]
		return e.Value, e.Missing == govern.Present
	}
	if ends > 0 {
		l.shut = daysFrom(at, ends)
	}
	how := expiries[scope.Authority.Platform]
	switch {
	case how == ofLine:
		l.ofLine(o, row, lines, at)
	case flags&(estate.NeverExpires|estate.SmartCard) != 0: // and nothing has to be changed either
	case flags&estate.MustChange != 0:
		l.must, l.why = 0, Aged
	default:
		max, known := value(setting.MaxAge)
		l.ofAge(how, max, known, flags, int64(o.PwdSet.At(row)), settings, at)
	}
	if flags&estate.EmptyPassword != 0 {
		if v, known := value(setting.EmptyAccepted); known && v == setting.Off {
			l.shut, l.end = 0, EmptyRefused
		}
	}
	if v, ok := settings[setting.SecondFactor]; ok && v == setting.Word("all") && flags&(estate.SecondFactor|estate.FactorRequired) == 0 && l.must > 0 {
		l.must, l.why = 0, FactorAsked
	}
	return l
}

// daysFrom is how many days from one time to another, in Unix seconds; 0 where it has
// come.
func daysFrom(from, to int64) int {
	if to <= from {
		return 0
	}
	return int(min((to-from+aDay-1)/aDay, never-1))
}

// ofAge plays the age of a password where the place tells how old it may grow.
func (l *life) ofAge(how expiry, max setting.Value, known bool, flags estate.Flag, set int64, settings map[setting.ID]setting.Value, at int64) {
	limit, finite := max.Number()
	if known && !finite {
		return
	}
	switch {
	case how == keeps:
	case how == gives: // and then lets nobody in, where no further sign-ins are granted
		if _, asked := settings[setting.MaxAge]; asked && finite && limit <= Horizon*aDay {
			l.shut, l.end = int(limit/aDay), Aged
		}
	case !known, set == 0, flags&estate.NoControl != 0:
		l.unknown, l.why, l.limit = true, Aged, limit
	case how == shuts:
		if d := daysFrom(at, set+limit); d < l.shut {
			l.shut, l.end = d, Aged
		}
	default:
		l.must, l.why = daysFrom(at, set+limit), Aged
	}
}

// ofLine plays an account's line of shadow as pam_unix of Linux-PAM does (tried on
// Debian 11, 12 and 13): a password that is older than its days has to be changed, and
// lets nobody in once the idle days are over, too.
func (l *life) ofLine(o *estate.Objects, row int, lines map[setting.ID]setting.Value, at int64) {
	traits, today := o.TraitsOf(row), at/aDay
	if traits&estate.NoLine != 0 {
		l.unknown = true
		return
	}
	if o.FlagsOf(row)&estate.MustChange != 0 {
		l.must, l.why = 0, Aged
		return
	}
	days := func(id setting.ID, own uint32) (n int64, there bool) {
		if to, ok := lines[id]; ok && Ages(o, row, id, to) {
			n, there = to.Number()
			return n / aDay, there
		}
		return int64(own) - 1, own > 0
	}
	max, ages := days(setting.MaxAge, o.MaxDays.At(row))
	if !ages || traits&estate.Ageless != 0 {
		return
	}
	set := int64(o.PwdSet.At(row)) / aDay
	switch {
	case traits&estate.NoDay != 0:
		set = -1
	case set == 0:
		l.unknown, l.why, l.limit = true, Aged, max
		return
	}
	first := set + max + 1
	if traits&estate.SameDay != 0 {
		first--
	}
	l.must, l.why = day(first-today), Aged
	if idle, there := days(setting.InactiveDisable, o.IdleDays.At(row)); there {
		if d := day(first + idle - today); d < l.shut {
			l.shut, l.end = d, Idle
		}
	}
}

func day(n int64) int { return int(min(max(n, 0), never-1)) }

// administering says how sure it is that an account administers its place.
type administering uint8

const (
	maybe  administering = iota + 1 // it is in a group that usually does
	surely                          // as the evidence says
)

// administers reports whether an account can administer its place, by what the place
// itself says: a tier of the engagement makes nobody an administrator. 0: it cannot.
func (p *Population) administers(authority, row int) administering {
	at := p.places[authority]
	flags := at.Objects.FlagsOf(row)
	if at.Objects.TraitsOf(row)&estate.NoSession != 0 {
		return 0
	}
	sure := surely
	if at.Objects.TraitsOf(row)&estate.OddShell != 0 {
		sure = maybe // whether it lets somebody work is not known
	}
	if flags&estate.Administrator != 0 {
		return sure
	}
	t := p.tiers[authority]
	if t == nil {
		t = govern.NewTiering(at, nil)
		p.tiers[authority] = t
	}
	switch tier, _ := t.Of(row); {
	case tier != govern.Privileged:
		return 0
	case at.Platform == setting.UnixMachine:
		return maybe
	}
	return surely
}

// locking says whether failed attempts lock an account until an administrator unlocks it.
type locking uint8

const (
	spared    locking = iota
	mayLock           // the lockout changes, and the evidence lacks the rest of it
	lastingly         // it does
)

// locks are the settings of which a lockout is made.
var locks = []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutAdministrator}

// lockable tells it of an account, with what changes make of its scope's settings; of
// estate.NotFound, whether all accounts of a place are held to it.
func lockable(scope *govern.Scope, row int, settings map[setting.ID]setting.Value) locking {
	read := func(id setting.ID) (v setting.Value, known bool) {
		if v, ok := settings[id]; ok {
			return v, true
		}
		e := scope.Settings[id] // not set: nothing locks yet, and Windows' own duration ends
		return e.Value, e.Missing == govern.Present || e.Missing == govern.NotSet || e.Missing == govern.NoSuch
	}
	threshold, known := read(setting.LockoutThreshold)
	duration, ends := read(setting.LockoutDuration)
	if head := scope.Authority.Head; scope.Authority.Platform == setting.UnixMachine && head != nil && settings[setting.LockoutAdministrator] == setting.On {
		// root was spared: from then on it is held to what holds for others.
		if _, locks := threshold.Number(); !locks {
			x, y := head.Settings[setting.LockoutThreshold], head.Settings[setting.LockoutDuration]
			threshold, duration, ends = x.Value, y.Value, y.Value != (setting.Value{})
		}
	}
	const builtin = 500
	administrators, _ := read(setting.LockoutAdministrator)
	_, locksAt := threshold.Number()
	switch {
	case known && !locksAt, ends && !duration.Is(setting.UntilAdmin),
		scope.Authority.Kind == estate.Domain && administrators == setting.Off && (row == estate.NotFound || scope.Authority.Objects.RID.At(row) == builtin):
		return spared
	case known && ends:
		return lastingly
	case slices.ContainsFunc(locks, func(id setting.ID) bool { _, changes := settings[id]; return changes }):
		return mayLock
	}
	return spared // nothing comes of what does not change
}

// ways are the administrators of a place, by how sure it is that they are: the days up
// to which one of them gets in, and whether one of them cannot be locked for good.
type ways struct {
	last   [surely + 1]int
	any    [surely + 1]bool
	spared [surely + 1]bool // or nothing says that it can
	safe   [surely + 1]bool // surely
}

func (w *ways) add(how administering, l life, locks locking) {
	for sure := how; sure >= maybe; sure-- {
		w.any[sure] = true
		w.spared[sure] = w.spared[sure] || locks != lastingly
		w.safe[sure] = w.safe[sure] || locks == spared
		if !l.unknown {
			w.last[sure] = max(w.last[sure], l.shut)
		}
	}
}

// played is one place while it is played.
type played struct {
	*Played
	from     *estate.Authority
	admins   []Fate
	services []Fate
	unknown  []Fate // of administrators and services
	others   int
}

func (p *played) fate(f Fate) {
	switch f.Outcome {
	case ShutOut:
		p.Shut.add(f.Day)
	case MustAct:
		p.Must.add(f.Day)
	default:
		p.Unknown++
	}
	switch {
	case f.Outcome == NotKnown && (f.Admin && expiries[p.from.Platform] != asks || f.Serves > ForPeople):
		p.unknown = append(p.unknown, f)
	case f.Serves > ForPeople:
		p.services = append(p.services, f)
	case f.Admin && f.Outcome == ShutOut:
		p.admins = append(p.admins, f)
	}
	if f.Outcome == ShutOut || f.Admin || f.Serves > ForPeople {
		p.Fates = append(p.Fates, f)
	} else if p.others++; p.others <= mostFates {
		p.Fates = append(p.Fates, f)
	}
}

// judge says which damage comes of it.
func (p *played) judge(w *[2]ways) {
	before, now := &w[0], &w[1]
	at := p.from.Place()
	nobody := false
	for _, sure := range []administering{surely, maybe} {
		if now.any[sure] && now.last[sure] < before.last[sure] && now.last[sure] <= Horizon {
			p.Harms, nobody = append(p.Harms, Harm{NoWayIn, at, p.admins, now.last[sure]}), true
			break
		}
	}
	for _, f := range p.admins {
		if f.Root && !nobody {
			p.Harms = append(p.Harms, Harm{RootOut, at, []Fate{f}, f.Day})
		}
	}
	for _, sure := range []administering{surely, maybe} {
		if now.any[sure] && before.spared[sure] && !now.spared[sure] {
			p.Harms = append(p.Harms, Harm{AllLockable, at, nil, 0})
			break
		}
		if now.any[sure] && before.safe[sure] && !now.safe[sure] {
			p.Harms = append(p.Harms, Harm{MayLockAll, at, nil, 0})
			break
		}
	}
	if len(p.services) > 0 {
		slices.SortFunc(p.services, compareFates)
		first := never
		for _, f := range p.services {
			first = min(first, f.Day)
		}
		p.Harms = append(p.Harms, Harm{ServiceOut, at, p.services, first})
	}
	if len(p.unknown) > 0 {
		slices.SortFunc(p.unknown, compareFates)
		p.Harms = append(p.Harms, Harm{Unforeseen, at, p.unknown, 0})
	}
}

// compareFates orders the worst first: who is shut out, the sooner, administrators
// before services before others.
func compareFates(x, y Fate) int {
	rank := func(f Fate) int {
		switch {
		case f.Root:
			return 0
		case f.Admin:
			return 1
		case f.Serves > ForPeople:
			return 2
		}
		return 3
	}
	return cmp.Or(int(y.Outcome)-int(x.Outcome), rank(x)-rank(y), x.Day-y.Day, strings.Compare(x.Place.Name, y.Place.Name),
		strings.Compare(x.Name, y.Name))
}

func (x *Played) sort() {
	slices.SortFunc(x.Fates, compareFates)
	slices.SortStableFunc(x.Harms, func(a, b Harm) int {
		return cmp.Or(int(a.Damage)-int(b.Damage), a.Day-b.Day, strings.Compare(a.Place.Name, b.Place.Name))
	})
	slices.SortFunc(x.Unlisted, estate.Place.Compare)
}

// serving says whether programs sign in as an account of a tier.
func serving(at *estate.Authority, row int, tier string) Serves {
	switch {
	case at.Objects.FlagsOf(row)&estate.ServiceName != 0 || tier == govern.Service:
		return Told
	case tier != govern.Standard && tier != govern.Privileged:
		return ForPeople // the engagement says what it is
	case at.Platform == setting.UnixMachine && at.Objects.RID.At(row) == 0:
		return ForPeople
	case hints.MatchString(at.Objects.Name.At(row)), at.Kind == estate.Domain && hintedUnit(at.Parents[at.Objects.Parent.At(row)]):
		return ByName
	case at.Platform == setting.UnixMachine && at.Objects.TraitsOf(row)&estate.NoSession != 0:
		return ByName // nobody works there
	}
	return ForPeople
}

// hints are words of which names of accounts for programs are made.
var hints = regexp.MustCompile(`(?i)(^|[^a-z])(svc|srv|svcs|service|services|daemon|batch|job|jobs|bot|app|sync|backup|cron|scan|scanner|monitor|monitoring|agent|deploy|sql|ldap|api)([^a-z]|$)`)

// hintedUnit reports whether a DN lies in a unit for such accounts.
func hintedUnit(dn string) bool {
	for rest := dn; rest != ""; {
		var first string
		if first, rest = estate.SplitDN(rest); strings.HasPrefix(strings.ToLower(first), "ou=") && hints.MatchString(estate.NameOf(first)) {
			return true
		}
	}
	return false
}

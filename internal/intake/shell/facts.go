package shell

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/redact"
)

// reading is a property that holds a setting.
type reading struct {
	name string
	id   setting.ID
	read func(text string) (setting.Value, error)
}

// readings are those of both kinds of policies.
var readings = []reading{
	{"MinPasswordLength", setting.MinLength, number},
	{"PasswordHistoryCount", setting.History, number},
	{"MaxPasswordAge", setting.MaxAge, span(setting.Never)},
	{"MinPasswordAge", setting.MinAge, span(setting.AtOnce)},
	{"ComplexityEnabled", setting.Complexity, toggle},
	{"ReversibleEncryptionEnabled", setting.Reversible, toggle},
	{"LockoutThreshold", setting.LockoutThreshold, threshold},
	{"LockoutDuration", setting.LockoutDuration, span(setting.UntilAdmin)},
	{"LockoutObservationWindow", setting.LockoutWindow, span(setting.AtOnce)},
}

// ridKeyDistribution is the last part of the SID of a domain's key distribution account.
const ridKeyDistribution = 502

// known are the properties that are read, in lower case, with what they can hold; of
// others nothing is kept.
var known = func() map[string]holds {
	all := map[string]holds{"precedence": wholeNumber, "objectguid": isGUID, "sid": isSID, "passwordlastset": isDate,
		"primarygroupid": wholeNumber, "admincount": wholeNumber, "objectclass": isWord, "groupcategory": isWord, "groupscope": isWord}
	for _, r := range readings {
		all[strings.ToLower(r.name)] = func(text string) bool {
			_, err := r.read(text)
			return err == nil || wholeNumber(text)
		}
	}
	for _, name := range ldif.SettingAttributes() { // of raw objects
		if can := all[strings.ToLower(name)]; can != nil {
			all[strings.ToLower(name)] = func(text string) bool { return can(text) || isRaw(text) }
		} else {
			all[strings.ToLower(name)] = isRaw
		}
	}
	all["msds-passwordsettingsprecedence"], all["objectsid"] = wholeNumber, isSID
	for _, s := range switches {
		all[s.name] = isTruth
	}
	for _, name := range []string{"msds-psoappliesto", "distinguishedname", "name", "appliesto", "samaccountname", "memberof", "primarygroup",
		"serviceprincipalnames", "userprincipalname", "displayname", "members", "member", "group", "groupname", "groupdn"} {
		all[name] = nil
	}
	return all
}()

// isRaw reports whether a text is what attributes of policies hold: a number or a truth value.
func isRaw(text string) bool { return rawNumber(text) || isTruth(text) }

func isTruth(text string) bool {
	_, ok := truth(text)
	return ok
}

// form makes a test of what a property can hold.
func formed(pattern string) holds { return regexp.MustCompile(pattern).MatchString }

var (
	rawNumber   = formed(`^-?\d{1,19}$`)
	wholeNumber = formed(`^-?\d{1,18}(?: ticks)?$`)
	isGUID      = formed(`^\{?[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}?$`)
	isSID       = formed(`^S(?:-\d+){2,17}$|^\d{1,3}$`)
	isDate      = formed(`^/Date\(-?\d+\)/$|^[0-9][-0-9/.:T ]+(?: ?[AaPp]\.?[Mm]\.?|Z|\.\d+Z?|[+-]\d\d:\d\d)?$`)
	isWord      = formed(`^(?:[A-Za-z-]{1,40}|\d)$`)
)

func number(text string) (setting.Value, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return setting.Value{}, fmt.Errorf("%s is not a whole number", redact.Quote([]byte(text)))
	}
	return setting.Number(n), nil
}

func threshold(text string) (setting.Value, error) {
	v, err := number(text)
	if err == nil && v == setting.Number(0) {
		return setting.Of(setting.Never), nil
	}
	return v, err
}

// truths are what switches are written as: by the shell in every language the same,
// but not by a workbook program that saved the file again.
var truths = map[string]setting.Value{"true": setting.On, "false": setting.Off,
	"wahr": setting.On, "falsch": setting.Off, "vrai": setting.On, "faux": setting.Off, "verdadero": setting.On, "falso": setting.Off,
	"vero": setting.On, "waar": setting.On, "onwaar": setting.Off, "verdadeiro": setting.On}

func truth(text string) (setting.Value, bool) {
	switch text { // as the shell writes them
	case "True":
		return setting.On, true
	case "False":
		return setting.Off, true
	}
	v, ok := truths[strings.ToLower(text)]
	return v, ok
}

func toggle(text string) (setting.Value, error) {
	if v, ok := truth(text); ok {
		return v, nil
	}
	return setting.Value{}, fmt.Errorf("%s is neither True nor False", redact.Quote([]byte(text)))
}

// spanForm is a span of time as the shell prints it: days, hours, minutes, seconds,
// and parts of one; xmlSpan as XML Schema writes it.
var (
	spanForm = regexp.MustCompile(`^(?:(\d+)\.)?(\d{1,2}):(\d{2}):(\d{2})(?:\.\d+)?$`)
	xmlSpan  = regexp.MustCompile(`^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)(?:\.\d+)?S)?)?$`)
)

// span reads one. Zero is the special: never, at once, or until an administrator.
func span(zero setting.Special) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		seconds := int64(0)
		if ticks, ok := strings.CutSuffix(text, " ticks"); ok {
			n, err := strconv.ParseInt(ticks, 10, 64)
			if err != nil || n < 0 {
				return setting.Value{}, fmt.Errorf("%s is not a span of time", redact.Quote([]byte(text)))
			}
			seconds = n / 10_000_000
		} else {
			m := spanForm.FindStringSubmatch(text)
			if m == nil && len(text) > 2 {
				m = xmlSpan.FindStringSubmatch(text)
			}
			if m == nil {
				return setting.Value{}, fmt.Errorf("%s is not a span of time such as 42.00:00:00", redact.Quote([]byte(text)))
			}
			for i, unit := range []int64{86400, 3600, 60, 1} {
				n, err := strconv.ParseInt("0"+m[i+1], 10, 32)
				if err != nil {
					return setting.Value{}, fmt.Errorf("%s is no span of time that can be", redact.Quote([]byte(text)))
				}
				seconds += n * unit
			}
		}
		if seconds == 0 {
			return setting.Of(zero), nil
		}
		return setting.Number(seconds), nil
	}
}

// domainOf remembers the domain of each parent: there are few.
func (r *reader) domainOf(dn string) string {
	_, parent := estate.SplitDN([]byte(dn))
	domain, ok := r.domains[string(parent)]
	if !ok {
		domain = estate.DomainOf(string(parent))
		r.domains[string(parent)] = domain
	}
	if len(dn) > 3 && strings.EqualFold(dn[:3], "DC=") {
		return estate.DomainOf(dn)
	}
	return domain
}

// take takes an object for what its properties say that it is.
func (r *reader) take(o *object) error {
	dn := o.get("distinguishedname").text
	switch {
	case dn == "":
		return r.wrong(o.line, "an object without DistinguishedName", "the object's place in its domain",
			"export again with that property, such as with Format-List *, or Select-Object *")
	case redact.IsMark(dn):
		return r.wrong(o.line, "a DistinguishedName that was struck out", "the object's place in its domain", "gather the export itself")
	}
	domain := r.domainOf(dn)
	if domain == "" {
		return r.wrong(o.line, fmt.Sprintf("the DN %q, which names no domain", dn), "a DN that ends in DC=…", "export it again")
	}
	// An export in ASCII writes ? for every other letter, so that two names may
	// have become one.
	if strings.Contains(dn, "?") {
		if before, twice := r.lossy[dn]; twice {
			return r.wrong(o.line, fmt.Sprintf("the DN %q, for the second time (line %d): letters were lost", dn, before),
				"a DN for each object", "export again with -Encoding UTF8")
		}
		r.lossy[dn] = o.line
	}
	at := estate.InDomain(domain)
	switch {
	case o.has("appliesto") || o.has("precedence") || o.has("msds-minimumpasswordlength") || o.has("msds-lockoutthreshold"):
		r.policy(at, o, dn)
	case o.has("minpasswordlength") || o.has("minpwdlength") || o.has("lockoutthreshold"):
		return r.head(at, o, dn)
	default:
		return r.account(at, o, dn)
	}
	return nil
}

func (r *reader) cite(p property) estate.Cite { return r.into.Cite(p.line, p.name, p.text) }

// settings takes what a policy sets.
func (r *reader) settings(into estate.Settings, platform setting.Platform, o *object) {
	if o.raw() {
		r.rawSettings(into, platform, o)
		return
	}
	for _, x := range readings {
		p := o.get(strings.ToLower(x.name))
		if p.text == "" {
			continue
		}
		if p.cut {
			r.into.Unreadable(into, x.id, r.cite(p), "a value that was cut")
		} else if v, err := x.read(p.text); err != nil {
			r.into.Unreadable(into, x.id, r.cite(p), err.Error())
		} else {
			r.into.Set(into, platform, x.id, v, r.cite(p))
		}
	}
}

// raw reports whether an object has the directory's own attributes, and not the properties
// that the module makes of them.
func (o *object) raw() bool {
	return o.has("minpwdlength") || o.has("msds-minimumpasswordlength") || o.has("msds-lockoutthreshold")
}

// rawSettings takes what attributes hold, by their own names.
func (r *reader) rawSettings(into estate.Settings, platform setting.Platform, o *object) {
	for i := range o.props {
		p := &o.props[i]
		if p.text == "" {
			continue
		}
		for _, h := range ldif.Attribute(p.name, p.text) {
			if h.Err != nil {
				r.into.Unreadable(into, h.Setting, r.cite(*p), h.Err.Error())
			} else {
				r.into.Set(into, platform, h.Setting, h.Value, r.cite(*p))
			}
		}
	}
}

// either returns the property, or the attribute that it is made of.
func (o *object) either(made, attribute string) property {
	if o.has(made) {
		return o.get(made)
	}
	return o.get(attribute)
}

func (r *reader) head(at estate.Place, o *object, dn string) error {
	a := r.into.At(at)
	if sid := o.get("objectsid").text; strings.HasPrefix(sid, "S-1-5-21-") {
		if a.SID != "" && a.SID != sid && !r.into.Older() {
			return r.wrong(o.line, "a second domain of the name "+at.Name+", with another SID", "one domain of a name in one engagement",
				"gather the other one into an engagement of its own")
		}
		a.SID = cmp.Or(a.SID, sid)
	}
	if a.Head == nil {
		a.Head = &estate.Policy{Name: "domain default", Origin: dn, Standing: estate.Enforced, Platform: setting.WindowsDomain,
			Settings: estate.Settings{}, Cite: r.cite(o.get("distinguishedname"))}
	}
	r.settings(a.Head.Settings, setting.WindowsDomain, o)
	// The module asks a web service that only Windows controllers have.
	r.into.Server(at, estate.Windows, r.cite(o.get("distinguishedname")))
	return nil
}

func (r *reader) policy(at estate.Place, o *object, dn string) {
	p := r.into.Override(at, []byte(dn), o.line)
	r.settings(p.Settings, p.Platform, o)
	if x := o.either("precedence", "msds-passwordsettingsprecedence"); x.text != "" {
		if n, err := strconv.ParseInt(x.text, 10, 64); err != nil || n < 1 {
			r.into.Damaged(r.cite(x), "a precedence of %s; a fine-grained policy has 1 or more", redact.Quote([]byte(x.text)))
		} else if p.Precedence == nil {
			p.Precedence = &n
		}
	}
	if x := o.get("objectguid"); x.text != "" && p.GUID == (estate.GUID{}) {
		if guid, err := estate.ParseGUID([]byte(x.text)); err == nil {
			p.GUID = guid
		}
	}
	x := o.either("appliesto", "msds-psoappliesto")
	for _, target := range x.list {
		r.into.Target(at, p, estate.Target{DN: target, Cite: estate.Cite{File: r.cite(x).File, Line: x.line, Where: x.name, Raw: target}})
	}
	if x.cut || !o.has("appliesto") && !o.has("msds-psoappliesto") {
		p.TargetsPart = true
		r.into.NotUnderstood(r.into.Cite(o.line, "AppliesTo", ""),
			"whom %s applies to was not printed in full: print it with Format-List after $FormatEnumerationLimit = -1, or as JSON", p.Name)
	}
}

// account takes an account, a computer, or a group.
func (r *reader) account(at estate.Place, o *object, dn string) error {
	rec := &estate.Record{DN: []byte(dn), Line: o.line, Name: []byte(o.get("samaccountname").text),
		Principal: []byte(o.get("userprincipalname").text), Display: []byte(o.get("displayname").text)}
	class := strings.ToLower(o.get("objectclass").text)
	switch {
	case class == "group" || o.has("groupscope"):
		rec.Class = estate.Group
		rec.GroupType = groupType(o)
	case class == "computer" || class == "" && strings.HasSuffix(string(rec.Name), "$") && ofMachines[o.get("primarygroupid").text]:
		rec.Class = estate.Computer
	case class == "" && strings.HasSuffix(string(rec.Name), "$") && o.get("primarygroupid").text == "":
		rec.Flags |= estate.Unclassified // people's names may end so, too
	case strings.Contains(class, "managedserviceaccount"):
		rec.Class = estate.Managed
	case class == "foreignsecurityprincipal" || class == "contact":
	default:
		rec.Class = estate.Account
	}
	if sid := o.get("sid").text; sid != "" {
		if i := strings.LastIndexByte(sid, '-'); i >= 0 {
			if n, err := strconv.ParseUint(sid[i+1:], 10, 32); err == nil {
				rec.RID = uint32(n)
			}
		}
		if strings.HasPrefix(sid, "S-1-5-32-") {
			rec.Flags |= estate.BuiltinDomain
		} else if rec.RID == ridKeyDistribution {
			rec.Flags |= estate.NeverOverride // its keys are the domain's own
		}
	}
	r.flags(rec, o)
	if p := o.get("memberof"); p.isList {
		for _, group := range p.list {
			rec.Holders, rec.HolderLines = append(rec.Holders, []byte(group)), append(rec.HolderLines, uint32(p.line))
		}
		if p.cut {
			r.once(r.cite(p), "the groups of accounts were not printed in full, first those of this one")
			rec.Flags |= estate.CutShort
		}
	}
	row := r.into.Object(at, rec)
	if rec.Class == estate.Group {
		r.members(at, row, o)
	}
	if o.listed() {
		return r.ofGroup(at, o, dn)
	}
	return nil
}

// ofMachines are the primary groups of computers and controllers (MS-ADTS 6.1.1.6).
var ofMachines = map[string]bool{"515": true, "516": true, "521": true}

// groupTypes are what the shell calls the bits of groupType (MS-ADTS 2.2.12); JSON
// has numbers.
var (
	scopes     = map[string]uint32{"global": 2, "domainlocal": 4, "universal": 8, "1": 2, "0": 4, "2": 8}
	categories = map[string]uint32{"security": 1 << 31, "1": 1 << 31, "distribution": 0, "0": 0}
)

// groupType is a group's; 0 where it was not exported.
func groupType(o *object) uint32 {
	scope, ok := scopes[strings.ToLower(o.get("groupscope").text)]
	category, both := categories[strings.ToLower(o.get("groupcategory").text)]
	if !ok || !both {
		return 0
	}
	return scope | category
}

// members takes a group's own list. That all of them are empty proves nothing: the
// shell prints so what it was not asked to fetch.
func (r *reader) members(at estate.Place, group uint32, o *object) {
	for _, name := range []string{"members", "member"} {
		p := o.get(name)
		for _, dn := range p.list {
			r.into.Member(at, group, []byte(dn), p.line)
		}
		if p.cut {
			r.once(r.cite(p), "the members of groups were not printed in full, first those of this one")
			r.into.MemberRange(at, group, 0, max(len(p.list)-1, 0))
		}
	}
}

// listed reports whether an object is a row of a group's members, which hold less
// than accounts do.
func (o *object) listed() bool {
	return o.has("objectclass") && !o.has("enabled") && !o.has("passwordneverexpires") && !o.has("groupscope") && !o.has("memberof")
}

// ofGroup takes a row of a group's members. They do not name the group: a column
// does that somebody added, or else the file's name.
func (r *reader) ofGroup(at estate.Place, o *object, dn string) error {
	group := groupOf(r.path)
	if ofPolicy.MatchString(intake.FileName(r.path)) {
		group = ""
	}
	for _, name := range []string{"groupdn", "group", "groupname"} {
		if x := o.get(name); x.text != "" {
			group = x.text
			break
		}
	}
	if group == "" {
		return r.wrong(0, "the accounts and groups that a fine-grained policy names, by the file's name", "the policy itself, which says whom it names",
			"export Get-ADFineGrainedPasswordPolicy -Filter *, with AppliesTo; or members of a group as members-of-GROUP.csv")
	}
	r.into.MemberOf(at, group, []byte(dn), o.line)
	return nil
}

// ofPolicy are files' names of the subjects of a policy: their rows look as a group's members do.
var ofPolicy = regexp.MustCompile(`(?i)policy-?_?subject|subjects?-?_?of|pso`)

// groupOf is the group that a file of members is named after.
func groupOf(file string) string {
	name := intake.FileName(file)
	name = strings.TrimSuffix(name, path.Ext(name))
	for _, before := range []string{"members-of-", "members_of_", "members of ", "members-", "members_", "group-", "group_"} {
		if len(name) > len(before) && strings.EqualFold(name[:len(before)], before) {
			name = name[len(before):]
		}
	}
	for _, after := range []string{"-members", "_members", " members", ".members"} {
		if len(name) > len(after) && strings.EqualFold(name[len(name)-len(after):], after) {
			name = name[:len(name)-len(after)]
		}
	}
	return name
}

func speaks(file string) string { return strings.ToLower(groupOf(file)) }

// switches are properties that are flags of accounts. Those that must be there are
// so that nothing is taken for absent which was not exported.
var switches = []struct {
	name string
	flag estate.Flag
	off  bool // the flag is set where the property is False
	must bool
}{
	{"enabled", estate.Disabled, true, true},
	{"passwordneverexpires", estate.NeverExpires, false, true},
	{"passwordnotrequired", estate.NoneRequired, false, true},
	{"allowreversiblepasswordencryption", estate.Reversible, false, false},
	{"smartcardlogonrequired", estate.SmartCard, false, false},
	{"lockedout", estate.LockedNow, false, false},
}

// flags takes the switches. Where one that matters was not exported, or is neither
// True nor False, what controls the account is not known.
func (r *reader) flags(rec *estate.Record, o *object) {
	for _, s := range switches {
		p := o.get(s.name)
		v, told := truth(p.text)
		switch {
		case !told && p.text != "":
			r.once(r.cite(p), "%s of accounts is neither True nor False, first here", p.name)
			fallthrough
		case !told:
			if s.must && rec.Class == estate.Account {
				rec.Flags |= estate.NoControl
			}
		case (v == setting.On) != s.off:
			rec.Flags |= s.flag
		}
	}
	if n, err := strconv.ParseUint(o.get("primarygroupid").text, 10, 32); err == nil {
		rec.Primary = uint32(n)
	} else if rec.Class == estate.Account {
		rec.Flags |= estate.NoPrimary
	}
	if o.get("admincount").text == "1" {
		rec.Flags |= estate.AdminCount
	}
	if p := o.get("serviceprincipalnames"); len(p.list) > 0 || p.cut || !p.isList && p.text != "" {
		// Our own request asks how many there are.
		if n, err := strconv.Atoi(p.text); err != nil || n > 0 || p.isList {
			rec.Flags |= estate.ServiceName
		}
	}
	if p := o.get("passwordlastset"); p.text != "" {
		if at, ok := dateOf(p.text); ok {
			rec.PwdSet = at
		} else {
			r.once(r.cite(p), "the days on which passwords were set are written so that day and month cannot be told apart, first here: "+
				"they do not count")
		}
	}
}

// days are forms of dates in which day and month cannot be taken for each other.
var days = []string{"2006-01-02 15:04:05", "2.1.2006 15:04:05", time.RFC3339, "2006-01-02T15:04:05", "2006/01/02 15:04:05",
	"2.1.2006 15:04"}

// slashed is a date of which either number may be the day.
var slashed = regexp.MustCompile(`^(\d{1,2})[/-](\d{1,2})[/-](\d{4}) `)

// ticked is a date as the older shell's JSON has it: milliseconds.
var ticked = regexp.MustCompile(`^/Date\((\d+)\)/$`)

// dateOf reads a date, in Unix seconds.
func dateOf(text string) (uint32, bool) {
	seconds := int64(0)
	if text[0] < '0' || text[0] > '9' {
		m := ticked.FindStringSubmatch(text)
		if m == nil {
			return 0, false
		}
		n, _ := strconv.ParseInt(m[1], 10, 64)
		seconds = n / 1000
	} else if strings.IndexByte("/-", text[min(1, len(text)-1)]) >= 0 || strings.IndexByte("/-", text[min(2, len(text)-1)]) >= 0 {
		m := slashed.FindStringSubmatch(text)
		if m == nil {
			return 0, false
		}
		first, _ := strconv.Atoi(m[1])
		second, _ := strconv.Atoi(m[2])
		year, _ := strconv.Atoi(m[3])
		switch {
		case first > 12 && second <= 12:
			first, second = second, first
		case second > 12 && first <= 12, first == second:
		default:
			return 0, false
		}
		seconds = time.Date(year, time.Month(first), second, 12, 0, 0, 0, time.UTC).Unix()
	} else {
		for _, layout := range days {
			if t, err := time.Parse(layout, text); err == nil {
				seconds = t.Unix()
				break
			}
		}
	}
	if seconds <= 0 || seconds >= 1<<32 {
		return 0, false
	}
	return uint32(seconds), true
}

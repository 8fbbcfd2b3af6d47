// Package fieldmap reads the exports of cloud tenants, in JSON or CSV, by a
// field map: a YAML file that says how to recognise an export, where each
// setting stands, and where the accounts, groups and policies are. A further
// product is one more YAML file. docs/field-maps.md describes the format.
package fieldmap

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/theory/jsonpath"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
)

// Map is one field map.
type Map struct {
	ID       strictyaml.Text `yaml:"id"`
	Title    string          `yaml:"title"`
	Follows  string          `yaml:"follows"` // the public document that describes the exports
	Platform strictyaml.Text `yaml:"platform"`
	Name     Picks           `yaml:"name"`
	Exports  []Export        `yaml:"exports"`
	Settings []Reading       `yaml:"settings"`
	Fixed    []Fixed         `yaml:"fixed"`
	// Understood are objects that set something together: a field that is not known leaves all of
	// it open.
	Understood []Understood `yaml:"understood"`
	Banned     *Pick        `yaml:"banned"` // the organisation's own list of banned words, separated by tabs or line ends
	Accounts   []Accounts   `yaml:"accounts"`
	Groups     *Groups      `yaml:"groups"`
	Policies   *Policies    `yaml:"policies"`
	Domains    *Domains     `yaml:"domains"`
	Units      *Units       `yaml:"units"`
	Apart      []Apart      `yaml:"apart"` // accounts that the tenant's own settings do not govern
	Roles      *Roles       `yaml:"roles"`
	Sync       []Way        `yaml:"synchronisation"`
	SignOn     *SignOn      `yaml:"sign-on"`
	Rollout    *Rollout     `yaml:"rollout"`
	Factors    []Factor     `yaml:"second-factor"`
	Cut        []Condition  `yaml:"cut"` // a reply goes on in another
	Live       *Live        `yaml:"live"`
	Changes    []Change     `yaml:"changes"` // requests that change what exports show

	path    string
	exports map[string]*Export
	spelled map[string]string // the names that it reads, by their lower case
}

// Export is one kind of file that the product exports.
type Export struct {
	ID   strictyaml.Text   `yaml:"id"`
	JSON []Path            `yaml:"json"` // each must lead to something
	CSV  []strictyaml.Text `yaml:"csv"`  // columns that must be there
	File strictyaml.Text   `yaml:"file"` // pattern of the file's name
	// Empty recognises a reply in which nothing is set: an empty list.
	Empty *Nothing `yaml:"empty"`
	// Text recognises the words by which a command says that nothing is set.
	Text     strictyaml.Text `yaml:"text"`
	Complete *Complete       `yaml:"complete"`
	// Limits are how many elements the product gives in a reply at most. A last page of exactly so
	// many may go on in one that is not there, where no reply says so itself.
	Limits []int `yaml:"limits"`

	text  *regexp.Regexp
	wants [][]string // names, in lower case: of each list one at least is in such a document
}

// Complete says what every element of an export has as the product writes it. One
// that was cut down on its way is read as a list of which a part is lacking.
type Complete struct {
	Each Path              `yaml:"each"`
	Has  []strictyaml.Text `yaml:"has"` // a.b; a?.b: where a is there; a[*].b: of each of a list, where it is there

	has [][]part
}

// part is a step to a field of an element.
type part struct {
	name string
	list bool
	may  bool // it may be left out
}

var partForm = regexp.MustCompile(`^([A-Za-z_]\w*)(\[\*\]|\?)?$`)

// Nothing recognises an empty list, by a field beside it or by its file's name.
type Nothing struct {
	At       Path            `yaml:"at"`
	Contains strictyaml.Text `yaml:"contains"`
	File     strictyaml.Text `yaml:"file"`
}

// Path is a JSONPath (RFC 9535), or the bare name of a field or column.
type Path struct {
	text strictyaml.Text
	path *route
}

// Pick is a value in an export.
type Pick struct {
	Export strictyaml.Text `yaml:"export"`
	At     Path            `yaml:"at"`
	Match  strictyaml.Text `yaml:"match"` // its first group is taken
	Whole  bool            `yaml:"whole"` // of a text: match stands for the path

	match *regexp.Regexp
}

// Picks are one or several.
type Picks []Pick

// UnmarshalYAML reads one pick or a list of them.
func (p *Picks) UnmarshalYAML(node ast.Node) error {
	if _, many := node.(*ast.SequenceNode); many {
		return yaml.NodeToValue(node, (*[]Pick)(p), yaml.Strict())
	}
	*p = make(Picks, 1)
	return yaml.NodeToValue(node, &(*p)[0], yaml.Strict())
}

// Default is what the platform's document says of a field that an export does
// not hold, though it holds all there is.
type Default struct {
	Value  strictyaml.Text `yaml:"value"`
	Or     strictyaml.Text `yaml:"or"` // which of the two it is, the export does not tell
	Source string          `yaml:"source"`

	value, or setting.Value
}

// Domains says where the settings of the domains in accounts' names stand.
type Domains struct {
	Export   strictyaml.Text `yaml:"export"`
	Each     Path            `yaml:"each"`
	Name     Path            `yaml:"name"`
	Settings []Reading       `yaml:"settings"`
}

// Units says where units stand, and where the policies for them: each setting of
// an account is that of the nearest unit above it which has one.
type Units struct {
	Export strictyaml.Text `yaml:"export"`
	Each   Path            `yaml:"each"`
	ID     Path            `yaml:"id"`
	Path   Path            `yaml:"path"`
	In     Path            `yaml:"in"` // of an account: the path of its unit
	// Of are the policies: whom they are for, and what they set.
	Of UnitPolicies `yaml:"policies"`
}

// UnitPolicies are settings given to units.
type UnitPolicies struct {
	Export strictyaml.Text `yaml:"export"`
	Each   Path            `yaml:"each"`
	Unit   Path            `yaml:"unit"`  // id of the unit; not there: the root
	Open   Path            `yaml:"open"`  // if there, it is for others than a unit
	Later  []Condition     `yaml:"later"` // what others go before
	// Understood are other fields that are known. Whatever else a policy says leaves open whom it is for.
	Understood []Neutral `yaml:"understood"`
	Settings   []Reading `yaml:"settings"`
}

// Apart are accounts under rules of their own.
type Apart struct {
	Name     string      `yaml:"name"`
	Only     []Condition `yaml:"only"` // on an account
	Settings []Fixed     `yaml:"settings"`
}

// Roles says where roles stand whose holders are privileged.
type Roles struct {
	Export  strictyaml.Text `yaml:"export"`
	Each    Path            `yaml:"each"`
	Only    []Condition     `yaml:"only"`
	ID      Path            `yaml:"id"`
	Members Path            `yaml:"members"` // ids of accounts and groups
	Limit   int             `yaml:"limit"`   // a list that is as long as that may have been cut
}

// SignOn says for which units and groups sign-ins go to another place.
type SignOn struct {
	Export strictyaml.Text `yaml:"export"`
	Each   Path            `yaml:"each"`
	Unit   Path            `yaml:"unit"`  // id of a unit; the nearest one above an account counts
	Group  Path            `yaml:"group"` // id of a group, which goes before units; who is in it may not be known
	Own    Condition       `yaml:"own"`   // the place itself checks the password all the same
	// Spared accounts can sign in at the place itself, whatever is assigned.
	Spared []Condition `yaml:"spared"`
	// Understood are other fields that are known. Whatever else is said leaves all of it open.
	Understood []Neutral `yaml:"understood"`
}

// Rollout says which accounts of federated domains the tenant checks by itself already.
type Rollout struct {
	Export  strictyaml.Text `yaml:"export"`
	Each    Path            `yaml:"each"`
	Only    []Condition     `yaml:"only"`
	All     *Condition      `yaml:"all"`
	Members Path            `yaml:"members"` // ids of accounts and groups
	Limit   int             `yaml:"limit"`   // a list that is as long as that may have been cut
}

// Way says by what synchronised accounts are known to be checked.
type Way struct {
	Way    strictyaml.Text `yaml:"way"`
	Export strictyaml.Text `yaml:"export"`
	At     Path            `yaml:"at"`
	Is     strictyaml.Text `yaml:"is"`
	// Needs are exports without which it is not known, for they might say otherwise.
	Needs []strictyaml.Text `yaml:"needs"`
}

// Factor says who is asked for a second factor.
type Factor struct {
	Export strictyaml.Text `yaml:"export"`
	// Everybody is at every sign-in, where that holds of the export.
	Everybody *Condition `yaml:"everybody"`
	// Sometimes: where that holds, everybody is where the service sees a reason, and at every
	// sign-in who holds one of the roles of these ids.
	Sometimes *Condition        `yaml:"sometimes"`
	Always    []strictyaml.Text `yaml:"always"`
	// Or whom each of these policies names.
	Each     Path        `yaml:"each"`
	Name     Path        `yaml:"name"`
	Only     []Condition `yaml:"only"`
	All      *Condition  `yaml:"all"` // for everybody
	Users    Path        `yaml:"users"`
	Groups   Path        `yaml:"groups"`
	Roles    Path        `yaml:"roles"`
	NoUsers  Path        `yaml:"not-users"`
	NoGroups Path        `yaml:"not-groups"`
	NoRoles  Path        `yaml:"not-roles"`
	Guests   *Condition  `yaml:"guests"` // for all guests
	NoGuests *Condition  `yaml:"not-guests"`
	// Open are conditions under which it does not ask: then it is not known
	// whether a given sign-in is asked.
	Open []Condition `yaml:"open"`
	// Understood are the other fields of such a policy that are known, with the values that
	// limit nothing; without values any does. Whatever else a policy says, and says something,
	// leaves open whether it asks.
	Understood []Neutral `yaml:"understood"`
}

// Understood is an object of an export, and its fields that are known beside those that settings
// are read from.
type Understood struct {
	Export strictyaml.Text `yaml:"export"`
	At     Path            `yaml:"at"`
	Fields []Neutral       `yaml:"fields"` // by their paths in the export
}

// Neutral is a field, and the values of it that limit nothing; none: whatever it says.
type Neutral struct {
	At    Path              `yaml:"at"`
	Is    []strictyaml.Text `yaml:"is"`
	Match *Pattern          `yaml:"match"` // or a pattern of the whole text
}

// Pattern is a regular expression.
type Pattern struct{ *regexp.Regexp }

// UnmarshalYAML reads one.
func (p *Pattern) UnmarshalYAML(unmarshal func(any) error) error {
	var text strictyaml.Text
	if err := unmarshal(&text); err != nil {
		return err
	}
	re, err := regexp.Compile(`^(?:` + text.Value + `)$`)
	if err != nil {
		return text.Errorf("", "%q is no regular expression", text.Value)
	}
	p.Regexp = re
	return nil
}

// neutral reports whether a text limits nothing.
func (n *Neutral) neutral(text string) bool {
	return n.Match != nil && n.Match.MatchString(text) || slices.Contains(textsOf(n.Is), text)
}

// Reading says where a setting stands and how to read it.
type Reading struct {
	Setting strictyaml.Text            `yaml:"setting"`
	Export  strictyaml.Text            `yaml:"export"`
	At      Path                       `yaml:"at"`
	Unit    strictyaml.Text            `yaml:"unit"`
	Words   map[string]strictyaml.Text `yaml:"words"` // as exported, to our value
	// Inherit are words by which it says that what stands above counts: the unit's parent, or the
	// default.
	Inherit []strictyaml.Text `yaml:"inherit"`
	When    []When            `yaml:"when"` // what goes before it
	Default *Default          `yaml:"default"`
	Match   strictyaml.Text   `yaml:"match"` // of a text: the first group is the value, or the match where there is none
	Only    []Condition       `yaml:"only"`  // of elements that are not so, such as other rows, nothing is read
	Least   bool              `yaml:"least"` // of several values the weakest counts
	Most    bool              `yaml:"most"`  // of several values the strongest counts
	// Shown: the interface answers the field wherever it was asked for it, if only by null. One
	// that is not there was not asked for, and proves nothing.
	Shown bool `yaml:"shown"`

	row    *setting.Setting
	values map[string]setting.Value
	match  *regexp.Regexp
	holder *route // of a field that is shown: what has it; nil: the element itself
}

// When gives a setting its value if another field has a certain one.
type When struct {
	At    Path            `yaml:"at"`
	Is    strictyaml.Text `yaml:"is"`
	Value strictyaml.Text `yaml:"value"`
	// Unless: where that holds, the field decides nothing.
	Unless *Condition `yaml:"unless"`

	value setting.Value
}

// Fixed is a setting that the platform fixes for everybody.
type Fixed struct {
	Setting strictyaml.Text `yaml:"setting"`
	Value   strictyaml.Text `yaml:"value"`
	Source  string          `yaml:"source"`

	row   *setting.Setting
	value setting.Value
}

// Accounts says where accounts stand.
type Accounts struct {
	Export    strictyaml.Text `yaml:"export"`
	Each      Path            `yaml:"each"`
	ID        Path            `yaml:"id"` // by which groups name them; else the name
	Name      Path            `yaml:"name"`
	Principal Path            `yaml:"principal"`
	Display   Path            `yaml:"display"`
	Changed   Path            `yaml:"password-set"` // RFC 3339
	Used      *Used           `yaml:"last-used"`    // when the password was last used
	Domain    Path            `yaml:"source-domain"`
	Account   Path            `yaml:"source-account"`
	SID       Path            `yaml:"source-sid"`
	Federated *Pick           `yaml:"federated"` // names of domains whose accounts sign in elsewhere
	Domains   *Pick           `yaml:"domains"`   // names of all domains; of others it is not known where their accounts sign in
	Only      []Condition     `yaml:"only"`      // others are no accounts
	Groups    Path            `yaml:"groups"`    // ids of the groups that it is in
	// Home is the field that tells who checks the password, with the words that are known. Where
	// it says something else, or nothing, that is open.
	Home     *Neutral   `yaml:"home"`
	Joins    bool       `yaml:"joins"`    // it adds to accounts of another export
	Settings []Reading  `yaml:"settings"` // of its own, which go before the tenant\'s
	Flags    []FlagRule `yaml:"flags"`
}

// Used says where the time stands at which an account's password was last
// used. A word in its place says that it never was.
type Used struct {
	At   Path        `yaml:"at"`   // RFC 3339
	Only []Condition `yaml:"only"` // of others it does not count
}

// Condition is a test of a field.
type Condition struct {
	At       Path              `yaml:"at"`
	Is       []strictyaml.Text `yaml:"is"`
	Not      []strictyaml.Text `yaml:"not"`
	Contains strictyaml.Text   `yaml:"contains"`
	Lacks    strictyaml.Text   `yaml:"lacks"`  // the opposite; a field that is not there lacks it
	Absent   *bool             `yaml:"absent"` // whether nothing is there
}

// FlagRule sets a flag of an account where a condition holds.
type FlagRule struct {
	Flag      strictyaml.Text `yaml:"flag"`
	Condition `yaml:",inline"`
	Only      []Condition `yaml:"only"`  // and these
	Shown     bool        `yaml:"shown"` // a complete export has the field: where no account has it, the flag is not known

	flag estate.Flag
}

// Groups says where groups stand, and who is in them.
type Groups struct {
	Export    strictyaml.Text `yaml:"export"`
	Each      Path            `yaml:"each"`
	ID        Path            `yaml:"id"`
	Name      Path            `yaml:"name"`
	Members   Path            `yaml:"members"`   // ids of accounts, within a group
	Parents   Path            `yaml:"parents"`   // ids of the groups that hold it
	Limit     int             `yaml:"limit"`     // a list that is as long as that may have been cut
	Everybody []Condition     `yaml:"everybody"` // a group that holds every account
	In        *Memberships    `yaml:"in"`        // where members are exported group by group
}

// Memberships are exports of one group's members each.
type Memberships struct {
	Export strictyaml.Text `yaml:"export"`
	Group  strictyaml.Text `yaml:"group"` // pattern of the file's name; its first group is the group's id
	Each   Path            `yaml:"each"`
	ID     Path            `yaml:"id"`

	group *regexp.Regexp
}

// Policies says where prioritised policies stand.
type Policies struct {
	Export     strictyaml.Text            `yaml:"export"`
	Each       Path                       `yaml:"each"`
	Name       Path                       `yaml:"name"`
	Precedence Path                       `yaml:"precedence"`
	Groups     Path                       `yaml:"groups"` // ids; none: everybody
	Users      Path                       `yaml:"users"`
	NoGroups   Path                       `yaml:"not-groups"`
	NoUsers    Path                       `yaml:"not-users"`
	From       Path                       `yaml:"from"`       // where the accounts come from that it is for
	Sources    map[string]strictyaml.Text `yaml:"sources"`    // its words: native, from-domain, elsewhere, any
	Conditions Path                       `yaml:"conditions"` // an object; what it holds beside the paths above is not modelled
	Last       []Condition                `yaml:"last"`       // it goes after all others
	// Rows: elements of one name are one policy, such as rows of a table, each of which sets
	// something.
	Rows bool `yaml:"rows"`
	// Strictest: all policies that reach an account govern it, and of each setting the strictest counts.
	Strictest  bool        `yaml:"strictest"`
	Only       []Condition `yaml:"only"`
	Understood []Neutral   `yaml:"understood"` // other fields that are known; whatever else a policy says leaves open whom it is for
	Settings   []Reading   `yaml:"settings"`
}

// Live says how the product is asked for its exports.
type Live struct {
	Token    Token     `yaml:"token"`
	Hosts    []Host    `yaml:"hosts"`  // of other interfaces than the one that is named
	Next     Path      `yaml:"next"`   // address of the next page, in the reply
	Page     string    `yaml:"page"`   // parameter that it goes into, where it is no address
	Header   bool      `yaml:"header"` // the next page is named by a Link header (RFC 8288)
	Requests []Request `yaml:"requests"`
}

// Token says where and how a token is to be had.
type Token struct {
	Host  strictyaml.Text   `yaml:"host"` // by the name among hosts; empty: the one that is named
	Path  string            `yaml:"path"`
	Scope string            `yaml:"scope"` // one that begins with a dot stands behind the address of the host
	Auth  string            `yaml:"auth"`  // how a token given by hand is sent; Bearer unless said otherwise
	Form  map[string]string `yaml:"form"`
	By    []strictyaml.Text `yaml:"by"` // secret, assertion, grant; none: secret
}

// Host is where another interface of the product is.
type Host struct {
	ID      strictyaml.Text `yaml:"id"`
	Address strictyaml.Text `yaml:"address"` // https://…
}

// Request is one question.
type Request struct {
	Export strictyaml.Text `yaml:"export"`
	Host   strictyaml.Text `yaml:"host"` // by the name among hosts; empty: the one that is named
	Path   string          `yaml:"path"`
	Each   *Pick           `yaml:"each"`     // asked once for each value, put in place of {}
	May    bool            `yaml:"optional"` // an answer "not allowed" or "not there" is no error
}

// UnmarshalYAML reads a path. A bare name is that of a field at the top.
func (p *Path) UnmarshalYAML(unmarshal func(any) error) error {
	if err := unmarshal(&p.text); err != nil {
		return err
	}
	if err := p.parse(p.text.Value); err != nil {
		return p.text.Errorf("", "%v", err)
	}
	return nil
}

// Bounds of a path: what looks through everything, in everything, takes for ever.
const (
	mostDescents = 1
	mostPath     = 1000
)

func (p *Path) parse(text string) error {
	if !strings.HasPrefix(text, "$") {
		text = fmt.Sprintf("$[%q]", text)
	}
	if n := strings.Count(text, ".."); n > mostDescents || len(text) > mostPath {
		return fmt.Errorf("%.60q: a path of %d characters that looks through everything (..) %d times; expected at most %d and %d, "+
			"since each takes as long again", p.text.Value, len(text), n, mostPath, mostDescents)
	}
	parsed, err := jsonpath.Parse(text)
	if err != nil {
		return fmt.Errorf("%q is no JSONPath (RFC 9535): %v", p.text.Value, err)
	}
	p.path = routeOf(parsed)
	return nil
}

// Parse reads a field map. Errors name path, line and column.
func Parse(name string, data []byte) (*Map, error) {
	m := &Map{path: name}
	if err := strictyaml.Unmarshal(name, data, m); err != nil {
		return nil, err
	}
	m.spell()
	return m, m.check()
}

// Names of what a map can set of an account, besides the flags that pages
// show.
const disabled = "disabled"

// check reports all mistakes of a map, but for those without which nothing else can be told.
func (m *Map) check() error {
	if m.ID.Value == "" || m.Title == "" || len(m.Exports) == 0 {
		return m.ID.Errorf(m.path, "a field map needs id, title, platform and exports")
	}
	platform := setting.Platform(m.Platform.Value)
	if !slices.Contains(setting.Places, platform) && platform != setting.Other {
		return m.Platform.Errorf(m.path, "unknown platform %q; known are %v and %s", platform, setting.Places, setting.Other)
	}
	m.exports = map[string]*Export{}
	var all []error
	add := func(err error) { all = append(all, err) }
	for i := range m.Exports {
		add(m.checkExport(&m.Exports[i]))
	}
	add(m.checkReadings(m.Settings, true))
	add(m.checkFixed(m.Fixed))
	for _, u := range m.Understood {
		add(m.known(u.Export))
		if u.At.path == nil {
			add(u.Export.Errorf(m.path, "understood has no path (at)"))
		}
	}
	for i := range m.Accounts {
		add(m.checkAccounts(&m.Accounts[i]))
	}
	add(m.checkGroups())
	if p := m.Policies; p != nil {
		add(m.known(p.Export))
		add(m.checkReadings(p.Settings, false))
	}
	add(m.checkSections())
	add(m.checkLive())
	add(m.checkPick(m.Banned))
	for i := range m.Name {
		add(m.checkPick(&m.Name[i]))
	}
	for i := range m.Changes {
		c := &m.Changes[i]
		add(m.known(c.Export))
		if c.Method == "" || c.Path == "" || c.Element.path == nil {
			add(c.Export.Errorf(m.path, "a change of %s needs method, path and element", c.Export.Value))
		}
	}
	return errors.Join(all...)
}

func (m *Map) checkExport(x *Export) error {
	if m.exports[x.ID.Value] != nil {
		return x.ID.Errorf(m.path, "a second export %q", x.ID.Value)
	}
	m.exports[x.ID.Value] = x
	if len(x.JSON) == 0 && len(x.CSV) == 0 {
		return x.ID.Errorf(m.path, "export %q says neither json nor csv: it could not be recognised", x.ID.Value)
	}
	if x.Text.Value != "" {
		var err error
		if x.text, err = regexp.Compile(x.Text.Value); err != nil {
			return x.Text.Errorf(m.path, "text %q is no regular expression", x.Text.Value)
		}
	}
	if c := x.Complete; c != nil {
		for _, has := range c.Has {
			var steps []part
			for _, step := range strings.Split(has.Value, ".") {
				form := partForm.FindStringSubmatch(step)
				if form == nil || c.Each.path == nil {
					return has.Errorf(m.path, "complete wants each, and has with fields like a.b, a?.b, or a[*].b for a list; %q is none", has.Value)
				}
				steps = append(steps, part{form[1], form[2] == "[*]", form[2] != ""})
			}
			c.has = append(c.has, steps)
		}
	}
	if x.Empty != nil && x.Empty.At.path == nil && x.Empty.File.Value == "" {
		return x.ID.Errorf(m.path, "empty of %q needs a field (at, contains) or a file's name (file): an empty list alone could be anything",
			x.ID.Value)
	}
	if _, err := path.Match(x.File.Value, ""); err != nil {
		return x.File.Errorf(m.path, "file %q is no pattern", x.File.Value)
	}
	return nil
}

func (m *Map) checkGroups() error {
	g := m.Groups
	if g == nil {
		return nil
	}
	if g.In == nil {
		return m.known(g.Export)
	}
	var err error
	if g.In.group, err = regexp.Compile(g.In.Group.Value); err != nil || g.In.group.NumSubexp() < 1 {
		return g.In.Group.Errorf(m.path, "group %q: a regular expression with one group is expected, for the group's id in the file's name",
			g.In.Group.Value)
	}
	return errors.Join(m.known(g.Export), m.known(g.In.Export))
}

func (m *Map) checkLive() error {
	if m.Live == nil {
		return nil
	}
	all := []error{m.checkHosts()}
	for i := range m.Live.Requests {
		r := &m.Live.Requests[i]
		all = append(all, m.known(r.Export), m.knownHost(r.Host), m.checkPick(r.Each))
	}
	return errors.Join(all...)
}

// checkHosts checks how the product's interfaces and its token are had.
func (m *Map) checkHosts() error {
	seen := map[string]bool{}
	for _, h := range m.Live.Hosts {
		u, err := url.Parse(h.Address.Value)
		switch {
		case h.ID.Value == "" || seen[h.ID.Value]:
			return h.ID.Errorf(m.path, "live, hosts: %q; expected an id that no other has", h.ID.Value)
		case err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil:
			return h.Address.Errorf(m.path, "live, the host %s: %q; expected https://HOST", h.ID.Value, h.Address.Value)
		}
		seen[h.ID.Value] = true
	}
	for _, by := range m.Live.Token.By {
		if !slices.Contains(TokenWays, by.Value) {
			return by.Errorf(m.path, "live, token: by %q; expected %s", by.Value, strings.Join(TokenWays, ", "))
		}
	}
	return m.knownHost(m.Live.Token.Host)
}

// TokenWays are the ways in which a map can say that a token is had.
var TokenWays = []string{"secret", "assertion", "grant"}

// knownHost reports whether a host is one of the map's, or the one that is named.
func (m *Map) knownHost(id strictyaml.Text) error {
	if id.Value == "" || slices.ContainsFunc(m.Live.Hosts, func(h Host) bool { return h.ID.Value == id.Value }) {
		return nil
	}
	return id.Errorf(m.path, "live: the host %q is not among hosts", id.Value)
}

func (m *Map) checkFixed(all []Fixed) error {
	var wrong []error
	for i := range all {
		f := &all[i]
		var err error
		if f.row, f.value, err = m.valueOf(f.Setting, f.Value); err == nil && f.Source == "" {
			err = f.Setting.Errorf(m.path, "a fixed setting needs its source: the document that says so")
		}
		wrong = append(wrong, err)
	}
	return errors.Join(wrong...)
}

// ways are how the passwords of synchronised accounts are checked.
var ways = []estate.Way{estate.PasswordHash, estate.PassThrough, unknownWay}

// unknownWay says that what the evidence holds does not tell it.
const unknownWay estate.Way = "unknown"

// checkSections looks at the parts that few maps have.
func (m *Map) checkSections() error {
	var all []error
	add := func(err error) { all = append(all, err) }
	if d := m.Domains; d != nil {
		add(m.known(d.Export))
		add(m.checkReadings(d.Settings, false))
	}
	if u := m.Units; u != nil {
		add(m.known(u.Export))
		add(m.known(u.Of.Export))
		add(m.checkReadings(u.Of.Settings, false))
	}
	for i := range m.Apart {
		add(m.checkFixed(m.Apart[i].Settings))
	}
	if m.Roles != nil {
		add(m.known(m.Roles.Export))
	}
	if s := m.SignOn; s != nil {
		add(m.known(s.Export))
		if m.Units == nil || s.Each.path == nil || s.Unit.path == nil {
			add(s.Export.Errorf(m.path, "sign-on needs each and unit, and the map units"))
		}
	}
	if x := m.Rollout; x != nil {
		add(m.known(x.Export))
		if x.Each.path == nil || x.Members.path == nil {
			add(x.Export.Errorf(m.path, "rollout needs each and members"))
		}
	}
	for _, w := range m.Sync {
		for _, export := range append([]strictyaml.Text{w.Export}, w.Needs...) {
			add(m.known(export))
		}
		if !slices.Contains(ways, estate.Way(w.Way.Value)) {
			add(w.Way.Errorf(m.path, "unknown way %q; known are %v", w.Way.Value, ways))
		}
	}
	for _, f := range m.Factors {
		add(m.known(f.Export))
		if f.Everybody == nil && f.Sometimes == nil && f.Each.path == nil {
			add(f.Export.Errorf(m.path, "a rule of second-factor needs everybody, sometimes, or each"))
		}
	}
	if p := m.Policies; p != nil && p.Strictest && (p.Precedence.path != nil || p.From.path != nil || len(p.Last) > 0) {
		add(p.Export.Errorf(m.path, "policies: where the strictest counts none goes before another; leave out precedence, from and last"))
	}
	return errors.Join(all...)
}

// known reports an export that the map does not tell of.
func (m *Map) known(export strictyaml.Text) error {
	if m.exports[export.Value] != nil {
		return nil
	}
	return export.Errorf(m.path, "unknown export %q; %s", export.Value,
		strictyaml.Hint(export.Value, slices.Sorted(maps.Keys(m.exports))))
}

func (m *Map) checkPick(p *Pick) error {
	if p == nil {
		return nil
	}
	if p.Match.Value != "" {
		var err error
		if p.match, err = regexp.Compile(p.Match.Value); err != nil || p.match.NumSubexp() < 1 {
			return p.Match.Errorf(m.path, "match %q: a regular expression with one group is expected", p.Match.Value)
		}
	}
	if p.At.path == nil && !p.Whole {
		return p.Export.Errorf(m.path, "no path (at)")
	}
	return m.known(p.Export)
}

// valueOf reads a setting's id and a value of it.
func (m *Map) valueOf(id, value strictyaml.Text) (*setting.Setting, setting.Value, error) {
	row, ok := setting.Lookup(setting.ID(id.Value))
	if !ok {
		var ids []string
		for _, s := range setting.Table() {
			ids = append(ids, string(s.ID))
		}
		return nil, setting.Value{}, id.Errorf(m.path, "unknown setting %q; %s", id.Value,
			strictyaml.Hint(id.Value, ids))
	}
	if platform := setting.Platform(m.Platform.Value); !row.Exists(platform) {
		return nil, setting.Value{}, id.Errorf(m.path, "the platform %s has no setting %s", platform, row.ID)
	}
	v, err := row.Parse(value.Value)
	if err != nil {
		return nil, v, value.Errorf(m.path, "%v", err)
	}
	return row, v, nil
}

// units are seconds of each; of a millisecond, which none goes into, 0 as of a text that has its unit.
var units = map[string]int64{milliseconds: 0, "seconds": 1, "minutes": 60, "hours": 3600, "days": 86400, "weeks": 7 * 86400, withUnit: 0}

const (
	milliseconds = "milliseconds"
	withUnit     = "with its unit"
)

// Forms are the written forms in those units.
func Forms() map[string]setting.Form {
	all := map[string]setting.Form{}
	for name, seconds := range units {
		if seconds > 0 {
			all[name] = setting.Scaled(seconds, nil)
		}
	}
	all[milliseconds] = func(v setting.Value) string {
		if n, ok := v.Number(); ok {
			return strconv.FormatInt(n*1000, 10)
		}
		return ""
	}
	return all
}

func (m *Map) checkReadings(all []Reading, needExport bool) error {
	var wrong []error
	for i := range all {
		wrong = append(wrong, m.checkReading(&all[i], needExport))
	}
	return errors.Join(wrong...)
}

func (m *Map) checkReading(r *Reading, needExport bool) error {
	unset := strictyaml.Text{Value: "not set", Line: r.Setting.Line, Column: r.Setting.Column}
	var err error
	if r.row, _, err = m.valueOf(r.Setting, unset); err != nil {
		return err
	}
	if needExport {
		if err := m.known(r.Export); err != nil {
			return err
		}
	}
	if r.At.path == nil {
		return r.Setting.Errorf(m.path, "%s has no path (at)", r.row.ID)
	}
	if _, ok := units[r.Unit.Value]; r.row.Kind == setting.Duration && !ok {
		return r.Setting.Errorf(m.path, "%s needs a unit: milliseconds, seconds, minutes, hours, days, weeks, or \"with its unit\"", r.row.ID)
	}
	r.values = map[string]setting.Value{}
	for word, text := range r.Words {
		if _, r.values[strings.ToLower(word)], err = m.valueOf(r.Setting, text); err != nil {
			return err
		}
	}
	for k := range r.When {
		w := &r.When[k]
		if w.At.path == nil {
			return r.Setting.Errorf(m.path, "a condition of %s has no path (at)", r.row.ID)
		}
		if _, w.value, err = m.valueOf(r.Setting, w.Value); err != nil {
			return err
		}
	}
	if r.Match.Value != "" {
		if r.match, err = regexp.Compile(r.Match.Value); err != nil {
			return r.Match.Errorf(m.path, "match %q of %s is no regular expression", r.Match.Value, r.row.ID)
		}
	}
	if of := strings.LastIndexByte(r.At.text.Value, '.'); r.Shown && of > 0 {
		var holder Path
		if err := holder.parse(r.At.text.Value[:of]); err != nil {
			return r.Setting.Errorf(m.path, "%s is shown: its path is to end in a name", r.row.ID)
		}
		r.holder = holder.path
	}
	if r.Default != nil {
		if _, r.Default.value, err = m.valueOf(r.Setting, r.Default.Value); err != nil {
			return err
		}
		if r.Default.Or.Value != "" {
			if _, r.Default.or, err = m.valueOf(r.Setting, r.Default.Or); err != nil {
				return err
			}
		}
		if r.Default.Source == "" {
			return r.Setting.Errorf(m.path, "the default of %s needs its source: the document that says so", r.row.ID)
		}
	}
	return nil
}

func (m *Map) checkAccounts(a *Accounts) error {
	all := []error{m.known(a.Export), m.checkPick(a.Federated), m.checkPick(a.Domains), m.checkReadings(a.Settings, false)}
	add := func(err error) { all = append(all, err) }
	if a.Each.path == nil || a.Name.path == nil && a.ID.path == nil {
		add(a.Export.Errorf(m.path, "accounts need each, and name or id"))
	}
	if len(a.Settings) > 0 && (a.Joins || m.Policies != nil || m.Domains != nil || m.Units != nil) {
		add(a.Export.Errorf(m.path, "settings of accounts' own are read only where policies, domains and units are none: which goes before is not known"))
	}
	for i := range a.Flags {
		f := &a.Flags[i]
		var ok bool
		switch f.flag, ok = estate.FlagNamed(f.Flag.Value); {
		case f.At.path == nil:
			add(f.Flag.Errorf(m.path, "the flag %q has no path (at)", f.Flag.Value))
		case f.Flag.Value == disabled:
			f.flag = estate.Disabled
		case !ok:
			add(f.Flag.Errorf(m.path, "unknown flag %q; %s", f.Flag.Value,
				strictyaml.Hint(f.Flag.Value, append(estate.FlagsNamed(), disabled))))
		}
	}
	return errors.Join(all...)
}

// Readings is how many settings the map reads or fixes, wherever it says so.
func (m *Map) Readings() int {
	n := len(m.Settings) + len(m.Fixed)
	for i := range m.Accounts {
		n += len(m.Accounts[i].Settings)
	}
	for i := range m.Apart {
		n += len(m.Apart[i].Settings)
	}
	if m.Policies != nil {
		n += len(m.Policies.Settings)
	}
	if m.Domains != nil {
		n += len(m.Domains.Settings)
	}
	if m.Units != nil {
		n += len(m.Units.Of.Settings)
	}
	return n
}

// NextPage returns where a reply says its next page is; empty after the last.
func (l *Live) NextPage(reply []byte) string {
	if l.Next.path == nil {
		return ""
	}
	d, err := parse(&intake.Part{Data: reply})
	if err != nil || d.csv != nil {
		return ""
	}
	text, _ := first(element{d.value, d.lines}, l.Next)
	return text
}

// Values returns what replies of an export hold at the pick's path.
func (p *Pick) Values(replies map[string][][]byte) []string {
	r := &reader{exports: map[string][]*document{}}
	for _, reply := range replies[p.Export.Value] {
		if d, err := parse(&intake.Part{Data: reply}); err == nil {
			r.exports[p.Export.Value] = append(r.exports[p.Export.Value], d)
		}
	}
	return r.pick(p)
}

// NextField is the name of the field in which replies name their next page.
func (l *Live) NextField() string {
	if l.Next.path == nil {
		return ""
	}
	name := l.Next.text.Value
	name = strings.TrimSuffix(strings.TrimPrefix(name, "$['"), "']")
	return strings.TrimPrefix(name, "$.")
}

// ExportOf returns the id of the export that a file is; empty for none.
func (m *Map) ExportOf(file string, data []byte) string {
	d, err := parse(&intake.Part{Name: path.Base(file), Path: file, Data: data})
	if err != nil {
		return ""
	}
	for _, c := range claims([]*Map{m}, d) {
		return c.x.ID.Value
	}
	return ""
}

package custody

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/folder"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// ConfigName is the file that says what an engagement is about.
const ConfigName = "engagement.yaml"

// Config is engagement.yaml.
type Config struct {
	Title       string                     `yaml:"title"`
	Auditor     string                     `yaml:"auditor"`
	Baselines   []strictyaml.Text          `yaml:"baselines"`
	Authorities map[string]AuthorityConfig `yaml:"authorities"`
	Tiers       Tiers                      `yaml:"tiers"`
	Expect      Expect                     `yaml:"expect"`
	Words       []string                   `yaml:"words"`
	Decisions   []Decision                 `yaml:"decisions"`
	Applies     []Applies                  `yaml:"applies"`

	Waivers  WaiverRules                `yaml:"waivers"`
	Exposure map[string]strictyaml.Text `yaml:"exposure"` // assumptions that are not the usual ones

	Text   string // of the file
	unread error  // a baseline that it chooses
}

// Chosen returns why a baseline that the engagement chooses cannot be read; nil: all can. What
// is on record is shown all the same.
func (c *Config) Chosen() error { return c.unread }

// Assumptions are those by which findings are valued: the usual ones, with the engagement's
// own and then those of a trial, each as NAME=VALUE.
func (c *Config) Assumptions(trial []string) (*exposure.Assumptions, error) {
	a := exposure.Usual()
	for _, name := range slices.Sorted(maps.Keys(c.Exposure)) {
		if err := a.Set(name, c.Exposure[name].Value); err != nil {
			return nil, c.Exposure[name].Errorf(ConfigName, "exposure: %v", err)
		}
	}
	for _, text := range trial {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fmt.Errorf("--exposure %q: expected NAME=VALUE, such as door=0.2; \"sternledger forecast --assumptions\" lists the names", text)
		}
		if err := a.Set(strings.TrimSpace(name), value); err != nil {
			return nil, fmt.Errorf("--exposure %s: %w", text, err)
		}
	}
	return a, a.Check()
}

// WaiverRules are what the organisation asks of waivers.
type WaiverRules struct {
	Longest strictyaml.Text `yaml:"longest"` // how far away the last day may be
}

// usualWaiver is how far away a waiver's last day may be where the engagement does not say.
const usualWaiver = "1y"

// LongestWaiver returns the last day that a waiver of today may have.
func (c *Config) LongestWaiver(today time.Time) (day time.Time, rule string) {
	rule = cmp.Or(c.Waivers.Longest.Value, usualWaiver)
	if rule == usualWaiver {
		return today.UTC().AddDate(1, 0, 0), "a year"
	}
	v, _ := setting.Get(setting.MaxAge).Parse(rule)
	n, _ := v.Number()
	return today.UTC().Add(time.Duration(n) * time.Second), rule
}

// Decision says which baseline is followed on a setting on which the chosen
// ones exclude each other.
type Decision struct {
	Setting strictyaml.Text `yaml:"setting"`
	Follow  strictyaml.Text `yaml:"follow"`
	Why     string          `yaml:"why"`
}

// AuthorityConfig is what the engagement says of authorities by name or
// pattern.
type AuthorityConfig struct {
	Dialect   strictyaml.Text   `yaml:"dialect"`
	Baselines []strictyaml.Text `yaml:"baselines"`
	// DefaultPolicy is the DN of the policy that an LDAP server applies to
	// accounts that point at none.
	DefaultPolicy strictyaml.Text `yaml:"default-policy"`
	Owner         strictyaml.Text `yaml:"owner"` // who is to mend what is found there
}

// Tier says which accounts belong to a tier.
type Tier struct {
	Name     string   `yaml:"-"`
	Groups   []string `yaml:"groups"`
	Accounts []string `yaml:"accounts"`
	Units    []string `yaml:"units"`
	SIDs     []string `yaml:"sids"`
	// Baselines for the tier, instead of its authority's.
	Baselines []strictyaml.Text `yaml:"baselines"`
}

// Tiers keeps the order in which they are written: the first match wins.
type Tiers []Tier

// UnmarshalYAML reads the mapping of tier names in its order.
func (t *Tiers) UnmarshalYAML(node ast.Node) error {
	mapping, ok := node.(*ast.MappingNode)
	if !ok {
		if _, null := node.(*ast.NullNode); null {
			return nil
		}
		return strictyaml.ErrorAt(node, "tiers are written NAME: {groups: [], accounts: [], units: [], sids: []}")
	}
	for _, pair := range mapping.Values {
		tier := Tier{Name: pair.Key.GetToken().Value}
		if err := yaml.NodeToValue(pair.Value, &tier, yaml.Strict()); err != nil {
			return err
		}
		*t = append(*t, tier)
	}
	return nil
}

// Expect says what must have given evidence.
type Expect struct {
	Authorities  []string        `yaml:"authorities"`
	MachinesFrom strictyaml.Text `yaml:"machines-from"`
	NewerThan    strictyaml.Text `yaml:"newer-than"`
}

// usualAge is how old evidence may be where the engagement does not say: what is older tells
// little of today.
const usualAge = 365 * 24 * time.Hour

// MaxAge returns how old evidence may be; 0 for any age, which the engagement says by "never".
func (e *Expect) MaxAge() time.Duration {
	if e.NewerThan.Value == "" {
		return usualAge
	}
	v, _ := setting.Get(setting.MaxAge).Parse(e.NewerThan.Value)
	n, _ := v.Number()
	return time.Duration(n) * time.Second
}

// mostConfig bounds files that people write by hand.
const mostConfig = 4 << 20

func ReadConfig(f *folder.Folder) (*Config, error) {
	file := f.Path(ConfigName)
	data, err := f.ReadFile(ConfigName, mostConfig)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: no engagement here; start one with \"sternledger begin DIR\", or name its folder with --engagement DIR", file)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, Cause(err))
	}
	c, err := parseConfig(file, data)
	if err != nil {
		return nil, err
	}
	return c, c.check(file, Library{folder: f})
}

func parseConfig(file string, data []byte) (*Config, error) {
	c := &Config{Text: string(data)}
	return c, strictyaml.Unmarshal(file, data, c)
}

func (c *Config) check(file string, library Library) error {
	named := slices.Clone(c.Baselines)
	for name, a := range c.Authorities {
		if _, err := path.Match(strings.ToLower(name), ""); err != nil {
			return fmt.Errorf("%s: authority pattern %q: %w", file, name, err)
		}
		if d := estate.Dialect(a.Dialect.Value); d != "" && d != estate.Windows && d != estate.Samba {
			return a.Dialect.Errorf(file, "unknown dialect %q; expected %s or %s", d, estate.Windows, estate.Samba)
		}
		named = append(named, a.Baselines...)
	}
	for _, name := range c.Expect.Authorities {
		if _, err := path.Match(strings.ToLower(name), ""); err != nil {
			return fmt.Errorf("%s: expect: authorities: pattern %q: %w", file, name, err)
		}
	}
	for _, t := range c.Tiers {
		named = append(named, t.Baselines...)
	}
	for _, b := range named {
		switch _, err := library.Get(b.Value); {
		case errors.Is(err, errNoBaseline), errors.Is(err, fs.ErrNotExist):
			c.unread = cmp.Or(c.unread, b.Errorf(file, "%v", err))
		case err != nil:
			return b.Errorf(file, "%v", err)
		}
	}
	if _, err := c.Assumptions(nil); err != nil {
		return err
	}
	for _, d := range c.Decisions {
		if _, ok := setting.Lookup(setting.ID(d.Setting.Value)); !ok {
			return d.Setting.Errorf(file, "decisions: unknown setting %q; %s; \"sternledger settings\" lists them", d.Setting.Value,
				strictyaml.Hint(d.Setting.Value, setting.IDs()))
		}
		if !slices.ContainsFunc(named, func(b strictyaml.Text) bool { return b.Value == d.Follow.Value }) {
			return d.Follow.Errorf(file, "decisions: %q is none of the chosen baselines", d.Follow.Value)
		}
		if strings.TrimSpace(d.Why) == "" {
			return d.Setting.Errorf(file, "the decision on %s gives no reason (why)", d.Setting.Value)
		}
	}
	for i := range c.Applies {
		if err := c.Applies[i].check(file); err != nil {
			return err
		}
	}
	if text := c.Waivers.Longest; text.Value != "" {
		if v, err := setting.Get(setting.MaxAge).Parse(text.Value); err != nil || !isNumber(v) {
			return text.Errorf(file, "waivers: longest %q; expected a time with its unit, such as 180d", text.Value)
		}
	}
	if text := c.Expect.NewerThan; text.Value != "" {
		if v, err := setting.Get(setting.MaxAge).Parse(text.Value); err != nil || !isNumber(v) {
			return text.Errorf(file, "newer-than %q; expected a time with its unit, such as 90d", text.Value)
		}
	}
	return nil
}

// OwnerOf is who owns a place: as its own entry says, else the first pattern that
// fits and names one.
func (c *Config) OwnerOf(at estate.Place) string {
	for _, exact := range []string{at.String(), at.Name} {
		if a := c.Authorities[exact]; a.Owner.Value != "" {
			return a.Owner.Value
		}
	}
	for _, p := range slices.Sorted(maps.Keys(c.Authorities)) {
		if owner := c.Authorities[p].Owner.Value; owner != "" && Fits(p, at.Name) {
			return owner
		}
	}
	return ""
}

// Owners are all that are named.
func (c *Config) Owners() []string {
	var all []string
	for _, a := range c.Authorities {
		if a.Owner.Value != "" && !slices.Contains(all, a.Owner.Value) {
			all = append(all, a.Owner.Value)
		}
	}
	slices.Sort(all)
	return all
}

func isNumber(v setting.Value) bool { _, ok := v.Number(); return ok }

// ForAuthority returns what the engagement says of an authority: an exact name
// before a pattern, the name with its kind first of all, and among patterns the
// first in order of the alphabet.
func (c *Config) ForAuthority(at estate.Place) AuthorityConfig {
	name := at.Name
	for _, exact := range []string{at.String(), name} {
		if a, ok := c.Authorities[exact]; ok {
			return a
		}
	}
	var patterns []string
	for p := range c.Authorities {
		patterns = append(patterns, p)
	}
	slices.Sort(patterns)
	for _, p := range patterns {
		if ok, _ := path.Match(strings.ToLower(p), name); ok {
			return c.Authorities[p]
		}
	}
	return AuthorityConfig{}
}

// Dialect is the dialect that holds for an authority; empty where neither the
// engagement nor the evidence tells it.
func (c *Config) Dialect(a *estate.Authority) estate.Dialect {
	if said := c.ForAuthority(a.Place()).Dialect.Value; said != "" {
		return estate.Dialect(said)
	}
	return a.Dialect
}

// TierRules are the tiers as the core takes them.
func (c *Config) TierRules() []govern.TierRule {
	var rules []govern.TierRule
	for _, t := range c.Tiers {
		rules = append(rules, govern.TierRule{Name: t.Name, Groups: t.Groups, Accounts: t.Accounts, Units: t.Units, SIDs: t.SIDs})
	}
	return rules
}

// starter is the engagement.yaml that begin writes.
const starter = `# What this audit is about. Keys that are not known here are refused, with
# line and column. Lines that begin with # are comments.

title: %s
auditor: %s

# Baselines for every authority that has no choice of its own below.
# "sternledger baseline list" shows them.
baselines: [cis-windows-server]

# Choices for single authorities, by name or by pattern (*, ?); where two have
# one name, by name and kind: "corp.example (tenant)".
#   dialect: windows or samba, the way the directory server picks the groups
#            that carry a fine-grained policy; else it is read off the evidence.
#   default-policy: the DN of the policy that an LDAP server applies to accounts
#            that point at none, where its configuration is not in the evidence.
# authorities:
#   corp.example:
#     dialect: windows
#     baselines: [cis-windows-server]

# Tiers: how much an account matters. The first that matches wins. The tiers
# privileged and service have rules of their own and need no entry here.
# tiers:
#   privileged: {groups: [Control Room], accounts: ["adm-*"], units: [], sids: []}
#   kiosk:      {accounts: ["kiosk*"]}

# Where chosen baselines exclude each other, such as on forced changes, what was
# decided. "sternledger baseline reconcile" shows where they do.
# decisions:
#   - {setting: max-age, follow: cis-windows-server, why: "Decided by the board in May."}

# What no evidence tells, and demands depend on: whether a second factor is asked
# for at every sign-in (second-factor), whether people sign in interactively, or
# from outside (remote), whether an identity provider is a cloud service (cloud).
# The first that names a place rules.
# applies:
#   - {case: interactive, authorities: ["gate*"], holds: false, why: "Only services sign in there."}

# What must have given evidence; what did not is reported as missing.
# expect:
#   authorities: [corp.example]
#   machines-from: machines.csv      a column "machine"
#   newer-than: 90d
`

// BaselinesFor returns what a scope is weighed against: what the command line
// says, else what the engagement says for its tier, its authority, or all.
func (e *Engagement) BaselinesFor(authority estate.Place, tier string, opt WeighOptions) []string {
	if len(opt.Against) > 0 {
		return opt.Against
	}
	for _, t := range e.Config.Tiers {
		if t.Name == tier && len(t.Baselines) > 0 {
			return values(t.Baselines)
		}
	}
	if own := e.Config.ForAuthority(authority).Baselines; len(own) > 0 {
		return values(own)
	}
	return values(e.Config.Baselines)
}

func values(texts []strictyaml.Text) []string {
	var all []string
	for _, t := range texts {
		all = append(all, t.Value)
	}
	return all
}

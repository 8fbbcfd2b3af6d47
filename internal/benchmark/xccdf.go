package benchmark

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
)

// Name spaces of the formats (NIST IR 7275, NIST SP 800-126, the OVAL language).
const (
	xccdfSpace  = "http://checklists.nist.gov/xccdf/1.2"
	ovalSpace   = "http://oval.mitre.org/XMLSchema/oval-definitions-5"
	streamSpace = "http://scap.nist.gov/schema/scap/source/1.2"
)

// stream takes the one checklist of a data stream that is meant.
func (i *Imported) stream(l *library, root *node, opt Options) error {
	component := map[string]*node{}
	for _, c := range root.all("component") {
		if len(c.below) > 0 {
			component["#"+c.of("id")] = c.below[0]
		}
	}
	type candidate struct {
		stream, ref, checklist *node
	}
	var all []candidate
	var names []string
	for _, s := range root.all("data-stream") {
		for _, ref := range s.first("checklists").all("component-ref") {
			checklist := component[ref.of("href")]
			if checklist == nil || checklist.name != "Benchmark" {
				continue
			}
			names = append(names, checklist.of("id"))
			if opt.Part == "" || slices.Contains([]string{s.of("id"), ref.of("id"), strings.TrimPrefix(ref.of("href"), "#"), checklist.of("id")},
				opt.Part) {
				all = append(all, candidate{s, ref, checklist})
			}
		}
	}
	if len(all) != 1 {
		seen, expected := fmt.Sprintf("%d checklists: %s", len(names), strings.Join(names, ", ")), "one"
		if opt.Part != "" {
			seen, expected = fmt.Sprintf("%d checklists %q", len(all), opt.Part), strictyaml.Hint(opt.Part, names)
		}
		return &intake.Error{Path: l.src.File, Line: root.line, Seen: seen, Expected: expected,
			Next: "name the one that is meant behind the file: --from FILE#ID"}
	}
	c := all[0]
	l.inner = map[string]*node{}
	c.stream.walk(func(n *node) {
		if n.name == "component-ref" {
			l.inner[n.of("id")] = component[n.of("href")]
		}
	})
	c.ref.walk(func(n *node) {
		if n.name == "uri" {
			l.inner[n.of("name")] = l.inner[strings.TrimPrefix(n.of("uri"), "#")]
		}
	})
	err := i.checklist(l, c.checklist, Options{Profile: opt.Profile})
	i.Kind = "data stream, " + i.Kind
	return err
}

// checklist takes the rules of a Benchmark that are selected.
func (i *Imported) checklist(l *library, root *node, opt Options) error {
	if !strings.HasPrefix(root.space, "http://checklists.nist.gov/xccdf/1.") {
		return &intake.Error{Path: l.src.File, Line: root.line, Seen: fmt.Sprintf("a Benchmark of %q", root.space),
			Expected: "XCCDF 1.1.4 or 1.2 (" + xccdfSpace + ")", Next: "ask for the checklist in one of them"}
	}
	i.Kind = "XCCDF " + root.space[len("http://checklists.nist.gov/xccdf/"):]
	i.Document, i.Version = root.of("id"), root.first("version").text
	c := &choices{selected: map[string]bool{}, severity: map[string]string{}, role: map[string]string{}, selector: map[string]string{}, values: map[string][]string{}}
	profiles := map[string]*node{}
	for _, p := range root.all("Profile") {
		profiles[p.of("id")] = p
		i.Profiles = append(i.Profiles, p.of("id"))
	}
	if opt.Profile != "" {
		id, err := profileNamed(l.src.File, opt.Profile, i.Profiles)
		if err != nil {
			return err
		}
		i.Profile = id
		if err := c.apply(profiles, id, nil); err != nil {
			return &intake.Error{Path: l.src.File, Line: profiles[id].line, Seen: err.Error(), Expected: "a profile that can be followed",
				Next: "choose another profile"}
		}
	}
	c.bound = c.valuesOf(root)
	selected := map[string]bool{}
	c.chosen(root, true, selected)
	i.rules(l, root, c, selected, nil)
	if len(i.Rules) == 0 {
		return &intake.Error{Path: l.src.File, Line: root.line, Seen: fmt.Sprintf("no rule that is selected, of %d", i.All), Expected: "some",
			Next: "choose a profile, with --profile: " + strings.Join(i.Profiles, ", ")}
	}
	return nil
}

// profileNamed is the profile of that id, or the one of which the id ends so.
func profileNamed(file, name string, all []string) (string, error) {
	var fits []string
	for _, id := range all {
		if id == name {
			return id, nil
		}
		if strings.HasSuffix(id, "_"+name) || strings.HasSuffix(id, "-"+name) {
			fits = append(fits, id)
		}
	}
	if len(fits) == 1 {
		return fits[0], nil
	}
	if len(all) == 0 {
		return "", &intake.Error{Path: file, Seen: fmt.Sprintf("--profile %q", name), Expected: "none: the document has no profiles",
			Next: "leave --profile out"}
	}
	return "", &intake.Error{Path: file, Seen: fmt.Sprintf("--profile %q, which fits %d profiles", name, len(fits)), Expected: "one of " +
		strings.Join(all, ", "),
		Next: "write its id, or how it ends"}
}

// choices are what a profile says.
type choices struct {
	selected map[string]bool     // rules and groups, by id or cluster
	severity map[string]string   // by id
	role     map[string]string   // by id
	selector map[string]string   // of values and of rules' checks, by id
	values   map[string][]string // set outright
	bound    map[string][]string // what each value comes to
}

// apply follows a profile, the ones that it extends first.
func (c *choices) apply(profiles map[string]*node, id string, above []string) error {
	p := profiles[id]
	if p == nil {
		return fmt.Errorf("it extends the profile %q, which the document does not have", id)
	}
	if slices.Contains(above, id) {
		return fmt.Errorf("a circle of profiles: %s", strings.Join(append(above, id), " extends "))
	}
	if under := p.of("extends"); under != "" {
		if err := c.apply(profiles, under, append(above, id)); err != nil {
			return err
		}
	}
	for _, n := range p.below {
		of := n.of("idref")
		switch n.name {
		case "select":
			c.selected[of] = isTrue(n.of("selected"))
		case "set-value":
			c.values[of] = []string{n.text}
		case "set-complex-value":
			c.values[of] = texts(n.all("item"))
		case "refine-value":
			if n.of("selector") != "" {
				c.selector[of] = n.of("selector")
			}
		case "refine-rule":
			if n.of("severity") != "" {
				c.severity[of] = n.of("severity")
			}
			if n.of("selector") != "" {
				c.selector[of] = n.of("selector")
			}
			if n.of("role") != "" {
				c.role[of] = n.of("role")
			}
		}
	}
	return nil
}

func isTrue(text string) bool { return text == "true" || text == "1" }

func texts(all []*node) (out []string) {
	for _, n := range all {
		out = append(out, n.text)
	}
	return out
}

// valuesOf finds what each Value comes to: what the profile sets, what its selector
// picks, or what stands without one.
func (c *choices) valuesOf(root *node) map[string][]string {
	all := map[string][]string{}
	root.walk(func(n *node) {
		if n.name != "Value" || n.of("id") == "" {
			return
		}
		id := n.of("id")
		if set, ok := c.values[id]; ok {
			all[id] = set
			return
		}
		for _, v := range n.all("value", "complex-value") {
			if v.of("selector") == c.selector[id] {
				all[id] = []string{v.text}
				if v.name == "complex-value" {
					all[id] = texts(v.all("item"))
				}
				return
			}
		}
		if first := n.first("value"); c.selector[id] == "" && first.name != "" { // by the specification, the first one
			all[id] = []string{first.text}
		}
	})
	return all
}

// chosen finds the groups and rules that are selected, by their ids.
func (c *choices) chosen(at *node, above bool, selected map[string]bool) {
	for _, n := range at.all("Group", "Rule") {
		is := n.of("selected") != "false" && n.of("selected") != "0"
		for _, id := range []string{n.of("cluster-id"), n.of("id")} {
			if said, ok := c.selected[id]; ok && id != "" {
				is = said
			}
		}
		is = is && above && !isTrue(n.of("abstract"))
		selected[n.of("id")] = is
		if n.name == "Group" {
			c.chosen(n, is, selected)
		}
	}
}

// rules takes those of a group that are selected; where is what the system has to be for the group.
func (i *Imported) rules(l *library, at *node, c *choices, selected map[string]bool, where []string) {
	for _, n := range at.all("Group", "Rule") {
		on := append(slices.Clone(where), platformsOf(n)...)
		if n.name == "Group" {
			i.rules(l, n, c, selected, on)
			continue
		}
		if i.All++; selected[n.of("id")] {
			r := c.rule(l, n, on)
			if why := unmet(n, selected); why != "" {
				r.formula, r.Why = nil, why
			}
			i.Rules = append(i.Rules, r)
		}
	}
}

// platformsOf are those that a group or rule is for, beyond its document's.
func platformsOf(n *node) (all []string) {
	for _, p := range n.all("platform") {
		if id := strings.TrimPrefix(p.of("idref"), "#"); id != "" {
			all = append(all, id)
		}
	}
	return all
}

// unmet says why a rule that is selected is not to be looked at all the same (XCCDF 1.2, 6.4.4).
func unmet(n *node, selected map[string]bool) string {
	for _, r := range n.all("requires") {
		ids := strings.Fields(r.of("idref"))
		if !slices.ContainsFunc(ids, func(id string) bool { return selected[id] }) {
			return "it requires " + shortly(ids) + ", which is not selected"
		}
	}
	for _, r := range n.all("conflicts") {
		if id := r.of("idref"); selected[id] {
			return "it conflicts with " + Short(id) + ", which is selected, too"
		}
	}
	return ""
}

// own is the part of an identifier that no other shares.
var own = regexp.MustCompile(`^xccdf_.+?_(?:rule|profile|value|group|benchmark)_|^oval:[^:]+:(?:def|var):`)

// Short is an identifier without what it shares with others.
func Short(id string) string { return own.ReplaceAllString(id, "") }

// severities are the document's words.
var severities = map[string]baseline.Severity{"high": baseline.Grave, "medium": baseline.Serious, "low": baseline.Minor,
	"info": baseline.Minor}

func severityOf(word string) baseline.Severity {
	return cmp.Or(severities[strings.ToLower(word)], baseline.Serious)
}

// rule reads one rule.
func (c *choices) rule(l *library, n *node, where []string) *Rule {
	id := n.of("id")
	r := &Rule{ID: own.ReplaceAllString(id, ""), Severity: severityOf(cmp.Or(c.severity[id], n.of("severity")))}
	refs := []string{r.ID}
	if v := n.first("version").text; v != "" && v != r.ID {
		refs = []string{v, r.ID}
	}
	for _, ident := range n.all("ident") {
		if len(refs) < mostIdents && ident.text != "" && !slices.Contains(refs, ident.text) {
			refs = append(refs, ident.text)
		}
	}
	r.Ref = strings.Join(refs, ", ")
	r.relevant = aboutPasswords.MatchString(id + " " + n.first("title").text + " " + n.first("version").text)
	if n.of("extends") != "" {
		r.Why = "it extends another rule, and that is not read"
		return r
	}
	e := &evaluation{bound: c.bound}
	f, err := e.everyWay(func() (formula, error) { return c.checks(l, e, n, c.selector[id]) })
	r.relevant = r.relevant || e.relevant
	r.formula, r.platforms, r.Remarks, r.where = f, e.places(), e.remarks, append(where, e.conditions...)
	slices.Sort(r.where)
	switch role := cmp.Or(c.role[id], n.of("role")); {
	case err != nil:
		r.formula, r.Why = nil, err.Error()
	case role == "unchecked":
		r.formula, r.Why = nil, "the document leaves it unchecked, for people to judge"
	case role == "unscored":
		r.Remarks = append(r.Remarks, "the document does not count it (unscored)")
	}
	return r
}

const mostIdents = 8

// aboutPasswords finds in what a rule calls itself that it is about passwords or lockout.
var aboutPasswords = regexp.MustCompile(`(?i)passw|pass_(?:max|min|warn)|lock-?_?out|faillock|pwquality|pwhistory|pam_|pam-|` +
	`unlock_time|login\.?_?defs|` +
	`unsuccessful (?:log|auth|attempt)|failed (?:log|auth)|bad log|reversible encrypt|logon hours|inactive (?:account|day)|` +
	`disable.*inactiv|kerberos (?:ticket|policy)|ticket lifetime`)

// checks reads the check of a rule, or several of them.
func (c *choices) checks(l *library, e *evaluation, n *node, selector string) (formula, error) {
	if complex := n.all("complex-check"); len(complex) > 0 {
		return c.complex(l, e, complex[0])
	}
	var kinds []string
	for _, check := range n.all("check") {
		if !strings.HasPrefix(check.of("system"), "http://oval.mitre.org/XMLSchema/oval-definitions") {
			kinds = append(kinds, check.of("system"))
			continue
		}
		if check.of("selector") == selector {
			return c.check(l, e, check)
		}
	}
	if len(kinds) > 0 {
		return nil, fmt.Errorf("its check is of another kind (%s)", strings.Join(kinds, ", "))
	}
	return nil, fmt.Errorf("it has no test")
}

// complex reads checks that are joined.
func (c *choices) complex(l *library, e *evaluation, n *node) (formula, error) {
	var all []formula
	for _, part := range n.all("check", "complex-check") {
		f, err := formula(nil), error(nil)
		switch {
		case part.name == "complex-check":
			f, err = c.complex(l, e, part)
		case strings.HasPrefix(part.of("system"), "http://oval.mitre.org/XMLSchema/oval-definitions"):
			f, err = c.check(l, e, part)
		default:
			err = fmt.Errorf("one of its checks is of another kind (%s)", part.of("system"))
		}
		if err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("its checks are none")
	}
	return joined(n.of("operator"), n.of("negate"), all)
}

// joined joins formulas as an operator says.
func joined(operator, negate string, all []formula) (f formula, err error) {
	switch strings.ToUpper(operator) {
	case "", "AND":
		f, err = and(all...)
	case "OR":
		f, err = or(all...)
	case "ONE", "XOR":
		f, err = odd(operator, all)
	default:
		err = fmt.Errorf("its operator %s is not known", operator)
	}
	if err == nil && isTrue(negate) {
		f, err = not(f)
	}
	return f, err
}

// odd is true where exactly one of them is, or, with XOR, an odd number.
func odd(operator string, all []formula) (formula, error) {
	const most = 6
	if len(all) > most {
		return nil, errTooMany
	}
	result := never
	for bits := range 1 << len(all) {
		ones := 0
		var parts []formula
		for i, f := range all {
			if bits>>i&1 == 1 {
				ones++
			} else {
				var err error
				if f, err = not(f); err != nil {
					return nil, err
				}
			}
			parts = append(parts, f)
		}
		if operator == "ONE" && ones != 1 || operator == "XOR" && ones%2 == 0 {
			continue
		}
		one, err := and(parts...)
		if err == nil {
			result, err = or(result, one)
		}
		if err != nil {
			return nil, err
		}
	}
	return result, nil
}

// check reads one check of OVAL.
func (c *choices) check(l *library, e *evaluation, n *node) (formula, error) {
	e.exported, e.done = map[string][]string{}, nil // what was worked out with other values
	for _, x := range n.all("check-export") {
		if v, ok := c.bound[x.of("value-id")]; ok {
			e.exported[x.of("export-name")] = v
		}
	}
	refs := n.all("check-content-ref")
	if len(refs) == 0 {
		return nil, fmt.Errorf("its test stands in the rule itself, and that is not read")
	}
	var err error
	for _, ref := range refs {
		var definitions *oval
		if definitions, err = l.find(ref.of("href")); err != nil {
			continue
		}
		if ref.of("name") == "" {
			return nil, fmt.Errorf("its test is all of %s, not one definition", ref.of("href"))
		}
		f, err := e.definition(definitions, ref.of("name"), nil)
		if err == nil && isTrue(n.of("negate")) {
			f, err = not(f)
		}
		return f, err
	}
	return nil, err
}

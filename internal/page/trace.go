package page

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Trace draws why one policy governs one account: the answer first.
func Trace(s *Sheet, d *contract.TraceDocument, verbose bool) error {
	who := d.Account
	s.Title(strings.TrimSpace(who.Account+"  "+who.Display), who.Authority)
	s.Entry("governed by", "", answer(d))
	state := "enabled"
	if !who.Enabled {
		state = "disabled"
	}
	if len(who.Flags) > 0 {
		state += "; " + strings.Join(who.Flags, ", ")
	}
	lines := []string{who.DN}
	if ids := slices.DeleteFunc([]string{who.Principal, who.SID}, func(id string) bool { return id == "" }); len(ids) > 0 {
		lines = append(lines, strings.Join(ids, "; "))
	}
	lines = append(lines, state+"; tier "+who.Tier+": "+who.TierRule, "evidence: "+who.Evidence)
	s.Entry("account", "", lines[0], lines[1:]...)
	for i, note := range d.Notes {
		word := ""
		if i == 0 {
			word = "notes"
		}
		s.Note(word, note)
	}
	s.Blank()
	reach := ""
	if d.Account.Kind == "domain" {
		reach = fmt.Sprintf("%s dialect (%s)", d.Governing.Dialect, d.Governing.From)
		if d.Governing.Assumed {
			reach = "dialect not in the evidence"
		}
	}
	s.Title("Policies that reach the account", reach)
	for _, c := range d.Candidates {
		word := outcomes[c.Outcome]
		title := c.Policy
		if c.Precedence != nil || who.Kind == "domain" {
			title += ", precedence " + precedence(c.Precedence)
		}
		lines := []string{c.Why + "; evidence: " + c.Evidence}
		if len(c.Via) > 0 || who.Kind == "domain" {
			lines = append([]string{reached(&c, who.Account)}, lines...)
		}
		s.Entry(word, "", title, lines...)
	}
	switch {
	case len(d.Candidates) > 0:
	case d.Governing.Rule == string(govern.Unknown):
		s.Text("None in the evidence, which does not hold enough to say that there is none.")
	default:
		s.Text(noCandidates[who.Kind])
	}
	s.Blank()
	s.Title("Settings", "")
	sides(s, d, verbose)
	otherDoors(s, d)
	return s.Err()
}

// outcomes are the words for what became of a candidate.
var outcomes = map[govern.Outcome]string{govern.Won: "governs", govern.Lost: "loses", govern.Undecided: "not decided"}

// noCandidates says what it means that no policy reaches an account.
var noCandidates = map[string]string{
	"domain":  "No fine-grained policy in the evidence reaches it.",
	"machine": "The machine's own settings hold for it.",
	"ldap":    "It points at no policy; the server's default holds for it.",
	"tenant":  "No policy of the tenant overrides the tenant's own settings.",
}

// otherDoors draws the person's other accounts.
func otherDoors(s *Sheet, d *contract.TraceDocument) {
	if len(d.Doors) == 0 {
		return
	}
	s.Blank()
	s.Title("Other accounts of this person", Quantity(len(d.Doors), "other account"))
	for _, door := range d.Doors {
		word, joined := "as strong", "of the same name"
		if len(door.Weaker) > 0 {
			word = "weaker"
		}
		if !door.Enabled {
			word = "disabled"
		}
		if door.Joined == "synchronised" {
			joined = "synchronised"
		}
		var weak []string
		for _, id := range door.Weaker {
			row := setting.Get(setting.ID(id))
			weak = append(weak, fmt.Sprintf("%s %s against %s", id, Short(row, valueOf(door.Settings[id])), Short(row, valueOf(d.Settings[id]))))
		}
		lines := []string{"under " + door.Policy}
		if len(weak) > 0 {
			lines = append(lines, "weaker in: "+strings.Join(weak, "; "))
		}
		var beside []string
		for _, row := range setting.Table() {
			if x := door.Own[string(row.ID)]; x != nil && row.ID != setting.SecondFactor && (x.Value != nil || x.Special != "") &&
				row.Exists(setting.WindowsDomain) {
				beside = append(beside, fmt.Sprintf("%s %s", row.ID, Short(row, valueOf(x))))
			}
		}
		if len(beside) > 0 {
			lines = append(lines, "the tenant's own beside it: "+strings.Join(beside, "; "))
		}
		s.Entry(word, "", fmt.Sprintf("%s of the %s %s, %s", door.Account, door.Kind, door.Authority, joined),
			append(lines, "evidence: "+door.Evidence)...)
	}
}

func answer(d *contract.TraceDocument) string {
	g := d.Governing
	switch g.Rule {
	case "pointer":
		return g.Policy + ", at which the account points"
	case "direct":
		return g.Policy + ", which names the account itself"
	case "group":
		if g.Answered {
			return g.Policy + ", as the directory itself answers"
		}
		return g.Policy + ", through the group " + g.Via
	case "default":
		if d.Account.Kind == "ldap" {
			return g.Policy + ": the account points at no policy"
		}
		return g.Policy + ": no fine-grained policy applies"
	case "machine":
		return g.Policy + " of " + d.Account.Authority
	case "unknown":
		return "not known: the evidence does not decide"
	}
	return g.Policy
}

func precedence(p *int64) string {
	if p == nil {
		return "not in the evidence"
	}
	return fmt.Sprint(*p)
}

func reached(c *contract.CandidateDocument, account string) string {
	via := c.Via
	if len(via) == 0 {
		return "names the account itself"
	}
	if c.ViaLeft > 0 {
		half := len(via) / 2
		via = append(append(slices.Clone(via[:half]), Grouped(c.ViaLeft)+" more, the last of"), via[half:]...)
	}
	return "names " + strings.Join(via, ", which holds ") + ", which holds " + account
}

// sides draws the settings side by side: what governs, what the domain's
// default says, what the templates at its root configure.
func sides(s *Sheet, d *contract.TraceDocument, verbose bool) {
	text := func(m map[string]*contract.SettingDocument, id setting.ID) string {
		if x := m[string(id)]; x != nil && (x.Value != nil || x.Special != "") {
			return Short(setting.Get(id), valueOf(x))
		}
		return "-"
	}
	var rows [][]string
	var same, open []string
	for _, row := range setting.Table() {
		governing, def, configured, shown := text(d.Settings, row.ID), text(d.Default, row.ID), text(d.Configured, row.ID),
			text(d.Displayed, row.ID)
		if governing == "-" && def == "-" && configured == "-" && shown == "-" {
			continue
		}
		// What the policy leaves as it is everywhere is told in a line, with the rest of
		// its evidence in --verbose.
		if !verbose && len(d.Candidates) > 0 && governing == def && (configured == "-" || configured == governing) &&
			(shown == "-" || shown == governing) {
			same = append(same, string(row.ID)+" "+governing)
			continue
		}
		if !verbose && governing == "-" && def == "-" && configured != "-" && shown == "-" {
			open = append(open, string(row.ID)+" "+configured)
			continue
		}
		from, cite := "", ""
		if x := d.Settings[string(row.ID)]; x != nil {
			from, cite = x.From, x.Evidence
		}
		rows = append(rows, []string{string(row.ID), governing, def, configured, shown, from, cite})
	}
	beside := "default"
	if d.Account.Kind == "tenant" {
		beside = "tenant"
	}
	heads := []Column{{Head: "setting"}, {Head: "governing", Right: true}, {Head: beside, Right: true}, {Head: "template", Right: true},
		{Head: "displayed", Right: true}, {Head: "from"}, {Head: "evidence"}}
	without := func(at int) {
		heads = slices.Delete(heads, at, at+1)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], at, at+1)
		}
	}
	if len(d.Displayed) == 0 {
		without(4)
	}
	if len(d.Configured) == 0 {
		without(3)
	}
	s.Table(heads, rows)
	if len(open) > 0 {
		s.Text("Not known, here as everywhere, though a template has it: " + strings.Join(open, ", ") + " (--verbose shows which one).")
	}
	if len(same) > 0 {
		s.Text("As everywhere here: " + strings.Join(same, ", ") + " (--verbose shows their evidence).")
	}
}

// valueOf turns a document's value back into one that can be printed short.
func valueOf(x *contract.SettingDocument) setting.Value {
	switch v := x.Value.(type) {
	case int64:
		return setting.Number(v)
	case bool:
		return setting.Switch(v)
	case string:
		return setting.Word(v)
	}
	return setting.Of(x.Special)
}

// TracePolicy draws whom a policy reaches, and what becomes of it.
func TracePolicy(s *Sheet, d *contract.PolicyTraceDocument) error {
	s.Title(d.Policy, d.Authority+", precedence "+precedence(d.Precedence))
	s.Text(d.Origin + " (" + d.Evidence + ")")
	s.Blank()
	s.Entry("governs", "", Quantity(d.Governs, "account")+" of "+Grouped(d.Reaches)+" that it reaches", examples(d.Examples, d.Governs))
	for _, l := range d.LosesTo {
		s.Entry("loses", "", Quantity(l.Accounts, "account")+" to "+l.Policy, examples(l.Examples, l.Accounts))
	}
	for _, t := range d.Targets {
		word, why := "target", "works"
		if t.Idle != "" {
			word, why = "idle target", "does nothing: "+t.Idle
		}
		s.Entry(word, "", t.DN, why+"; evidence: "+t.Evidence)
	}
	if len(d.Targets) == 0 {
		s.Entry("target", "", "none: it names nobody")
	}
	return s.Err()
}

func examples(names []string, of int) string {
	text := strings.Join(names, ", ")
	if of > len(names) {
		text += ", …"
	}
	return text
}

// TraceRows gives the settings of a traced account as rows.
func TraceRows(d *contract.TraceDocument) *Rows {
	r := &Rows{Head: []string{"account", "setting", "governing", "default", "template", "displayed", "from", "raw", "evidence"}}
	text := func(m map[string]*contract.SettingDocument, id string) string {
		if x := m[id]; x != nil {
			return x.Text
		}
		return "-"
	}
	for _, row := range setting.Table() {
		id := string(row.ID)
		if x := d.Settings[id]; x != nil {
			r.Rows = append(r.Rows, []string{d.Account.Account, id, x.Text, text(d.Default, id), text(d.Configured, id), text(d.Displayed, id),
				x.From, x.Raw, x.Evidence})
		}
	}
	return r
}

// PolicyTraceRows gives a traced policy's targets as rows.
func PolicyTraceRows(d *contract.PolicyTraceDocument) *Rows {
	r := &Rows{Head: []string{"policy", "target", "idle", "evidence"}}
	for _, t := range d.Targets {
		r.Rows = append(r.Rows, []string{d.Policy, t.DN, t.Idle, t.Evidence})
	}
	return r
}

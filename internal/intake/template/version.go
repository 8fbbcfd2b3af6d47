package template

import (
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Version is what stands beside a policy's halves: how often each was changed (MS-GPOL
// 2.2.4). Clients pass by a half that never was.
var Version = intake.Format{Name: "policy's version (GPT.INI)", Detect: detectVersion, Names: versionFile.stored, Speaks: versionFile.speaks,
	Read: (&intake.Whole{Most: 1 << 16, Expected: "a policy's version", Next: "copy the policy's folder again", Take: takeVersion}).Read}

var versionFile = policyFile{regexp.MustCompile(`(?i)(?:^|/)(?:([^/]+)/)?(?:Policies/)?(\{[0-9a-f]{8}-[0-9a-f-]{27}\})/((?:DomainSysvol/GPO/)?GPT\.INI)$`),
	"version-", ".ini"}

var versionLine = regexp.MustCompile(`(?i)^(\s*Version\s*=\s*)(\d{1,10})\s*$`)

func detectVersion(file string, head []byte) bool {
	return versionFile.at(file) != nil && strings.HasPrefix(strings.ToLower(strings.TrimSpace(string(intake.Opening(head)))), "[general]")
}

func takeVersion(text *intake.Text, into *estate.Builder) error {
	id, name, domain := versionFile.policy(text)
	for l := range text.Lines() {
		m := versionLine.FindStringSubmatch(l.Text)
		switch {
		case strings.EqualFold(strings.TrimSpace(l.Text), "[general]"):
			text.Read(l.From, l.To())
		case m != nil:
			text.Read(l.From, l.To())
			n, err := strconv.ParseUint(m[2], 10, 32)
			if err != nil {
				continue
			}
			const computerHalf = 0xffff // the user's is above it
			half := int(n & computerHalf)
			into.Template(estate.Template{GUID: id, Domain: domain, Part: true, Half: &half, Policy: estate.Policy{Name: name, Origin: id,
				Standing: estate.Configured, Platform: setting.WindowsTemplate, Settings: estate.Settings{},
				Cite: into.Cite(l.Number, "Version", m[2])}})
			return nil
		}
	}
	return &intake.Error{Path: text.Path, Seen: "a GPT.INI without a Version", Expected: "Version=N below [General] (MS-GPOL 2.2.4)",
		Next: "copy the policy's folder again"}
}

package shell_test

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/shell"
)

// BenchmarkRead reads the same accounts as the shell's CSV and as LDIF.
func BenchmarkRead(b *testing.B) {
	const accounts = 100_000
	var csv, text strings.Builder
	csv.WriteString(`"DistinguishedName","Enabled","GivenName","MemberOf","PasswordLastSet","PasswordNeverExpires","PasswordNotRequired",` +
		`"PrimaryGroupID","SamAccountName","SID","Surname","UserPrincipalName"` + "\r\n")
	for i := range accounts {
		name := fmt.Sprintf("user%06d", i)
		group := fmt.Sprintf("CN=group%03d,OU=Groups,%s", i%500, base)
		fmt.Fprintf(&csv, `"%s","True","Some","%s","2026-03-04 09:10:11","False","False","513","%s","S-1-5-21-1-2-3-%d","Body",`+
			`"%s@quay.example"`+"\r\n",
			dnOf(name), group, name, 1000+i, name)
		fmt.Fprintf(&text, "dn: %s\nobjectClass: user\ngivenName: Some\nmemberOf: %s\npwdLastSet: 134170206110000000\nuserAccountControl: 512\n"+
			"primaryGroupID: 513\nsAMAccountName: %s\nobjectSid: S-1-5-21-1-2-3-%d\nsn: Body\nuserPrincipalName: %s@quay.example\n\n",
			dnOf(name), group, name, 1000+i, name)
	}
	for _, form := range []struct {
		name   string
		text   string
		format *intake.Format
	}{{"CSV", csv.String(), &shell.Format}, {"LDIF", text.String(), &ldif.Format}} {
		b.Run(form.name, func(b *testing.B) {
			for b.Loop() {
				into := estate.NewBuilder()
				into.StartFile("x")
				if err := form.format.Read(&intake.Source{Path: "x", In: strings.NewReader(form.text), Keep: io.Discard, Differs: func() {}},
					into); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(accounts)*float64(b.N)/b.Elapsed().Seconds(), "accounts/s")
		})
	}
}

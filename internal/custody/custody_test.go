package custody_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/collect"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/record"
	"sternledger/internal/custody"

	"golang.org/x/crypto/ssh"
)

const (
	head = "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: 7\npwdHistoryLength: 24\n" +
		"pwdProperties: 1\nmaxPwdAge: -36288000000000\nminPwdAge: -864000000000\nlockoutThreshold: 5\nlockoutDuration: -9000000000\n" +
		"lockOutObservationWindow: -9000000000\n"
	ada = "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\nprimaryGroupID: 513\n"
)

// clock is a time that tests move.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

// bench is an engagement, its clock and its folder.
type bench struct {
	*testing.T
	*custody.Engagement
	*clock
	dir string
}

func engagement(t *testing.T) *bench {
	t.Helper()
	b := &bench{T: t, clock: &clock{time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)}, dir: filepath.Join(t.TempDir(), "gates")}
	if err := custody.Begin(t.Context(), b.dir, "Lock gates", "R. Quill", b.now); err != nil {
		t.Fatal(err)
	}
	b.open()
	t.Cleanup(func() { b.Engagement.Close() })
	return b
}

// open opens the engagement, anew where it is open.
func (b *bench) open() {
	b.Helper()
	if b.Engagement != nil {
		b.Engagement.Close()
	}
	e, err := custody.Open(b.Context(), b.dir, b.now, assess.Judge)
	if err != nil {
		b.Fatal(err)
	}
	b.Engagement = e
}

func (b *bench) Context() context.Context { return b.T.Context() }

// gather takes a file of that text.
func (b *bench) gather(name, text string) {
	b.Helper()
	file := filepath.Join(b.TempDir(), name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	if _, err := collect.Gather(b.Engagement, []string{file}, collect.GatherOptions{}); err != nil {
		b.Fatal(err)
	}
}

func (b *bench) weigh() *custody.Weighing {
	b.Helper()
	w, err := assess.Weigh(b.Engagement, custody.WeighOptions{Record: true})
	if err != nil {
		b.Fatal(err)
	}
	return w
}

// configured writes engagement.yaml and opens the engagement again.
func (b *bench) configured(text string) {
	b.Helper()
	if err := os.WriteFile(filepath.Join(b.dir, custody.ConfigName), []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	b.open()
}

const config = "title: Lock gates\nauditor: R. Quill\nbaselines: [cis-windows-server]\n"

// weighed is an engagement with one record.
func weighed(t *testing.T) (*bench, *custody.Weighing) {
	t.Helper()
	b := engagement(t)
	b.configured(config)
	b.gather("x.ldif", head+ada)
	return b, b.weigh()
}

// holds reports what verify says; empty: all of it holds.
func (b *bench) holds() (said []string) {
	b.Helper()
	v, err := b.Verify()
	if err != nil {
		b.Fatal(err)
	}
	for _, f := range v.Failures {
		said = append(said, f.Text)
	}
	return said
}

func contains(t *testing.T, what string, err error, say string) {
	t.Helper()
	if err == nil || !strings.Contains(err.Error(), say) {
		t.Errorf("%s: %v, want %q", what, err, say)
	}
}

// An engagement begins in a folder of its own, once, and nothing is left of a begin that fails.
func TestBegin(t *testing.T) {
	b := engagement(t)
	contains(t, "twice", custody.Begin(t.Context(), b.dir, "x", "y", b.now), "is there already")
	among := filepath.Join(t.TempDir(), "mine")
	if err := os.Mkdir(among, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(among, "notes.txt"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := custody.Begin(t.Context(), among, `A "quoted" title: with a colon`, "R. Quill", b.now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), among, b.now, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	if e.Config.Title != `A "quoted" title: with a colon` || e.Actor() != "R. Quill" {
		t.Errorf("%q by %q", e.Config.Title, e.Actor())
	}
	entries, err := e.Ledger.Entries()
	if err != nil || len(entries) != 1 || custody.About(&entries[0]) != e.Config.Title {
		t.Errorf("%+v %v", entries, err)
	}
	_, err = custody.Open(t.Context(), t.TempDir(), b.now, nil)
	contains(t, "no engagement", err, "no engagement here")
}

// What engagement.yaml says wrong is told with its line.
func TestConfig(t *testing.T) {
	b := engagement(t)
	for text, say := range map[string]string{
		"baselines: [cis-windows-serve]\n":                                                         `engagement.yaml:1`,
		"authorities:\n  x.example: {dialect: linux}\n":                                            `unknown dialect "linux"`,
		"authorities:\n  \"[\": {dialect: samba}\n":                                                "authority pattern",
		"decisions:\n  - {setting: lenght, follow: nist-800-63b, why: x}\n":                        `unknown setting "lenght"`,
		"decisions:\n  - {setting: min-length, follow: no-such, why: x}\n":                         "no-such",
		"baselines: [nist-800-63b]\ndecisions:\n  - {setting: min-length, follow: nist-800-63b}\n": "why",
		"tiers: {privileged: {groups: [A], baselines: [no-such]}}\n":                               "no-such",
		"tiers: [privileged]\n":                                                                    "tiers are written NAME",
		"expect: {newer-than: soon}\n":                                                             "newer-than",
		"applies:\n  - {case: interactiv, holds: true, why: w}\n":                                  `engagement.yaml:2:12: applies: case "interactiv"; the nearest is "interactive"`,
		"applies:\n  - {case: remote, holds: perhaps, why: w}\n":                                   `holds "perhaps"; expected true or false`,
		"applies:\n  - {case: remote, holds: true}\n":                                              "gives no reason (why)",
		"applies:\n  - {case: remote, authorities: [\"[\"], holds: true, why: w}\n":                "expected a name, or a pattern",
		"exposure: {door: 2}\n":                                                                    "door",
		"exposure: {dor: 0.2}\n":                                                                   "door",
		"nothing: 1\n":                                                                             "nothing",
		"title: Lock gates\nauditor: R. Quill\nbaselines: [cis-windows-server]\ntab:":              "tab",
	} {
		if err := os.WriteFile(filepath.Join(b.dir, custody.ConfigName), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		e, err := custody.Open(t.Context(), b.dir, b.now, nil)
		if err == nil {
			err = e.Config.Chosen()
			e.Close()
		}
		contains(t, text, err, say)
	}
	at, other := estate.Place{Name: "x.example", Kind: estate.Domain}, estate.Place{Name: "y.example", Kind: estate.Domain}
	b.configured(config + "applies:\n  - {case: remote, authorities: [x.example], tiers: [privileged], holds: false, why: w}\n" +
		"  - {case: remote, authorities: [\"*.example\"], holds: true, why: w}\n  - {case: second-factor, holds: true, why: w}\n")
	for _, c := range []struct {
		at   estate.Place
		tier string
		word baseline.Word
		want string
	}{
		{at, "privileged", baseline.RemoteAccess, "false true"}, {at, "standard", baseline.RemoteAccess, "true true"},
		{estate.Place{Name: "x.other", Kind: estate.Domain}, "standard", baseline.RemoteAccess, "false false"},
		{other, "service", baseline.SecondFactorAsked, "true true"}, {other, "service", baseline.InteractiveAccess, "false false"},
	} {
		holds, known := b.Config.Says(c.at, c.tier, c.word)
		if got := fmt.Sprint(holds, " ", known); got != c.want {
			t.Errorf("%s, %s, %s: %s, want %s", c.at.Name, c.tier, c.word, got, c.want)
		}
	}
	if idle := b.Config.Idle(&estate.Estate{}); len(idle) != 2 || idle[0].Name != "x.example" || idle[1].As != "a place under applies" {
		t.Errorf("%+v", idle)
	}
}

// What engagement.yaml says of owners and baselines counts from the nearest on.
func TestConfigNearest(t *testing.T) {
	b := engagement(t)
	b.configured("\xef\xbb\xbf" + config + "authorities:\n  \"*.example\": {baselines: [nist-800-63b], owner: M. Silt}\n" +
		"  x.example: {dialect: samba, owner: R. Keel}\ntiers:\n  privileged: {groups: [Pilots], baselines: [pci-dss-4]}\n")
	at, other := estate.Place{Name: "x.example", Kind: estate.Domain}, estate.Place{Name: "y.example", Kind: estate.Domain}
	for _, c := range []struct{ got, want string }{
		{b.Config.OwnerOf(at), "R. Keel"}, {b.Config.OwnerOf(other), "M. Silt"}, {strings.Join(b.Config.Owners(), ","), "M. Silt,R. Keel"},
		{strings.Join(b.BaselinesFor(other, "standard", custody.WeighOptions{}), ","), "nist-800-63b"},
		{strings.Join(b.BaselinesFor(at, "privileged", custody.WeighOptions{}), ","), "pci-dss-4"},
		{strings.Join(b.BaselinesFor(at, "standard", custody.WeighOptions{Against: []string{"nist-800-63b"}}), ","), "nist-800-63b"},
		{string(b.Config.ForAuthority(at).Dialect.Value), "samba"}, {b.Config.Expect.MaxAge().String(), "8760h0m0s"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

// A waiver needs a reason, a day to come and a finding; it ends on its day, or is withdrawn.
func TestWaive(t *testing.T) {
	b, w := weighed(t)
	f := &w.Findings[slices.IndexFunc(w.Findings, func(f check.Finding) bool { return f.Check == "" && f.Settings[0] == "min-length" })]
	opt := custody.WaiveOptions{Fingerprints: []string{f.Fingerprint}, Until: "2026-12-31", Reason: "R. Keel: replaced in spring"}
	for what, c := range map[string]struct {
		change func(o *custody.WaiveOptions)
		say    string
	}{
		"no reason":    {func(o *custody.WaiveOptions) { o.Reason = " " }, "without a reason"},
		"no end":       {func(o *custody.WaiveOptions) { o.Until = "" }, "without an end"},
		"no day":       {func(o *custody.WaiveOptions) { o.Until = "31.12.2026" }, "expected a day"},
		"past":         {func(o *custody.WaiveOptions) { o.Until = "2026-11-01" }, "is past"},
		"no finding":   {func(o *custody.WaiveOptions) { o.Fingerprints = []string{"zz" + f.Fingerprint[2:]} }, "no finding"},
		"no matter":    {func(o *custody.WaiveOptions) { o.Fingerprints, o.Matter = nil, "M99" }, "M99"},
		"not there":    {func(o *custody.WaiveOptions) { o.Fingerprints, o.Matter, o.Place = nil, "M1", "y.example" }, "y.example"},
		"no setting":   {func(o *custody.WaiveOptions) { o.Fingerprints, o.Setting, o.Scope = nil, "lenght", "*" }, "lenght"},
		"holds":        {func(o *custody.WaiveOptions) { o.Fingerprints, o.Setting, o.Scope = nil, "history", "*default" }, "no finding on history"},
		"too far":      {func(o *custody.WaiveOptions) { o.Until = "2027-11-03" }, "more than a year away; the last day that a waiver may have is 2027-11-02"},
		"a bad scope":  {func(o *custody.WaiveOptions) { o.Fingerprints, o.Setting, o.Scope = nil, "min-length", "[" }, "[" + ""},
		"of one there": {func(o *custody.WaiveOptions) { o.Fingerprints, o.Setting, o.Scope = nil, "min-length", "nowhere*" }, "nowhere"},
	} {
		o := opt
		c.change(&o)
		_, err := b.Waive(o)
		contains(t, what, err, c.say)
	}
	done, err := b.Waive(opt)
	if err != nil || len(done.Waivers) != 1 || done.Waivers[0].Fingerprint != f.Fingerprint || done.Withdrew {
		t.Fatalf("%+v %v", done, err)
	}
	state := func() string {
		all, err := b.Waivers()
		if err != nil || len(all) != 1 {
			t.Fatalf("%+v %v", all, err)
		}
		return fmt.Sprintf("over %v, withdrawn %v", all[0].Over, all[0].Withdrawn)
	}
	for day, want := range map[string]string{"2026-12-31": "over false, withdrawn false", "2027-01-01": "over true, withdrawn false"} {
		b.at, _ = time.Parse(time.DateOnly, day)
		b.at = b.at.Add(12 * time.Hour)
		if got := state(); got != want {
			t.Errorf("on %s: %s, want %s", day, got, want)
		}
	}
	b.at = time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	waived := 0
	for _, f := range b.weigh().Findings {
		if f.Kind == check.Waived {
			waived++
		}
	}
	if waived != 1 {
		t.Errorf("%d waived", waived)
	}
	_, err = b.Withdraw(f.Fingerprint, "")
	contains(t, "no reason", err, "--reason")
	_, err = b.Withdraw("77", "x")
	contains(t, "none", err, "no waiver")
	gone, err := b.Withdraw(fmt.Sprint(done.Entry), "mended")
	if err != nil || !gone.Withdrew || len(gone.Waivers) != 1 || state() != "over false, withdrawn true" {
		t.Errorf("%+v %v %s", gone, err, state())
	}
	_, err = b.Withdraw(f.Fingerprint, "again")
	contains(t, "twice", err, "no waiver")
}

// A matter's name is of one record: with more evidence it is not known which was meant.
func TestNamesOfMatters(t *testing.T) {
	b, _ := weighed(t)
	b.gather("y.ldif", strings.ReplaceAll(head, "DC=x", "DC=y"))
	_, err := b.Waive(custody.WaiveOptions{Matter: "M1", Until: "2026-12-31", Reason: "x"})
	contains(t, "gathered since", err, "names belong to one record")
	w := b.weigh()
	all := w.Matters()
	m := all[slices.IndexFunc(all, func(m *record.Matter) bool {
		return len(m.Findings) > 1 && m.Findings[0].Settings != nil &&
			m.Findings[0].Settings[0] == "min-length" && m.Findings[0].Kind == check.Weak
	})]
	done, err := b.Waive(custody.WaiveOptions{Matter: m.Fingerprint, Place: "x.example", Until: "2026-12-31", Reason: "x"})
	if err != nil || len(done.Waivers) == 0 || len(done.Waivers) >= len(m.Findings) {
		t.Errorf("%d of %d: %v", len(done.Waivers), len(m.Findings), err)
	}
}

// What was mended and is back was never accepted as coming back.
func TestRelapse(t *testing.T) {
	b, w := weighed(t)
	f := w.Findings[slices.IndexFunc(w.Findings, func(f check.Finding) bool {
		return f.Check == "" && f.Settings[0] == "min-length" && f.Kind == check.Weak
	})]
	opt := custody.WaiveOptions{Fingerprints: []string{f.Fingerprint}, Until: "2026-12-31", Reason: "accepted"}
	if _, err := b.Waive(opt); err != nil {
		t.Fatal(err)
	}
	state := func(n int) string {
		b.weigh()
		all, err := b.Waivers()
		if err != nil || len(all) != n {
			t.Fatalf("%+v %v", all, err)
		}
		return string(all[n-1].State)
	}
	lengths := 0
	gathered := func(length string) {
		lengths++
		b.gather(fmt.Sprintf("%d.ldif", lengths), strings.Replace(head, ": 7", ": "+length, 1)+ada)
	}
	for _, c := range []struct{ length, want string }{{"7", "in force"}, {"8", "in force"}, {"6", "outgrown"}, {"7", "in force"}, {"16", "not needed"},
		{"7", "lapsed"}, {"16", "not needed"}, {"8", "lapsed"}} {
		if gathered(c.length); state(1) != c.want {
			t.Errorf("%s characters: %s, want %s", c.length, state(1), c.want)
		}
	}
	if _, err := b.Waive(opt); err != nil || state(2) != "in force" {
		t.Errorf("accepted anew: %s %v", state(2), err)
	}
	if said := b.holds(); len(said) != 0 {
		t.Errorf("%q", said)
	}
}

// What is on record is shown though a baseline of the engagement is gone.
func TestBaselineGone(t *testing.T) {
	b := engagement(t)
	if _, err := b.NewBaseline("harbour", func() (string, error) {
		return "id: harbour\nversion: \"1\"\ntitle: Ours\nextends: cis-windows-server\ndemands: []\n", nil
	}); err != nil {
		t.Fatal(err)
	}
	b.configured(strings.Replace(config, "cis-windows-server", "harbour", 1))
	b.gather("x.ldif", head+ada)
	w := b.weigh()
	if err := os.Remove(filepath.Join(b.dir, "baselines/harbour.yaml")); err != nil {
		t.Fatal(err)
	}
	b.open()
	if back, err := b.Recall(1); err != nil || len(back.Findings) != len(w.Findings) {
		t.Errorf("%v", err)
	}
	if said := b.holds(); len(said) != 0 {
		t.Errorf("%q", said)
	}
	_, err := assess.Weigh(b.Engagement, custody.WeighOptions{Record: true})
	contains(t, "weighing", err, `unknown baseline "harbour"`)
	_, err = collect.Gather(b.Engagement, []string{b.dir}, collect.GatherOptions{})
	contains(t, "gathering", err, `unknown baseline "harbour"`)
}

// Evidence gathered by mistake is set aside, and what was known before counts again.
func TestSetAside(t *testing.T) {
	b := engagement(t)
	b.gather("a.ldif", head+ada)
	b.gather("b.ldif", strings.Replace(head, ": 7", ": 3", 1)+ada)
	length := func() string {
		all, err := b.Estate("class")
		if err != nil || len(all.Authorities) != 1 {
			t.Fatal(all, err)
		}
		n, _ := all.Authorities[0].Head.Settings["min-length"].Value.Number()
		return fmt.Sprint(n)
	}
	if length() != "3" {
		t.Fatal(length())
	}
	for what, c := range map[string]struct {
		names  []string
		reason string
		back   bool
		say    string
	}{"no reason": {[]string{"b.ldif"}, "", false, "--reason"}, "none such": {[]string{"c.ldif"}, "x", false, "no such evidence"},
		"not aside": {[]string{"b.ldif"}, "x", true, "that is so already"}} {
		_, err := b.SetAside(c.names, c.reason, c.back)
		contains(t, what, err, c.say)
	}
	done, err := b.SetAside([]string{"evidence/b.ldif"}, "the wrong client", false)
	if err != nil || !slices.Equal(done.Names, []string{"b.ldif"}) || slices.Equal(done.Before, done.After) || length() != "7" {
		t.Errorf("%+v %v %s", done, err, length())
	}
	if aside, err := b.Aside(); err != nil || !slices.Equal(aside.Files, []string{"b.ldif"}) {
		t.Errorf("%+v %v", aside, err)
	}
	if done, err = b.SetAside([]string{"b.ldif"}, "it was ours", true); err != nil || !done.TakenBack || length() != "3" {
		t.Errorf("%+v %v %s", done, err, length())
	}
	if said := b.holds(); len(said) > 0 {
		t.Errorf("%q", said)
	}
}

// A seal proves the ledger up to its entry; a signature proves who gave it.
func TestSeals(t *testing.T) {
	b, _ := weighed(t)
	seal, err := b.Seal()
	if err != nil {
		t.Fatal(err)
	}
	b.gather("y.ldif", strings.ReplaceAll(head, "DC=x", "DC=y"))
	compared := func(seal string) *custody.Verified {
		v, err := b.Verify()
		if err == nil {
			err = b.CompareSeal(v, seal)
		}
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := compared(" " + strings.ToLower(seal) + "\n"); len(v.Failures) != 0 || v.Since != 1 || v.Seal != seal {
		t.Errorf("%+v", v)
	}
	number, rest, _ := strings.Cut(seal, "-")
	other := "A" + rest[1:]
	if rest[0] == 'A' {
		other = "B" + rest[1:]
	}
	for given, say := range map[string]string{number + "-" + other: "another history", "99-" + rest: "entries were removed"} {
		if v := compared(given); len(v.Failures) != 1 || !strings.Contains(v.Failures[0].Text, say) {
			t.Errorf("%s: %+v, want %q", given, v.Failures, say)
		}
	}
	for _, given := range []string{"", seal[:9], number + rest, "x-" + rest} {
		contains(t, given, b.CompareSeal(&custody.Verified{}, given), "expected a seal")
	}

	dir := t.TempDir()
	write := func(name string, data []byte) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	key := func(name string) (private, public string) {
		pub, priv, err := ed25519.GenerateKey(nil)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(priv, name)
		if err != nil {
			t.Fatal(err)
		}
		sp, err := ssh.NewPublicKey(pub)
		if err != nil {
			t.Fatal(err)
		}
		return write(name, pem.EncodeToMemory(block)), write(name+".pub", ssh.MarshalAuthorizedKey(sp))
	}
	private, public := key("quill")
	_, strange := key("other")
	signature, err := custody.SignSeal(seal, private, nil)
	if err != nil {
		t.Fatal(err)
	}
	file := write("seal.sig", signature)
	for what, c := range map[string]struct{ seal, key, say string }{
		"as it was":    {strings.ToLower(seal), public, ""},
		"another seal": {number + "-" + other, public, "not one on this seal"},
		"another key":  {seal, strange, "another key"},
	} {
		v := &custody.Verified{}
		if err := custody.CheckSignature(v, c.seal, file, c.key); err != nil {
			t.Errorf("%s: %v", what, err)
		}
		if said := fmt.Sprint(v.Failures); (len(v.Failures) == 0) != (c.say == "") || !strings.Contains(said, c.say) {
			t.Errorf("%s: %s, want %q", what, said, c.say)
		}
	}
	contains(t, "no signature", custody.CheckSignature(&custody.Verified{}, seal, public, public), "expected a signature")
	contains(t, "no key", custody.CheckSignature(&custody.Verified{}, seal, file, file), "expected a public key")
	_, err = custody.SignSeal(seal, public, nil)
	contains(t, "signing with a public key", err, "expected a private key")
}

// Whatever is altered is found, and what was only added beside is noted.
func TestVerify(t *testing.T) {
	for what, c := range map[string]struct {
		do  func(b *bench) error
		say string
	}{
		"nothing": {func(*bench) error { return nil }, ""},
		"a byte of a file": {func(b *bench) error {
			return os.WriteFile(filepath.Join(b.dir, "evidence/x.ldif"), []byte(head), 0o600)
		}, "its SHA-256 is"},
		"a file gone": {func(b *bench) error { return os.Remove(filepath.Join(b.dir, "evidence/x.ldif")) }, "the file is gone"},
		"a file no file": {func(b *bench) error {
			return errors.Join(os.Remove(filepath.Join(b.dir, "evidence/x.ldif")), os.Mkdir(filepath.Join(b.dir, "evidence/x.ldif"), 0o700))
		}, "it is no file any more"},
		"a stranger": {func(b *bench) error { return os.WriteFile(filepath.Join(b.dir, "evidence/z.ldif"), nil, 0o600) }, ""},
	} {
		b, _ := weighed(t)
		if err := c.do(b); err != nil {
			t.Fatal(err)
		}
		v, err := b.Verify()
		if err != nil {
			t.Fatal(err)
		}
		doc := v.Document()
		said := fmt.Sprint(v.Failures)
		if doc.Holds != (c.say == "") || !strings.Contains(said, c.say) || v.Files != 1 || v.Weighings != 1 || v.Entries != 3 {
			t.Errorf("%s: %s, %+v; want %q", what, said, doc, c.say)
		}
		if (what == "a stranger") != strings.Contains(fmt.Sprint(v.Notes), "was never gathered") {
			t.Errorf("%s: notes %q", what, v.Notes)
		}
	}
	b, w := weighed(t)
	b.at = b.at.Add(-time.Hour)
	b.gather("y.ldif", strings.ReplaceAll(head, "DC=x", "DC=y"))
	v, err := b.Verify()
	if err != nil || len(v.Failures) > 0 || !strings.Contains(fmt.Sprint(v.Notes), "a clock was set back") {
		t.Errorf("%+v %v", v, err)
	}
	if len(v.Judged) != 1 || v.Judged[0].Weighing != w.Number || v.Judged[0].Outcome != "same" {
		t.Errorf("%+v", v.Judged)
	}
}

// What is destroyed at a contract's end stays proven as far as it can be.
func TestRetire(t *testing.T) {
	b, _ := weighed(t)
	_, err := b.Retire("")
	contains(t, "no reason", err, "--reason")
	done, err := b.Retire("the contract ended")
	if err != nil || done.Files != 1 || done.Size != int64(len(head+ada)) {
		t.Fatalf("%+v %v", done, err)
	}
	if left, err := os.ReadDir(filepath.Join(b.dir, "evidence")); err != nil || len(left) != 0 {
		t.Errorf("%v %v", left, err)
	}
	v, err := b.Verify()
	if err != nil || len(v.Failures) != 0 || !strings.Contains(fmt.Sprint(v.Notes), "1 files of evidence were destroyed") {
		t.Errorf("%+v %v", v, err)
	}
	_, err = b.Retire("again")
	contains(t, "twice", err, "no evidence to destroy")
	// What a stopped run left is destroyed by the next one that opens.
	if err := os.WriteFile(filepath.Join(b.dir, "evidence/x.ldif"), []byte(head), 0o600); err != nil {
		t.Fatal(err)
	}
	b.open()
	if _, err := os.Stat(filepath.Join(b.dir, "evidence/x.ldif")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("it is there again: %v", err)
	}
}

// A gather that was stopped after its entry is finished by whoever opens next; copies that no
// entry tells of go.
func TestWhatAStoppedGatherLeft(t *testing.T) {
	b, _ := weighed(t)
	evidence := filepath.Join(b.dir, "evidence")
	staging := filepath.Join(evidence, custody.StagingPrefix+"abcdefghij")
	if err := os.Mkdir(staging, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(evidence, "x.ldif"), filepath.Join(staging, "x.ldif")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(staging, "never.ldif"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	b.open()
	if said := b.holds(); len(said) != 0 {
		t.Errorf("%q", said)
	}
	if left, _ := os.ReadDir(evidence); len(left) != 1 || left[0].Name() != "x.ldif" {
		t.Errorf("%v", left)
	}
}

// Entries are told in a few words, and picked.
func TestEntries(t *testing.T) {
	b, w := weighed(t)
	if _, err := b.Waive(custody.WaiveOptions{Fingerprints: []string{w.Findings[0].Fingerprint}, Until: "2026-12-31", Reason: "accepted"}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.SetAside([]string{"x.ldif"}, "a mistake", false); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		custody.EntryFilter
		about string
	}{
		{custody.EntryFilter{}, "Lock gates; 1 file, with facts about 1 place or template; weighing 1: " + fmt.Sprint(len(w.Findings)) +
			" findings, against cis-windows-server; 1 finding, until 2026-12-31: accepted; 1 file taken out of use: a mistake"},
		{custody.EntryFilter{Kind: "waive"}, "1 finding, until 2026-12-31: accepted"},
		{custody.EntryFilter{Last: 1}, "1 file taken out of use: a mistake"},
		{custody.EntryFilter{By: "r. quill", Last: 1}, "1 file taken out of use: a mistake"},
		{custody.EntryFilter{By: "nobody"}, ""},
		{custody.EntryFilter{Since: "2026-11-03"}, ""},
		{custody.EntryFilter{Since: "2026-11-02", Kind: "begin"}, "Lock gates"},
	} {
		all, err := b.Entries(c.EntryFilter)
		if err != nil {
			t.Errorf("%+v: %v", c.EntryFilter, err)
		}
		var about []string
		for _, x := range custody.NewEntriesDocument(all).Entries {
			about = append(about, x.About)
		}
		if got := strings.Join(about, "; "); got != c.about {
			t.Errorf("%+v: %q, want %q", c.EntryFilter, got, c.about)
		}
	}
	_, err := b.Entries(custody.EntryFilter{Kind: "waiv"})
	contains(t, "a kind", err, `the nearest is "waive"`)
	_, err = b.Entries(custody.EntryFilter{Since: "yesterday"})
	contains(t, "a day", err, "expected a day")
}

// A pack is the engagement, and nothing else; of one that was tampered with nothing is left.
func TestPack(t *testing.T) {
	b, _ := weighed(t)
	if err := os.WriteFile(filepath.Join(b.dir, "report.html"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "gates.zip")
	p, err := b.Pack(to, custody.PackOptions{})
	if err != nil {
		t.Fatal(err)
	}
	seal, _ := b.Seal()
	if p.Files != 3 || p.Seal != seal || p.Encrypted {
		t.Errorf("%+v", p)
	}
	_, err = b.Pack(to, custody.PackOptions{})
	contains(t, "twice", err, "exists already")
	unpack := func(file string) (*custody.Verified, string, error) {
		dir := filepath.Join(t.TempDir(), "in", "there")
		if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
			t.Fatal(err)
		}
		v, err := custody.Unpack(t.Context(), file, dir, custody.UnpackOptions{Judge: assess.Judge}, b.now)
		left, _ := os.ReadDir(filepath.Dir(dir))
		if (err == nil) != (len(left) == 1) {
			t.Errorf("%v, and there is %v", err, left)
		}
		return v, dir, err
	}
	v, dir, err := unpack(to)
	if err != nil || len(v.Failures) > 0 {
		t.Fatalf("%+v %v", v, err)
	}
	if got := custody.SealOf(&v.Last); got != seal {
		t.Errorf("%s, want %s", got, seal)
	}
	if _, err := custody.Unpack(t.Context(), to, dir, custody.UnpackOptions{}, b.now); err == nil {
		t.Error("unpacked over a folder")
	}
	for what, c := range map[string]struct {
		change func(name string, data []byte) (string, []byte, bool)
		say    string
	}{
		"a byte of evidence": {func(name string, data []byte) (string, []byte, bool) {
			if strings.HasSuffix(name, "x.ldif") {
				data = bytes.Replace(data, []byte(": 7"), []byte(": 9"), 1)
			}
			return name, data, true
		}, "x.ldif"},
		"a file left out": {func(name string, data []byte) (string, []byte, bool) {
			return name, data, !strings.HasSuffix(name, "x.ldif")
		}, "x.ldif"},
		"a file more": {func(name string, data []byte) (string, []byte, bool) {
			if strings.HasSuffix(name, custody.BagManifest) {
				data = append(data, []byte(strings.Repeat("0", 64)+"  data/evidence/z.ldif\n")...)
			}
			return name, data, true
		}, ""},
		"a way out": {func(name string, data []byte) (string, []byte, bool) {
			return strings.Replace(name, "data/evidence/", "data/../", 1), data, true
		}, ".."},
	} {
		_, _, err := unpack(zipped(t, to, c.change))
		contains(t, what, err, c.say)
		if err != nil && !strings.Contains(err.Error(), "nothing was unpacked") {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// zipped is an archive as it is, but for what change makes of each member.
func zipped(t *testing.T, file string, change func(name string, data []byte) (string, []byte, bool)) string {
	t.Helper()
	in, err := zip.OpenReader(file)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	var b bytes.Buffer
	out := zip.NewWriter(&b)
	for _, f := range in.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		name, data, keep := change(f.Name, data)
		if !keep {
			continue
		}
		w, err := out.Create(name)
		if err == nil {
			_, err = w.Write(data)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := out.Close(); err != nil {
		t.Fatal(err)
	}
	made := filepath.Join(t.TempDir(), "other.zip")
	if err := os.WriteFile(made, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return made
}

// Own baselines stand beside the shipped ones, and extend them.
func TestLibrary(t *testing.T) {
	b := engagement(t)
	own := func(id, text string) error {
		_, err := b.NewBaseline(id, func() (string, error) { return text, nil })
		return err
	}
	const harbour = "id: harbour\nversion: \"1\"\ntitle: Ours\nextends: nist-800-63b\ndemands: []\n"
	if err := own("harbour", harbour); err != nil {
		t.Fatal(err)
	}
	contains(t, "twice", own("harbour", harbour), "harbour")
	contains(t, "a shipped one's name", own("nist-800-63b", harbour), "nist-800-63b")
	l := b.Baselines()
	ids, err := l.IDs()
	if err != nil || !slices.Contains(ids, "harbour") || len(ids) != len(custody.ShippedBaselines())+1 {
		t.Errorf("%q %v", ids, err)
	}
	got, texts, err := l.Read("harbour")
	if err != nil || got.Extends != "nist-800-63b" || len(texts) != 2 || len(got.Demands) == 0 {
		t.Errorf("%+v %v", got, err)
	}
	_, err = l.Get("harbor")
	contains(t, "none such", err, `"harbour"`)
	if l.Source("harbour") == l.Source("nist-800-63b") {
		t.Error("an own one is told as shipped")
	}
	doc, err := l.List()
	if err != nil || len(doc.Baselines) != len(ids) {
		t.Errorf("%+v %v", doc, err)
	}
}

// Outputs appear whole, all of them or none.
func TestWriteFiles(t *testing.T) {
	dir := t.TempDir()
	one, two := filepath.Join(dir, "a.txt"), filepath.Join(dir, "b.txt")
	put := func(text string) func(io.Writer) error {
		return func(w io.Writer) error { _, err := io.WriteString(w, text); return err }
	}
	if err := custody.WriteFiles([]custody.Output{{File: one, Write: put("1")}, {File: two, Write: put("2")}}, false); err != nil {
		t.Fatal(err)
	}
	contains(t, "there already", custody.WriteFiles([]custody.Output{{File: one, Write: put("3")}}, false), "a.txt")
	failing := func(io.Writer) error { return errors.New("no room") }
	contains(t, "half of it", custody.WriteFiles([]custody.Output{{File: one, Write: put("4")}, {File: two, Write: failing}}, true), "no room")
	if data, _ := os.ReadFile(one); string(data) != "1" {
		t.Errorf("%q", data)
	}
	if left, _ := os.ReadDir(dir); len(left) != 2 {
		t.Errorf("%v", left)
	}
}

// A record is read back as it was made, with its state of the engagement.
func TestRecall(t *testing.T) {
	b, w := weighed(t)
	if again := b.weigh(); !again.Before || again.Number != w.Number {
		t.Errorf("recorded again: %+v", again.Number)
	}
	b.gather("z.ldif", strings.Replace(head, ": 7", ": 16", 1)+ada)
	second := b.weigh()
	if second.Before || second.Number != 2 || len(second.Reasons) == 0 {
		t.Fatalf("%d %q", second.Number, second.Reasons)
	}
	back, err := b.Recall(1)
	if err != nil {
		t.Fatal(err)
	}
	told := func(w *custody.Weighing) string {
		data, err := json.Marshal(assess.Document(w))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	if now, then := len(back.Findings), len(w.Findings); now != then || back.Past == nil || !back.At.Equal(w.At) {
		t.Errorf("%d findings of %d at %s", now, then, back.At)
	}
	if a, b := strings.Replace(told(w), `"recorded":true`, `"recorded":false`, 1), told(back); a != b {
		t.Errorf("%s\n%s", a, b)
	}
	for back, want := range map[int]int64{0: 2, 1: 1} {
		if n, err := b.Newest(back); err != nil || n != want {
			t.Errorf("%d back: %d %v", back, n, err)
		}
	}
	_, err = b.Newest(2)
	if err == nil {
		t.Error("three back of two")
	}
	_, err = b.Recall(9)
	contains(t, "none such", err, "9")
	if files := second.Files; len(files) != 1 {
		t.Errorf("%q", files)
	}
}

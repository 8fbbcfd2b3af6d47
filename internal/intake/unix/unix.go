// Package unix reads a Unix machine's etc tree: the stacks of Linux-PAM and
// the files of the modules that they call, login.defs, and the accounts with
// their ageing fields (pam.conf(5), pwquality.conf(5), faillock.conf(5),
// pwhistory.conf(5), login.defs(5), shadow(5)).
//
// The stacks decide. What a module's file says counts only if a stack calls
// the module in a way that makes its refusal count; what the stack passes as
// arguments goes before the file.
package unix

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format is the etc tree.
var Format = intake.TreeFormat{Name: "Unix machine (etc tree)", Part: part, Whole: true, Bare: bareFolders, Below: "etc",
	Further: further, Call: hostname, Rest: besides, Read: read}

// besides are the folders of a machine, and of what support tools collect of
// one, that hold nothing that is read.
var besides = []string{"bin", "boot", "dev", "home", "lib", "lib32", "lib64", "media", "mnt", "opt", "proc", "root", "run",
	"sbin", "srv", "sys", "tmp", "usr", "var", "sos_*", "installed-*", "packages"}

// bareFolders are folders that hold what else stands in etc.
func bareFolders(paths []string) (all []string) {
	has := map[string]map[string]bool{}
	for _, file := range paths {
		dir, name := path.Split(file)
		dir = strings.TrimSuffix(dir, "/")
		if base := path.Base(dir); base == "pam.d" || base == "security" {
			dir, name = path.Dir(dir), base
		}
		if slices.Contains([]string{"passwd", "shadow", "login.defs", "pam.d", "security", "debian_version", "os-release",
			"nsswitch.conf", "hostname"}, name) && dir != "" && path.Base(dir) != "etc" {
			if has[dir] == nil {
				has[dir] = map[string]bool{}
			}
			has[dir][name] = true
		}
	}
	for dir, names := range has {
		if (names["pam.d"] || names["passwd"] || names["shadow"]) && len(names) >= 2 {
			all = append(all, dir)
		}
	}
	slices.Sort(all)
	return all
}

// hostname is what the machine calls itself.
func hostname(find func(part string) []byte) string {
	for line := range strings.Lines(string(find("etc/hostname"))) {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "localhost") {
			return line
		}
	}
	return ""
}

// naming are the arguments by which modules are told a file of settings.
var naming = map[string][]string{"pam_faillock": {"conf"}, "pam_pwhistory": {"conf"}, "pam_passwdqc": {"config"},
	"pam_listfile": {"file"}, "pam_access": {"accessfile"}, "pam_time": {"conffile"}}

// further names the lists of packages, and the files that calls of modules and
// sudoers name.
func further(t *intake.Tree) (all []string) {
	all = append(slices.Clone(packageLists), byPath(t)...)
	services := newStacks(t)
	for _, name := range services.names {
		for _, l := range logical(services.find(name).Data) {
			for i, word := range words(l.text) {
				if i < 2 {
					continue
				}
				module := strings.TrimSuffix(path.Base(word), ".so")
				for _, arg := range words(l.text)[i:] {
					key, file, ok := strings.Cut(arg, "=/")
					if ok && slices.Contains(naming[module], key) && plainFile(file) {
						all = append(all, path.Clean(file))
					}
				}
			}
		}
	}
	for _, p := range t.Parts {
		if strings.HasPrefix(p.Name, "etc/sudoers") {
			for line := range strings.Lines(string(p.Data)) {
				if m := includes.FindStringSubmatch(strings.TrimSpace(line)); m != nil && m[1] == "include" && plainFile(m[2]) {
					all = append(all, sudoersPath(m[2]))
				}
			}
		}
	}
	return all
}

// byPath are the stacks that others include by their path.
func byPath(t *intake.Tree) (all []string) {
	services := newStacks(t)
	for _, name := range services.names {
		for _, l := range logical(services.find(name).Data) {
			w := words(l.text)
			at := len(w)
			if strings.EqualFold(w[0], "@include") {
				at = 1
			} else if len(w) > 2 && (strings.EqualFold(w[1], "include") || strings.EqualFold(w[1], "substack")) {
				at = 2
			}
			if at < len(w) && strings.HasPrefix(w[at], "/") && plainFile(w[at]) {
				all = append(all, strings.TrimPrefix(path.Clean(w[at]), "/"))
			}
		}
	}
	return all
}

// plainFile reports whether a file that another names may be taken: none that is
// known to hold hashes or keys.
func plainFile(name string) bool {
	base := path.Base(name)
	return !strings.HasPrefix(base, "opasswd") && !strings.HasPrefix(base, "shadow") && !strings.HasPrefix(base, "gshadow") &&
		!strings.Contains(base, "key") && path.Ext(base) != ".pem"
}

const pamFolder = "etc/pam.d/"

// wanted are the files that are read, by their place in the tree. Those that
// end in a slash are folders.
var wanted = []string{
	"etc/pam.conf", "etc/nsswitch.conf", "etc/sudoers", "etc/sudoers.d/", "etc/hostname", "etc/machine-id", "etc/shells", "etc/redhat-release",
	"etc/passwdqc.conf", "etc/ssh/sshd_config", "etc/ssh/sshd_config.d/", "usr/etc/ssh/sshd_config",
	"etc/login.defs", "etc/passwd", "etc/group", "etc/shadow", "etc/default/useradd", "etc/debian_version", "etc/os-release",
	"usr/lib/os-release",
	"etc/security/pwquality.conf", "etc/security/pwquality.conf.d/", "etc/security/faillock.conf", "etc/security/pwhistory.conf",
	"usr/etc/login.defs", "usr/etc/security/", "usr/etc/nsswitch.conf", "usr/etc/shells", "usr/etc/default/useradd", "usr/etc/sudoers",
	"etc/security/", pamFolder, "etc/authselect/", "usr/lib/pam.d/", "usr/etc/pam.d/", "usr/share/pam.d/",
}

// foreign are files that only other systems have. Their trees look alike and
// mean something else; read by halves they would look like machines that ask
// for nothing.
var foreign = map[string]string{"etc/master.passwd": "FreeBSD or another BSD", "etc/login.conf": "FreeBSD or another BSD",
	"etc/security/user": "AIX", "etc/security/login.cfg": "AIX",
	"etc/security/passwd": "AIX", "etc/default/passwd": "Solaris", "etc/security/policy.conf": "Solaris", "etc/authorization": "macOS",
	"etc/alpine-release": "Alpine Linux without PAM"}

// foreignTree refuses the tree of another system by its name.
func foreignTree(t *intake.Tree) error {
	for _, p := range t.Parts {
		system, ok := foreign[p.Name]
		if ok && !(p.Name == "etc/alpine-release" &&
			slices.ContainsFunc(t.Parts, func(p *intake.Part) bool { return strings.HasPrefix(p.Name, pamFolder) })) {
			return &intake.Error{Path: p.Path, Foreign: true, Seen: "the etc tree of " + system, Expected: "a machine with Linux-PAM",
				Next: "leave " + t.Name + " out, and put its settings into a sheet (docs/sheets.md)"}
		}
	}
	return nil
}

// part finds the place of a file below the last folder in which it is known.
func part(file string, _ []byte) (root, name string, ok bool) {
	for end := len(file); ; {
		at := strings.LastIndex("/"+file[:end], "/etc/")
		if usr := strings.LastIndex("/"+file[:end], "/usr/"); usr > at {
			at = usr
		}
		if at < 0 {
			return root, name, false
		}
		if above, rest, ok := within(file, at); ok {
			if up, usr := strings.CutSuffix("/"+above, "/usr"); usr { // usr/etc is no machine of its own
				above, rest, ok := within(file, len(up))
				return above, rest, ok
			}
			return above, rest, true
		} else if root == "" && strings.HasPrefix(rest, "etc/") {
			root = above
		}
		end = max(at-1, 0)
	}
}

// within cuts a path in two, and reports whether the lower part is wanted.
func within(file string, at int) (above, rest string, ok bool) {
	above, rest = file[:at], file[at:]
	if above != "/" {
		above = cmp.Or(strings.TrimSuffix(above, "/"), ".")
	}
	if _, known := foreign[rest]; known {
		return above, rest, true
	}
	return above, rest, slices.ContainsFunc(wanted, func(w string) bool {
		below := strings.TrimPrefix(rest, w)
		if strings.HasSuffix(w, "etc/security/") && path.Ext(rest) != ".conf" {
			return false // opasswd holds hashes of former passwords
		}
		return rest == w || strings.HasSuffix(w, "/") && below != rest && below != "" && !strings.Contains(below, "/") && !spare(below)
	})
}

// spare reports whether a file in a folder of settings is one that the modules
// pass over: what editors and package tools leave.
func spare(name string) bool {
	switch path.Ext(name) {
	case ".dpkg-old", ".dpkg-dist", ".dpkg-new", ".rpmsave", ".rpmnew", ".bak", ".orig", ".swp":
		return true
	}
	return strings.HasSuffix(name, "~") || strings.HasPrefix(name, ".")
}

// file finds a file below etc; where it is not there, the vendor's own below usr (as SUSE and
// others have them), which the one in etc takes the place of.
func (r *reader) file(name string) *intake.Part {
	if p := r.tree.Find(name); p != nil {
		return p
	}
	return r.tree.Find("usr/" + name)
}

// reader turns one machine's tree into facts.
type reader struct {
	tree  *intake.Tree
	into  *estate.Builder
	at    estate.Place
	here  *estate.Authority
	pam   stacks
	rules estate.Settings // what holds for everybody but root
	root  estate.Settings // what holds for root
	asks  struct{ rules, root *estate.Asks }

	people    []person
	byGroup   map[string]unixGroup
	sudo      *sudoers
	elsewhere []source // of accounts other than passwd

	doors   []door
	ageless *estate.Cite // where a door lets in whose password has ended; nil: none does
	// ageUnread says that a door cannot be followed, and may let in whose password has ended.
	ageUnread *estate.Fact

	ageings map[string]bool // names of policies that accounts' own ages made

	// older: where the evidence does not tell which version of a component the machine has, it
	// is read as the oldest that it can be; else as the newest.
	older bool

	newest int64 // day on which the newest password of shadow was set, from 1970
}

func read(t *intake.Tree, into *estate.Builder) error {
	if err := foreignTree(t); err != nil {
		return err
	}
	if !slices.ContainsFunc(t.Parts, func(p *intake.Part) bool {
		return slices.ContainsFunc(serviceFolders, func(f string) bool { return strings.HasPrefix(p.Name, f) }) || p.Name == "etc/passwd" ||
			p.Name == "etc/shadow" || p.Name == "etc/login.defs"
	}) {
		return &intake.Error{Path: t.Path, Seen: "an etc tree without pam.d, passwd, shadow and login.defs", Expected: "at least one of them",
			Next: "see docs/sources.md for what to copy"}
	}
	r := newReader(t, into)
	into.StartFile(t.Parts[0].Stored)
	if known := into.Knows(r.at); known != nil {
		return &intake.Error{Path: t.Path, Seen: "a second export of the machine " + t.Name,
			Expected: "one export for each machine in one gather",
			Next:     "a machine is named by the folder or archive its etc lies in: rename one of the two"}
	}
	r.here = into.At(r.at)
	r.here.Platform = setting.UnixMachine
	for _, p := range t.Parts {
		into.StartFile(p.Stored)
		into.At(r.at) // every part is evidence of the machine
	}
	r.here.MachineID = machineID(t)
	keepParts(t)
	r.here.System.Kind, r.here.System.Version = r.system()
	r.facts()
	r.bothWays()
	return nil
}

func newReader(t *intake.Tree, into *estate.Builder) *reader {
	return &reader{tree: t, into: into, at: estate.Place{Name: t.Name, Kind: estate.Machine}, pam: newStacks(t), rules: estate.Settings{},
		root: estate.Settings{}, ageings: map[string]bool{}}
}

func (r *reader) facts() {
	r.readPeople()
	r.passwordRules()
	r.lockout()
	r.otherSources()
	r.defaults()
	r.accounts()
}

// bothWays reads the machine once more where the evidence does not tell what versions it has:
// what differs is not known.
func (r *reader) bothWays() {
	told := true
	for _, f := range []feature{lockFile, noCredits} {
		_, sure := r.has(f)
		told = told && sure
	}
	if v := r.version(libpwquality); told && v.low == v.high {
		return
	}
	into := estate.NewBuilder()
	into.StartFile(r.tree.Parts[0].Stored)
	older := newReader(r.tree, into)
	older.older, older.here = true, into.At(r.at)
	older.here.Platform = r.here.Platform
	older.facts()
	others := map[string]*estate.Policy{}
	for _, p := range policiesOf(older.here) {
		others[p.Name] = p
	}
	const why = "what the machine makes of it differs by the version of its modules, and the evidence does not tell which it has"
	for _, p := range policiesOf(r.here) {
		other := others[p.Name]
		if other == nil {
			continue
		}
		for id, f := range p.Settings {
			if o := other.Settings[id]; f.Problem == "" && (o.Problem != "" || o.Value != f.Value) {
				p.Settings[id] = estate.Fact{Cite: f.Cite, Problem: why, Remedy: "Gather etc/os-release, or the list of packages, too."}
			}
		}
	}
}

// policiesOf are a machine's policies: its own, and what comes of it for some accounts.
func policiesOf(a *estate.Authority) []*estate.Policy {
	var all []*estate.Policy
	if a.Head != nil {
		all = append(all, a.Head)
	}
	for _, of := range [][]estate.Policy{a.Overrides, a.Typed} {
		for i := range of {
			all = append(all, &of[i])
		}
	}
	return all
}

// machineID is a digest of what the machine is called by itself for good: machine-id(5) says
// to treat it as confidential.
func machineID(t *intake.Tree) string {
	p := t.Find("etc/machine-id")
	if p == nil {
		return ""
	}
	id := strings.TrimSpace(string(p.Data))
	if raw, err := hex.DecodeString(id); err != nil || len(raw) != 16 {
		return ""
	}
	sum := sha256.Sum256([]byte("machine-id " + id))
	return hex.EncodeToString(sum[:8])
}

// cite is a place in a part.
func cite(p *intake.Part, line int, where, raw string) estate.Cite {
	return estate.Cite{File: p.Stored, Line: line, Where: where, Raw: raw}
}

// set puts a fact into the settings of everybody, or of root, or both.
func (r *reader) set(id setting.ID, v setting.Value, c estate.Cite, into ...estate.Settings) {
	for _, s := range into {
		r.into.Set(s, setting.UnixMachine, id, v, c)
	}
}

// unreadable notes that settings stand in the evidence and cannot be told.
func (r *reader) unreadable(c estate.Cite, why string, ids ...setting.ID) {
	for _, id := range ids {
		for _, s := range []estate.Settings{r.rules, r.root} {
			s[id] = estate.Fact{Cite: c, Problem: why, Remedy: "Look at the stack there: gather the files it names, or mend it."}
		}
	}
	r.into.NotUnderstood(c, "%s", why)
}

// remark notes something about how the machine is set up that a check reports.
func (r *reader) remark(kind estate.RemarkKind, about, text, remedy string, settings []setting.ID, cites ...estate.Cite) {
	if slices.ContainsFunc(r.here.Remarks, func(m estate.Remark) bool { return m.Kind == kind && m.About == about && m.Text == text }) {
		return // several calls of a module read one file
	}
	r.here.Remarks = append(r.here.Remarks, estate.Remark{Kind: kind, About: about, Text: text, Remedy: remedy, Settings: settings,
		Cites: cites})
}

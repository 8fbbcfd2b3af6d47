package unix

import (
	"path"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// sshConfigs are where the configuration of OpenSSH's server lies (sshd_config(5)), in the
// order in which it is looked for.
var sshConfigs = []string{"etc/ssh/sshd_config", "usr/etc/ssh/sshd_config"}

// sshWords are the keywords that are read.
var sshWords = []string{"usepam", "passwordauthentication", "kbdinteractiveauthentication", "challengeresponseauthentication"}

// sshServer is what the configuration says of passwords. Of each keyword the first value
// counts; what is not there has upstream's default: UsePAM no, passwords yes.
type sshServer struct {
	pam       bool
	passwords bool // some way to sign in by a password is open
	cite      estate.Cite
}

// sshd reads the server's configuration; nil: it is not in the evidence.
func (r *reader) sshd() *sshServer {
	for _, name := range sshConfigs {
		p := r.tree.Find(name)
		if p == nil {
			continue
		}
		found := options{}
		r.sshFile(p, found, 0)
		says := func(word string, otherwise bool) bool {
			o, ok := found[word]
			return !ok && otherwise || ok && strings.EqualFold(o.value, "yes")
		}
		s := &sshServer{pam: says("usepam", false), cite: cite(p, 1, "UsePAM", "")}
		s.cite.Note = "not there: off"
		if o, ok := found["usepam"]; ok {
			s.cite = o.cite
		}
		interactive := says("kbdinteractiveauthentication", says("challengeresponseauthentication", true))
		s.passwords = says("passwordauthentication", true) || s.pam && interactive
		return s
	}
	return nil
}

const deepestSSH = 16

// sshFile reads one file, and what it includes where it says so. What stands under Match is for
// some connections alone: another value of passwords there opens the door for them.
func (r *reader) sshFile(p *intake.Part, found options, depth int) {
	matched := false
	for i, text := range strings.Split(string(p.Data), "\n") {
		line := strings.TrimSpace(text)
		if line == "" || line[0] == '#' {
			continue
		}
		name, value := line, ""
		if end := strings.IndexAny(line, " \t="); end >= 0 {
			name, value = line[:end], strings.Trim(strings.TrimLeft(line[end:], " \t="), `"`)
		}
		switch key := strings.ToLower(name); {
		case key == "match":
			matched = !strings.EqualFold(strings.TrimSpace(value), "all")
		case key == "include" && depth < deepestSSH:
			for _, pattern := range strings.Fields(value) {
				if !strings.HasPrefix(pattern, "/") {
					pattern = path.Join("/etc/ssh", pattern)
				}
				for _, other := range r.tree.Parts { // sorted by name, as glob(3) gives them
					if ok, _ := path.Match(strings.TrimPrefix(pattern, "/"), other.Name); ok {
						r.sshFile(other, found, depth+1)
					}
				}
			}
		case matched && key != "usepam" && strings.EqualFold(value, "yes"):
			found[key] = option{value, cite(p, i+1, name, line)}
		case matched:
		default:
			if _, before := found[key]; !before {
				found[key] = option{value, cite(p, i+1, name, line)}
			}
		}
	}
}

// openSSH is the door that sshd is, given its configuration: without PAM it compares the
// password itself, counts nothing, and locks nobody.
func (r *reader) openSSH(d *door) *door {
	s := r.sshd()
	switch {
	case s == nil:
		if d != nil {
			r.remark(estate.SSHUnseen, "sshd", "sshd has a stack, and its configuration is not in the evidence: whether it asks PAM at all (UsePAM) is "+
				"not known. What is said of the machine stands for its other doors", "Copy etc/ssh/sshd_config and etc/ssh/sshd_config.d too, and gather "+
				"the machine again.", lockoutSettings, d.checks)
		}
		return d
	case !s.passwords:
		return nil
	case s.pam:
		return d
	}
	at := s.cite
	if at.Note == "" {
		at.Note = "sshd checks the password itself, asks no module, and locks nobody"
	} else {
		at.Note = "UsePAM is " + at.Note + ". sshd checks the password itself, asks no module, and locks nobody"
	}
	l := neverLocks(at)
	if d == nil {
		d = &door{service: "sshd", ages: true}
	}
	d.lock, d.root, d.members, d.admins, d.checks = l.users, l.root, nil, "", at
	return d
}

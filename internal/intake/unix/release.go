package unix

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// release returns what kind of system the machine is, and its version: "debian"
// and 12.15; "" and 0 where the evidence does not tell.
func (r *reader) release() (kind string, version float64) {
	kind, text := r.system()
	version, _ = strconv.ParseFloat(text, 64)
	return kind, version
}

// system returns them as os-release(5) writes them: "ubuntu" and "24.04".
func (r *reader) system() (kind, version string) {
	for _, name := range []string{"etc/os-release", "usr/lib/os-release"} {
		o := r.assignments(name)
		if len(o) == 0 {
			continue
		}
		return strings.Trim(o["ID"].value, `"'`), strings.Trim(o["VERSION_ID"].value, `"'`)
	}
	if p := r.tree.Find("etc/debian_version"); p != nil {
		// Others that are made of Debian say "trixie/sid" there.
		text := strings.TrimSpace(string(p.Data))
		if _, err := strconv.ParseFloat(text, 64); err == nil {
			return "debian", text
		}
	}
	if p := r.tree.Find("etc/redhat-release"); p != nil {
		if m := redHat.FindStringSubmatch(string(p.Data)); m != nil {
			return kindsOfRedHat[m[1]], m[2]
		}
	}
	return "", ""
}

// redHat is what such systems write into redhat-release: a name and a version.
var redHat = regexp.MustCompile(`^(Red Hat|CentOS|Rocky|AlmaLinux|Oracle|Fedora)\b.* release (\d+(?:\.\d+)?)`)

var kindsOfRedHat = map[string]string{"Red Hat": "rhel", "CentOS": "centos", "Rocky": "rocky", "AlmaLinux": "almalinux",
	"Oracle": "ol", "Fedora": "fedora"}

// packageLists are where a machine's packages may be listed, below its root: its
// own list, those of support tools, that of the script in docs/sources.md.
var packageLists = []string{"packages", "var/lib/dpkg/status", "installed-debs", "installed-rpms"}

// linuxPAM finds the version of Linux-PAM in such a list.
var linuxPAM = []*regexp.Regexp{
	regexp.MustCompile(`(?m)^(?:ii\s+)?libpam-modules(?::\w+)?\s+(\d+)\.(\d+)(?:\.(\d+))?`),
	regexp.MustCompile(`(?m)^Package: libpam-modules\n(?:[A-Z][^\n]*\n)*?Version: (\d+)\.(\d+)(?:\.(\d+))?`),
	regexp.MustCompile(`(?m)^pam-(\d+)\.(\d+)(?:\.(\d+))?-`),
}

// pamVersion returns the version of Linux-PAM as a number to compare, such as
// 1_005_003; 0 where no list of packages was gathered.
func (r *reader) pamVersion() int {
	for _, name := range packageLists {
		p := r.tree.Find(name)
		if p == nil {
			continue
		}
		for _, form := range linuxPAM {
			if m := form.FindSubmatch(p.Data); m != nil {
				version := 0
				for _, part := range m[1:] {
					n, _ := strconv.Atoi(string(part))
					version = version*1000 + n
				}
				return version
			}
		}
	}
	return 0
}

// historyFiles says from which version on a system's pam_pwhistory reads
// pwhistory.conf: with Linux-PAM 1.5.3.
var historyFiles = map[string]float64{"debian": 13, "ubuntu": 24.04, "fedora": 39, "rhel": 10, "centos": 10, "rocky": 10,
	"almalinux": 10, "ol": 10}

// readsHistoryFile reports whether this machine's pam_pwhistory reads its
// file, and whether the evidence tells.
func (r *reader) readsHistoryFile() (reads, told bool) {
	kind, version := r.release()
	if pam := r.pamVersion(); pam > 0 {
		const since = 1_005_003
		return pam >= since, pam >= since || !backports[kind]
	}
	since, known := historyFiles[kind]
	if !known || version == 0 {
		return false, false
	}
	if version < since && backports[kind] {
		return false, false // some of its later updates may have it
	}
	return version >= since, true
}

// backports are the systems that bring parts of newer versions into older ones.
var backports = map[string]bool{"rhel": true, "centos": true, "rocky": true, "almalinux": true, "ol": true}

// wholeNumbers says from which version on a system's pam_unix makes 0 of an
// argument that is no whole number; before, it took the digits in front. Since
// Linux-PAM 1.7.
var wholeNumbers = map[string]float64{"debian": 13, "ubuntu": 25.04, "fedora": 42, "rhel": 11, "centos": 11, "rocky": 11,
	"almalinux": 11, "ol": 11}

// unixNumber reads the number of an argument of pam_unix as the machine does,
// the weaker way where its version is not known, and says what is wrong with it.
func (r *reader) unixNumber(text string) (n int64, why string) {
	n, err := strconv.ParseInt(text, 10, 32)
	if err == nil {
		return max(n, 0), ""
	}
	if before, _ := r.beforeWholeNumbers(); before {
		n, _ = strconv.ParseInt(leading(text), 10, 32)
		return max(n, 0), fmt.Sprintf("pam_unix takes %d of %q, and 0 from Linux-PAM 1.7 on", n, text)
	}
	return 0, fmt.Sprintf("pam_unix takes 0 of %q", text)
}

// beforeWholeNumbers reports whether the machine's Linux-PAM is older than 1.7,
// and whether the evidence tells.
func (r *reader) beforeWholeNumbers() (before, told bool) {
	if pam := r.pamVersion(); pam > 0 {
		const since = 1_007_000
		return pam < since, true
	}
	kind, version := r.release()
	since, known := wholeNumbers[kind]
	return known && version > 0 && version < since, known && version > 0
}

// Ages are counted otherwise since Linux-PAM 1.7: a password ends on the day on which it
// is as old as it may grow, not on the day after, and one without the day of its last
// change never ends, where it was older than any before. What 1.6 does was not tried.
const (
	countsOld = 1_006_000
	countsNew = 1_007_000
)

// countsFromTheDay reports whether the machine's pam_unix counts the newer way, and
// whether the evidence tells.
func (r *reader) countsFromTheDay() (newer, told bool) {
	if pam := r.pamVersion(); pam > 0 {
		return pam >= countsNew, pam < countsOld || pam >= countsNew
	}
	kind, version := r.release()
	since, known := wholeNumbers[kind]
	until, old := historyFiles[kind] // older systems have 1.5.3 at the most
	switch {
	case known && version >= since:
		return true, true
	case old && version > 0 && version < until, kind == "ubuntu" && version == until:
		return false, true
	}
	return false, false
}

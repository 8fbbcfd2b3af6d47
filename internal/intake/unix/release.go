package unix

import (
	"cmp"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// system returns them as os-release(5) writes them: "ubuntu" and "24.04".
func (r *reader) system() (kind, version string) {
	for _, name := range []string{"etc/os-release", "usr/lib/os-release"} {
		o := r.assignments(name)
		if len(o) == 0 {
			continue
		}
		kind, version = strings.Trim(o["ID"].value, `"'`), strings.Trim(o["VERSION_ID"].value, `"'`)
		if _, of := r.redHat(); strings.HasPrefix(of, version+".") {
			version = of // it tells the minor release, too
		}
		return kind, version
	}
	if p := r.tree.Find("etc/debian_version"); p != nil {
		// Others that are made of Debian say "trixie/sid" there.
		text := strings.TrimSpace(string(p.Data))
		if _, err := strconv.ParseFloat(text, 64); err == nil {
			return "debian", text
		}
	}
	return r.redHat()
}

// redHat is what redhat-release says.
func (r *reader) redHat() (kind, version string) {
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

// versions are what a version can be, as numbers to compare, such as 1_005_003: as far as the
// evidence tells, it is one.
type versions struct{ low, high int }

const newest = 999_999_999

var anyVersion = versions{0, newest}

func exactly(version int) versions { return versions{version, version} }

// shippedWith is what a release of a system, and those after it, come with: Linux-PAM, and
// libpwquality. A release is a number to compare: 24_004 for 24.04.
type shippedWith struct {
	from         int
	pam, quality versions
}

// systems are the releases that are known, by the ID of os-release(5). What is not in it, and
// no list of packages tells, is read both ways.
var systems = map[string][]shippedWith{
	"debian": {{8_000, exactly(1_001_008), exactly(1_002_004)}, {9_000, exactly(1_001_008), exactly(1_003_000)},
		{10_000, exactly(1_003_001), exactly(1_004_000)}, {11_000, exactly(1_004_000), exactly(1_004_004)},
		{12_000, exactly(1_005_002), exactly(1_004_005)}, {13_000, exactly(1_007_000), exactly(1_004_005)},
		{14_000, versions{1_007_000, newest}, versions{1_004_005, newest}}},
	"ubuntu": {{16_000, exactly(1_001_008), exactly(1_003_000)}, {18_000, exactly(1_001_008), exactly(1_004_000)},
		{20_000, exactly(1_003_001), exactly(1_004_002)}, {22_000, exactly(1_004_000), exactly(1_004_004)},
		{23_000, exactly(1_005_002), exactly(1_004_005)}, {24_000, exactly(1_005_003), exactly(1_004_005)},
		{25_000, versions{1_005_003, 1_007_000}, exactly(1_004_005)}, {25_010, versions{1_007_000, newest}, versions{1_004_005, newest}}},
	"fedora": {{33_000, versions{1_004_000, 1_005_001}, versions{1_004_002, 1_004_005}}, {36_000, exactly(1_005_002), versions{1_004_004, 1_004_005}},
		{39_000, exactly(1_005_003), exactly(1_004_005)}, {40_000, versions{1_006_000, 1_006_001}, exactly(1_004_005)},
		{42_000, versions{1_007_000, newest}, versions{1_004_005, newest}}},
	"rhel": {{7_000, exactly(1_001_008), exactly(1_002_003)}, {8_000, exactly(1_003_001), exactly(1_004_000)},
		{8_003, exactly(1_003_001), exactly(1_004_004)}, {9_000, exactly(1_005_001), exactly(1_004_004)}, {10_000, exactly(1_006_001), exactly(1_004_005)},
		{11_000, versions{1_007_000, newest}, versions{1_004_005, newest}}},
	"amzn": {{2_000, exactly(1_001_008), exactly(1_002_003)}, {2023_000, exactly(1_005_001), exactly(1_004_004)},
		{2024_000, anyVersion, versions{1_004_004, newest}}},
	"sles": {{12_000, exactly(1_001_008), anyVersion}, {15_000, exactly(1_003_000), versions{1_004_000, 1_004_005}},
		{16_000, versions{1_007_000, newest}, versions{1_004_005, newest}}},
	"opensuse-tumbleweed": {{20240101_000, versions{1_006_000, newest}, versions{1_004_005, newest}}},
	"arch":                {{0, versions{1_005_000, newest}, versions{1_004_004, newest}}}, // it has no releases
	"photon": {{3_000, exactly(1_003_000), versions{1_004_000, 1_004_002}}, {4_000, versions{1_004_000, 1_005_001}, versions{1_004_002, 1_004_005}},
		{5_000, versions{1_005_002, 1_006_001}, versions{1_004_004, 1_004_005}}},
	"alpine": {{3_018, exactly(1_005_002), anyVersion}, {3_019, exactly(1_005_003), anyVersion}, {3_020, versions{1_006_000, 1_006_001}, anyVersion},
		{3_022, versions{1_007_000, newest}, anyVersion}},
}

// sameAs are systems that are built from another one's sources, release by release.
var sameAs = map[string]string{"centos": "rhel", "rocky": "rhel", "almalinux": "rhel", "ol": "rhel", "scientific": "rhel", "eurolinux": "rhel",
	"sled": "sles", "opensuse-leap": "sles", "sles_sap": "sles"}

// feature is what later versions of a component do otherwise.
type feature struct {
	of    *component
	since int
	// ported are the systems that brought it into an older version: from which minor release
	// on, by the major one. Others that bring parts of newer versions into older ones may have
	// it, too, unless it is a change that breaks what was there.
	ported map[string]map[int]int
	fixed  bool
}

var (
	// historyFile: pam_pwhistory reads pwhistory.conf.
	historyFile = feature{of: linuxPAM, since: 1_005_003, ported: map[string]map[int]int{"rhel": {7: never, 8: 7, 9: 1}}}
	// lockFile: pam_faillock reads faillock.conf.
	lockFile = feature{of: linuxPAM, since: 1_004_000, ported: map[string]map[int]int{"rhel": {7: never, 8: 2}, "amzn": {2: never}}}
	// wholeNumbers: pam_unix makes 0 of an argument that is no whole number; before, it took
	// the digits in front.
	wholeNumbers = feature{of: linuxPAM, since: 1_007_000, fixed: true}
	// noCredits: pwquality asks for 8 characters, all of which count once; before, for 9, and
	// each kind of character counted once more; its dictionary can be switched off; it reads
	// pwquality.conf.d.
	noCredits = feature{of: libpwquality, since: 1_003_000, fixed: true}
)

const never = newest

// backports are the systems that bring parts of newer versions into older ones.
var backports = map[string]bool{"rhel": true, "sles": true}

// has reports whether the machine's component has a feature, and whether the evidence tells;
// where it does not, it is taken for what this reading takes it for (see read).
func (r *reader) has(f feature) (has, told bool) {
	kind, text := r.system()
	kind = cmp.Or(sameAs[kind], kind)
	major, minor, release := releaseOf(text)
	if since, ok := f.ported[kind][major]; ok && release {
		switch {
		case since == never:
			return false, true
		case minor >= 0:
			return minor >= since, true
		}
		return !r.older, false // which of its minor releases it is, nothing tells
	}
	v := r.version(f.of)
	switch {
	case v.low >= f.since:
		return true, true
	case v.high < f.since:
		if told := f.fixed || !backports[kind]; told {
			return false, true
		}
	}
	return !r.older, false
}

// version is what the machine's own list of packages says, or what its release comes with.
func (r *reader) version(of *component) versions {
	for _, name := range packageLists {
		p := r.tree.Find(name)
		if p == nil {
			continue
		}
		for _, form := range of.listed {
			if m := form.FindSubmatch(p.Data); m != nil {
				version := 0
				for _, part := range m[1:] {
					n, _ := strconv.Atoi(string(part))
					version = version*1000 + n
				}
				return exactly(version)
			}
		}
	}
	kind, text := r.system()
	kind = cmp.Or(sameAs[kind], kind)
	major, minor, ok := releaseOf(text)
	if kind == "arch" {
		major, ok = 0, true // whatever it says
	}
	if !ok {
		return anyVersion
	}
	at := major*1000 + max(minor, 0)
	found := anyVersion
	for _, s := range systems[kind] {
		switch has := of.shipped(&s); {
		case s.from <= at:
			found = has
		case minor < 0 && s.from < (major+1)*1000: // which of the minor releases it is, nothing tells
			found = versions{min(found.low, has.low), max(found.high, has.high)}
		}
	}
	return found
}

// taken is the version that this reading takes a component for.
func (r *reader) taken(of *component) int {
	if v := r.version(of); r.older {
		return v.low
	} else {
		return v.high
	}
}

// releaseOf reads a release: 8.10 is major 8, minor 10; of one without a minor that is -1.
func releaseOf(text string) (major, minor int, ok bool) {
	first, rest, more := strings.Cut(text, ".")
	major, err := strconv.Atoi(first)
	if err != nil {
		return 0, -1, false
	}
	if minor = -1; more {
		rest, _, _ = strings.Cut(rest, ".")
		if minor, err = strconv.Atoi(rest); err != nil {
			minor = -1
		}
	}
	return major, minor, true
}

// component is something of which versions differ.
type component struct {
	listed  []*regexp.Regexp // how lists of packages name it
	shipped func(*shippedWith) versions
}

// packageLists are where a machine's packages may be listed, below its root: its
// own list, those of support tools, that of the script in docs/sources.md.
var packageLists = []string{"packages", "var/lib/dpkg/status", "installed-debs", "installed-rpms"}

var (
	linuxPAM     = &component{inLists("libpam-modules", "pam"), func(s *shippedWith) versions { return s.pam }}
	libpwquality = &component{inLists("libpwquality1", "libpwquality"), func(s *shippedWith) versions { return s.quality }}
)

// inLists are the forms in which lists of Debian's packages and of RPMs have one.
func inLists(deb, rpm string) []*regexp.Regexp {
	const version = `(\d+)\.(\d+)(?:\.(\d+))?`
	return []*regexp.Regexp{
		regexp.MustCompile(`(?m)^(?:ii\s+)?` + deb + `(?::\w+)?\s+` + version),
		regexp.MustCompile(`(?m)^Package: ` + deb + `\n(?:[A-Z][^\n]*\n)*?Version: ` + version),
		regexp.MustCompile(`(?m)^` + rpm + `-` + version + `-`),
	}
}

// readsHistoryFile reports whether this machine's pam_pwhistory reads its
// file, and whether the evidence tells.
func (r *reader) readsHistoryFile() (reads, told bool) {
	reads, told = r.has(historyFile)
	return reads && told, told
}

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
	has, told := r.has(wholeNumbers)
	return told && !has, told
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
	v := r.version(linuxPAM)
	return v.low >= countsNew, v.low >= countsNew || v.high < countsOld
}

package unix

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/labtest"
)

// tells are files that tell which versions a machine has, or for which that matters.
var tells = regexp.MustCompile(`release|debian_version|packages|var/lib/dpkg|installed-|pwhistory\.conf`)

// machine reads a tree that is given as one text: "== NAME" and the file's
// lines, again and again.
func machine(t testing.TB, text string) (*estate.Authority, *intake.Tree, []estate.Problem) {
	t.Helper()
	tree := &intake.Tree{Name: "m", Path: "m"}
	for i, file := range strings.Split("\n"+text, "\n== ") {
		if i == 0 {
			continue
		}
		name, body, _ := strings.Cut(file, "\n")
		if !strings.HasPrefix(name, "usr/") && !slices.Contains(packageLists, name) {
			name = "etc/" + name
		}
		tree.Parts = append(tree.Parts, &intake.Part{Name: name, Stored: "m/" + name, Path: "m/" + name, Data: []byte(body)})
	}
	if !strings.Contains(text, "security/") && !strings.Contains(text, "no security") {
		tree.Parts = append(tree.Parts, &intake.Part{Name: "etc/security/limits.conf", Stored: "m/etc/security/limits.conf",
			Path: "m/etc/security/limits.conf"})
	}
	if !tells.MatchString(text) {
		tree.Parts = append(tree.Parts, &intake.Part{Name: "packages", Stored: "m/packages", Path: "m/packages",
			Data: []byte("libpam-modules 1.5.2-6\nlibpwquality1 1.4.5-1\n")})
	}
	slices.SortFunc(tree.Parts, func(x, y *intake.Part) int { return strings.Compare(x.Name, y.Name) })
	b := estate.NewBuilder()
	if err := read(tree, b); err != nil {
		t.Fatal(err)
	}
	return b.Finish()[0], tree, b.Problems
}

const goodAuth = "\n== pam.d/sshd\nauth required pam_faillock.so preauth\nauth [success=1 default=ignore] pam_unix.so\nauth " +
	"[default=die] pam_faillock.so authfail\nauth required pam_permit.so"

// checked is a password stack that calls the module behind it first.
func checked(call string) string {
	return "\n== pam.d/passwd\npassword " + call + "\npassword required pam_unix.so use_authtok"
}

func TestSettings(t *testing.T) {
	quality := checked("requisite pam_pwquality.so retry=3")
	for name, c := range map[string]struct{ tree, want, root string }{
		"nothing is called": {"== pam.d/passwd\npassword required pam_unix.so\n== security/pwquality.conf\nminlen=20",
			"min-length=0 dictionary-check=off history=0", ""},
		"Debian's own least length":   {"== pam.d/passwd\npassword required pam_unix.so obscure", "min-length=6", "min-length=0"},
		"of several methods the last": {"== pam.d/passwd\npassword required pam_unix.so yescrypt sha512", "hash-method=sha512", ""},
		"in another order":            {"== pam.d/passwd\npassword required pam_unix.so sha512 md5 yescrypt", "hash-method=yescrypt", ""},
		"pam_unix's own options": {"== pam.d/passwd\npassword required pam_unix.so minlen=9 remember=7 sha512",
			"min-length=9 history=7 hash-method=sha512", ""},
		"the file": {"== security/pwquality.conf\nminlen = 15 # long\n" + quality,
			"min-length=15 dictionary-check=on name-check=on min-changed=1", "min-length=0"},
		"the stack over the file": {"== security/pwquality.conf\nminlen = 15\n" + checked("requisite pam_pwquality.so minlen=10"),
			"min-length=10", ""},
		"drop-ins before the file": {"== security/pwquality.conf\nminlen = 11\n== security/pwquality.conf.d/90.conf\nminlen = " +
			"15\nminclass = 3\n" + quality, "min-length=11 classes-required=3", ""},
		"drop-ins in their order": {"== security/pwquality.conf.d/20.conf\nminlen = 15\n== " +
			"security/pwquality.conf.d/10.conf\nminlen = 9\n== security/pwquality.conf.d/30.txt\nminlen = 30" + quality, "min-length=15", ""},
		"below six counts as six": {"== security/pwquality.conf\nminlen = 2\n" + quality, "min-length=6", ""},
		"credits shorten": {"== security/pwquality.conf\nminlen = 12\ndcredit = 2\nucredit = 1\n" + quality,
			"min-length=9 require-digit=0", ""},
		"credits and the dictionary": {"== security/pwquality.conf\nminlen = 8\ndcredit = 4\nucredit = 4\n" + quality, "min-length=6", ""},
		"credits without it": {"== security/pwquality.conf\nminlen = 8\ndcredit = 4\nucredit = 4\ndictcheck = 0\n" + quality,
			"min-length=4 dictionary-check=off", ""},
		"least numbers": {"== security/pwquality.conf\nminlen = 8\ndcredit = -2\nocredit = -1\n" + quality,
			"min-length=8 require-digit=2 require-symbol=1 require-lower=0", ""},
		"root as well": {"== security/pwquality.conf\nminlen = 15\nenforce_for_root\n" + quality, "min-length=15", "min-length=15"},
		"repeats and sequences": {"== security/pwquality.conf\nmaxrepeat = 3\nmaxsequence = 0\nbadwords = tide quay\n" + quality,
			"max-repeat=3 max-sequence=unlimited blocklist=on blocklist-size=2", ""},
		"warnings only": {"== security/pwquality.conf\nenforcing = 0\nminlen = 15\n" + quality,
			"min-length=0 dictionary-check=off", ""},
		"optional": {"== pam.d/passwd\npassword optional pam_pwquality.so minlen=15\npassword required pam_unix.so",
			"min-length=0", ""},
		"stored before it is checked": {"== pam.d/passwd\npassword required pam_unix.so\npassword requisite pam_pwquality.so minlen=15",
			"min-length=0", ""},
		"required, with use_authtok": {checked("required pam_pwquality.so minlen=15"), "min-length=15", ""},
		"required, without use_authtok": {"== pam.d/passwd\npassword required pam_pwquality.so minlen=15\npassword required pam_unix.so",
			"min-length=0", ""},
		"included and substacked": {"== pam.d/passwd\npassword substack deep\n== pam.d/deep\n@include deeper\n== " +
			"pam.d/deeper\npassword requisite pam_pwquality.so \\\n minlen=17\npassword sufficient pam_unix.so use_authtok\npassword " +
			"required pam_deny.so",
			"min-length=17", ""},
		"jumped over": {"== pam.d/passwd\npassword [success=1 default=ignore] pam_permit.so\npassword " +
			"requisite pam_pwquality.so minlen=15\npassword required pam_unix.so", "min-length=0", ""},
		"the older module": {checked("requisite pam_cracklib.so minlen=12 lcredit=-1 ucredit=0 dcredit=0 ocredit=0"),
			"min-length=12 require-lower=1 min-changed=5", ""},
		"a wrong number ends the reading": {"== security/pwquality.conf\nminclass = 3\nminlen = 14x\ndcredit = -2\n" + quality,
			"min-length=8 classes-required=3 require-digit=0", ""},
		"a misspelt name, of the main file too": {"== security/pwquality.conf.d/10.conf\nminlenn = 3\n== security/pwquality.conf\nminlen = 14\n" +
			quality, "min-length=8", ""},
		"a byte-order mark":        {"== security/pwquality.conf\n\ufeff# ours\nminlen = 14\n" + quality, "min-length=8", ""},
		"no equals sign, any case": {"== security/pwquality.conf\nMINLEN 14\n" + quality, "min-length=14", ""},
		"two equals signs":         {"== security/pwquality.conf\nminlen == 14\n" + quality, "min-length=8", ""},
		"a wrong argument is passed over": {checked("requisite pam_pwquality.so minlen=14x minlenn=3 minclass=3"),
			"min-length=8 classes-required=3", ""},
		"pam_unix makes 0 of what is no number": {"== packages\nbash 5\n== pam.d/passwd\npassword required pam_unix.so minlen=14x remember=5x",
			"min-length=0 history=0", ""},
		"use_authtok, and nobody asks": {"== pam.d/passwd\npassword required pam_pwhistory.so use_authtok\npassword required pam_unix.so",
			"min-length=? history=?", ""},
		"older pam_unix takes leading digits": {"== debian_version\n12.15\n== pam.d/passwd\npassword required pam_unix.so " +
			"minlen=14x remember=5x MINLEN=20", "min-length=14 history=5", ""},
		"the older module and names": {checked("requisite pam_cracklib.so minlen=12"), "name-check=off", ""},
		"the older module, told so":  {checked("requisite pam_cracklib.so minlen=12 reject_username"), "name-check=on", ""},
		"an unknown module alone": {"== pam.d/passwd\npassword requisite pam_harbour.so\npassword required pam_unix.so use_authtok",
			"min-length=? name-check=? history=0", ""},
		"an unknown module that may pass it by": {"== pam.d/passwd\npassword [success=1 default=ignore] pam_harbour.so\npassword " +
			"requisite pam_pwquality.so minlen=15\npassword required pam_unix.so use_authtok",
			"min-length=?", ""},
		"an unknown module beside it": {"== pam.d/passwd\npassword requisite pam_harbour.so\npassword requisite " +
			"pam_pwquality.so minlen=15\npassword required pam_unix.so use_authtok", "min-length=15 name-check=on", ""},
		"history":            {checked("required pam_pwhistory.so remember=24 enforce_for_root"), "history=24", "history=24"},
		"history by default": {checked("required pam_pwhistory.so"), "history=10", "history=0"},
		"history that Debian 12 does not read": {"== debian_version\n12.15\n== security/pwhistory.conf\nremember = 24\n" +
			checked("required pam_pwhistory.so"), "history=10", ""},
		"history that Debian 13 reads": {"== debian_version\n13.1\n== security/pwhistory.conf\nremember 24x\n" +
			checked("required pam_pwhistory.so"), "history=24", ""},
		"history that Fedora reads": {"== redhat-release\nFedora release 40 (Forty)\n== security/pwhistory.conf\nremember = 24\n" +
			checked("required pam_pwhistory.so"), "history=24", ""},
		"history that may be brought back": {"== redhat-release\nRocky Linux release 9 (Blue Onyx)\n== " +
			"security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"), "history=10", ""},
		"history that was brought back": {"== redhat-release\nRocky Linux release 9.4 (Blue Onyx)\n== " +
			"security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"), "history=24", ""},
		"history before it was brought back": {"== os-release\nID=\"almalinux\"\nVERSION_ID=\"8.6\"\n== " +
			"security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"), "history=10", ""},
		"history of the tenth minor release": {"== os-release\nID=rhel\nVERSION_ID=8.10\n== " +
			"security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"), "history=24", ""},
		"credits of old": {"== redhat-release\nCentOS Linux release 7.9.2009 (Core)\n== security/pwquality.conf\nminlen = 14\n" +
			checked("requisite pam_pwquality.so"), "min-length=10 min-changed=5 dictionary-check=on name-check=on", ""},
		"credits of old, turned off": {"== os-release\nID=amzn\nVERSION_ID=2\n== security/pwquality.conf\nminlen = 14\nlcredit = 0\n" +
			"ucredit = 0\ndcredit = 0\nocredit = 0\n" + checked("requisite pam_pwquality.so"), "min-length=14", ""},
		"credits, and nothing tells which": {"== packages\nbash 5\n== security/pwquality.conf\nminlen = 14\n" +
			checked("requisite pam_pwquality.so"), "min-length=?", ""},
		"no credits, and nothing tells which": {"== packages\nbash 5\n== security/pwquality.conf\nminlen = 14\nlcredit = 0\n" +
			"ucredit = 0\ndcredit = 0\nocredit = 0\n" + checked("requisite pam_pwquality.so"), "min-length=14", ""},
		"an option that came later": {"== redhat-release\nCentOS Linux release 7.9.2009 (Core)\n== security/pwquality.conf\ndictcheck = 0\n" +
			"minlen = 30\n" + checked("requisite pam_pwquality.so"), "min-length=6 dictionary-check=on", ""},
		"drop-ins that came later": {"== redhat-release\nCentOS Linux release 7.9.2009 (Core)\n== security/pwquality.conf.d/a.conf\nminlen = 30\n" +
			checked("requisite pam_pwquality.so"), "min-length=6", ""},
		"lock, by a file that is not read": {"== redhat-release\nRed Hat Enterprise Linux release 8.1 (Ootpa)\n== security/faillock.conf\n" +
			"deny = 20\n" + goodAuth, "lockout-threshold=3", "lockout-threshold=never"},
		"lock, by a file that is read": {"== redhat-release\nRed Hat Enterprise Linux release 8.2 (Ootpa)\n== security/faillock.conf\n" +
			"deny = 20\n" + goodAuth, "lockout-threshold=20", "lockout-threshold=never"},
		"lock, by a file that may be read": {"== os-release\nID=centos\nVERSION_ID=8\n== security/faillock.conf\n" +
			"deny = 20\n" + goodAuth, "lockout-threshold=?", "lockout-threshold=never"},
		"lock, by a file that says what is there anyway": {"== packages\nbash 5\n== security/faillock.conf\n" +
			"deny = 3\n" + goodAuth, "lockout-threshold=3", "lockout-threshold=never"},
		"history by its package": {"== packages\nlibpam-modules:amd64\t1.5.3-5ubuntu5\n== security/pwhistory.conf\nremember = 24\n" +
			checked("required pam_pwhistory.so"), "history=24", ""},
		"history by an older one": {"== var/lib/dpkg/status\nPackage: libpam-modules\nStatus: install ok " +
			"installed\nPriority: required\nVersion: 1.5.2-6+deb12u1\n\nPackage: libpam-runtime\nVersion: 9.9\n== " +
			"security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"), "history=10", ""},
		"history by rpm": {"== installed-rpms\npam-1.6.1-7.el10.x86_64  Mon\n== security/pwhistory.conf\nremember = 24\n" +
			checked("required pam_pwhistory.so"), "history=24", ""},
		"a number by its package": {"== installed-debs\nii  libpam-modules:amd64 1.7.0-5 amd64\n== " +
			"debian_version\n12.1\n== pam.d/passwd\npassword required pam_unix.so minlen=14x", "min-length=0", ""},
		"history of a version not known": {"== security/pwhistory.conf\nremember = 24\n" + checked("required pam_pwhistory.so"),
			"history=10", ""},
		"history from its file": {"== security/pwhistory.conf\nremember = 5\n" + checked("required pam_pwhistory.so"),
			"history=5", ""},
		"optional, and none is left to store": {checked("optional pam_pwquality.so minlen=15") + " try_first_pass", "min-length=15", ""},
		"history of none lets a refused one by": {"== pam.d/passwd\npassword required pam_pwquality.so minlen=15\npassword requisite " +
			"pam_pwhistory.so use_authtok remember=x\npassword required pam_unix.so", "min-length=0 history=0", ""},
		"history that keeps one does not": {"== pam.d/passwd\npassword required pam_pwquality.so minlen=15\npassword requisite " +
			"pam_pwhistory.so use_authtok remember=1\npassword required pam_unix.so", "min-length=15 history=1", ""},
		"history that is ignored": {"== pam.d/passwd\npassword optional pam_pwhistory.so remember=24\npassword required pam_unix.so",
			"history=0", ""},
		"no stacks at all": {"== security/pwquality.conf\nminlen = 15\n== login.defs\nPASS_MAX_DAYS 90",
			"min-length=- lockout-threshold=- max-age=7776000", ""},

		"lock, by default": {goodAuth, "lockout-threshold=3 lockout-duration=600 lockout-window=900 lockout-administrator=off",
			"lockout-threshold=never"},
		"lock, from the file": {"== security/faillock.conf\ndeny = 5\nunlock_time = 0\nfail_interval = 60\n" + goodAuth,
			"lockout-threshold=5 lockout-duration=until-admin lockout-window=60", ""},
		"lock, from the arguments": {"== security/faillock.conf\ndeny = 5\n" +
			strings.ReplaceAll(strings.ReplaceAll(goodAuth, "preauth", "preauth deny=7 unlock_time=never"), "authfail", "authfail deny=7"),
			"lockout-threshold=7 lockout-duration=until-admin", ""},
		"the call that stops has the say": {strings.ReplaceAll(strings.ReplaceAll(goodAuth, "preauth", "preauth deny=7"), "authfail",
			"authfail deny=9"), "lockout-threshold=7", ""},
		"counted in another folder": {strings.Replace(goodAuth, "authfail", "authfail dir=/run/other", 1), "lockout-threshold=never", ""},
		"counted in the same, by its file and by a call": {"== security/faillock.conf\ndir = /run/other\n" + strings.Replace(goodAuth, "authfail",
			"authfail dir=/run/other", 1), "lockout-threshold=3", ""},
		"forgotten sooner where it is counted": {strings.Replace(goodAuth, "authfail", "authfail fail_interval=5", 1),
			"lockout-threshold=3 lockout-window=5", ""},
		"held for locked longer where it is counted": {strings.Replace(goodAuth, "authfail", "authfail unlock_time=900", 1),
			"lockout-threshold=never", ""},
		"held for locked shorter where it is counted": {strings.Replace(goodAuth, "authfail", "authfail unlock_time=60", 1),
			"lockout-threshold=3 lockout-duration=600", ""},
		"a weaker way to change a password": {quality + "\n== pam.d/su\nauth required pam_unix.so\npassword required pam_unix.so", "min-length=0", ""},
		"a weaker way that other gives": {quality + "\n== pam.d/login\nauth required pam_unix.so\n== pam.d/other\npassword required pam_unix.so minlen=3",
			"min-length=3", ""},
		"another way, and as strong": {quality + "\n== pam.d/su\nauth required pam_unix.so\npassword requisite pam_pwquality.so minlen=20\n" +
			"password required pam_unix.so use_authtok", "min-length=8", ""},
		"another way by which nobody changes one": {quality + "\n== pam.d/su\nauth required pam_unix.so\npassword required pam_deny.so", "min-length=8", ""},
		"a service of which it is not known":      {quality + "\n== pam.d/gate\nauth required pam_unix.so\npassword required pam_unix.so", "min-length=?", ""},
		"a screen lock that changes none":         {quality + "\n== pam.d/vlock\nauth required pam_unix.so\npassword required pam_unix.so", "min-length=8", ""},
		"a stack by its path": {"== site/pw\npassword required pam_unix.so minlen=3\n== pam.d/pw\npassword required pam_unix.so minlen=12\n" +
			"== pam.d/passwd\npassword include /etc/site/pw", "min-length=3", ""},
		"a carriage return":           {"== pam.d/passwd\npassword requisite pam_pwquality.so minlen=14\r\npassword required pam_unix.so use_authtok", "min-length=8", ""},
		"sshd asks no module":         {"== ssh/sshd_config\nUsePAM no" + goodAuth, "lockout-threshold=never", ""},
		"sshd, by upstream's default": {"== ssh/sshd_config\nPort 22" + goodAuth, "lockout-threshold=never", ""},
		"sshd asks them, by a file that it includes": {"== ssh/sshd_config\nInclude /etc/ssh/sshd_config.d/*.conf\nUsePAM no\n== ssh/sshd_config.d/10.conf\nusepam yes" +
			goodAuth, "lockout-threshold=3", ""},
		"sshd takes no passwords": {"== ssh/sshd_config\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n" + goodAuth +
			strings.ReplaceAll(strings.ReplaceAll(goodAuth, "sshd", "login"), "pam_faillock.so", "pam_faillock.so deny=9"), "lockout-threshold=9", ""},
		"two calls that stop, for root apart": {"== pam.d/sshd\nauth required pam_faillock.so preauth deny=7\nauth [success=1 " +
			"default=ignore] pam_unix.so\nauth [default=die] pam_faillock.so authfail deny=9\nauth required pam_faillock.so authsucc " +
			"deny=8 even_deny_root\nauth required pam_permit.so",
			"lockout-threshold=7", "lockout-threshold=8"},
		"counts too few": {strings.ReplaceAll(strings.ReplaceAll(goodAuth, "preauth", "preauth deny=7"), "authfail", "authfail deny=2"),
			"lockout-threshold=never", ""},
		"lock, root too": {"== security/faillock.conf\ndeny = 5\neven_deny_root\nroot_unlock_time = 60\n" + goodAuth,
			"lockout-threshold=5 lockout-duration=600 lockout-administrator=on",
			"lockout-threshold=5 lockout-duration=60"},
		"lock, root only by the manual": {"== security/faillock.conf\nroot_unlock_time = 60\n" + goodAuth,
			"lockout-threshold=3 lockout-administrator=off", "lockout-threshold=never"},
		"lock, switched off": {"== security/faillock.conf\ndeny = 0\n" + goodAuth, "lockout-threshold=never", ""},
		"never asked before": {strings.ReplaceAll(goodAuth, "auth required pam_faillock.so preauth\n", ""),
			"lockout-threshold=never", ""},
		"never counted": {"== pam.d/sshd\nauth required pam_faillock.so preauth\nauth [success=1 default=die] pam_unix.so\nauth " +
			"[default=die] pam_faillock.so authfail\nauth required pam_permit.so",
			"lockout-threshold=never", ""},
		"nobody is let in": {"== pam.d/sshd\nauth required pam_unix.so\nauth required pam_deny.so", "lockout-threshold=-", ""},
		"no equals sign": {"== security/faillock.conf\ndeny 5\nfail_interval == 60\nunlock_time = 30x\nDENY = 2\n" + goodAuth,
			"lockout-threshold=5 lockout-window=900 lockout-duration=30", ""},
		"numbers it does not take": {"== security/faillock.conf\n\ufeffdeny = 9\ndenyy = 1\nunlock_time = 604801\n" + goodAuth,
			"lockout-threshold=3 lockout-duration=600", ""},
		"never, by a number": {"== security/faillock.conf\ndeny = 0x4\n" + goodAuth, "lockout-threshold=never", ""},
		"an unknown door": {goodAuth + "\n== pam.d/gate\nauth sufficient pam_harbour.so\nauth required pam_unix.so",
			"lockout-threshold=never", ""},
		"an unknown module that may pass the lock by": {"== pam.d/sshd\nauth [success=ignore default=1] pam_harbour.so\nauth " +
			"required pam_faillock.so preauth\nauth [success=1 default=ignore] pam_unix.so\nauth [default=die] pam_faillock.so " +
			"authfail\nauth required pam_permit.so",
			"lockout-threshold=never", ""},
		"an unknown module beside the lock": {strings.Replace(goodAuth, "auth required pam_faillock",
			"auth requisite pam_harbour.so\nauth required pam_faillock", 1), "lockout-threshold=3", ""},
		"a door that cannot be followed": {goodAuth + "\n== pam.d/gate\n@include gone", "lockout-threshold=?", ""},
		"too many unknown": {"== pam.d/sshd\nauth required pam_a.so\nauth required pam_b.so\nauth required " +
			"pam_c.so\nauth required pam_d.so\nauth required pam_e.so\nauth required pam_f.so\nauth required pam_unix.so",
			"lockout-threshold=?", ""},

		"nothing locks":    {"== pam.d/sshd\nauth required pam_unix.so", "lockout-threshold=never lockout-duration=-", ""},
		"the weakest door": {goodAuth + "\n== pam.d/login\nauth required pam_unix.so", "lockout-threshold=never", ""},
		"no door": {goodAuth +
			"\n== pam.d/cron\nauth required pam_unix.so\n== pam.d/gate\nauth sufficient pam_rootok.so\nauth required pam_deny.so",
			"lockout-threshold=3", ""},
		"shared files only": {strings.Replace(goodAuth, "sshd", "common-auth", 1),
			"lockout-threshold=3", ""},
		"the module before": {"== pam.d/sshd\nauth required pam_tally2.so deny=4 onerr=fail\nauth required pam_unix.so",
			"lockout-threshold=4 lockout-duration=until-admin lockout-window=never", ""},
		"another file": {strings.ReplaceAll(goodAuth, ".so", ".so conf=/etc/security/gates.conf"), "lockout-threshold=?", ""},

		"new accounts": {"== login.defs\nPASS_MAX_DAYS\t99999\nPASS_MIN_DAYS 0\n#PASS_WARN_AGE 9\n== " +
			"default/useradd\nINACTIVE=30", "max-age=never min-age=at-once expiry-warning=0 inactive-disable=never", ""},
		"inactive after an end": {"== login.defs\nPASS_MAX_DAYS\t90\n== default/useradd\nINACTIVE=30",
			"max-age=7776000 inactive-disable=2592000", ""},
		"ageing that no door asks for": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth +
			"\naccount sufficient pam_permit.so\naccount required pam_unix.so", "max-age=never", ""},
		"ageing that a door may not ask for": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth +
			"\naccount sufficient pam_harbour.so\naccount required pam_unix.so", "max-age=never", ""},
		"lock, its file not gathered": {"== hostname\nno security" + goodAuth, "lockout-threshold=? lockout-window=?", ""},
		"all in the call, no file": {"== hostname\nno security" +
			strings.ReplaceAll(strings.ReplaceAll(goodAuth, "preauth", "preauth deny=4 fail_interval=60 unlock_time=60"), "authfail",
				"authfail deny=4 fail_interval=60 unlock_time=60"), "lockout-threshold=4 lockout-window=60", ""},
		"quality, its file not gathered": {"== hostname\nno security" + quality, "min-length=? name-check=?", ""},
		"ageing by a stack that cannot be followed": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth + "\naccount include gone",
			"max-age=?", ""},
		"ageing by too many unknown": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth +
			strings.Repeat("\naccount required pam_harbour.so", 6) + "\naccount required pam_unix.so", "max-age=never", ""},
		"ageing that other asks for": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth +
			"\n== pam.d/other\naccount required pam_unix.so", "max-age=7776000", ""},
		"as Debian has it": {"== login.defs\nPASS_MAX_DAYS\t90" + goodAuth +
			"\naccount [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\naccount requisite pam_deny.so\naccount required pam_permit.so",
			"max-age=7776000", ""},
		"a door in a vendor's folder": {goodAuth + "\n== usr/lib/pam.d/gate\nauth required pam_unix.so",
			"lockout-threshold=never", ""},
		"etc before the vendor": {goodAuth + "\n== usr/lib/pam.d/sshd\nauth required pam_unix.so", "lockout-threshold=3", ""},
		"another file, in the tree": {strings.ReplaceAll(goodAuth, ".so", ".so conf=/etc/security/gates.conf") +
			"\n== security/gates.conf\ndeny = 4", "lockout-threshold=4", ""},
		"passwdqc": {checked("requisite pam_passwdqc.so"),
			"min-length=7 classes-required=2 dictionary-check=on name-check=on", "min-length=7"},
		"passwdqc, told": {checked("requisite pam_passwdqc.so min=disabled,disabled,disabled,12,9 match=0 " +
			"enforce=users"), "min-length=9 classes-required=3 dictionary-check=off name-check=off", "min-length=0"},
		"passwdqc that gives up": {checked("requisite pam_passwdqc.so min=8,9,6,5,4"), "min-length=?", ""},
		"passwdqc with an option it has not": {"== pam.d/passwd\npassword optional pam_passwdqc.so minlen=20\npassword " +
			"required pam_unix.so", "min-length=0 dictionary-check=off", ""},
		"passwdqc that only warns": {checked("requisite pam_passwdqc.so enforce=none"), "min-length=0 dictionary-check=off", ""},
		"passwdqc by a file": {"== passwdqc.conf\n# here\nmin=11,11,11,11,11\nmatch=0\n" +
			checked("requisite pam_passwdqc.so config=/etc/passwdqc.conf"), "min-length=11 classes-required=1", ""},
		"passwdqc by a file that is not there": {checked("requisite pam_passwdqc.so config=/etc/passwdqc.conf"),
			"min-length=? history=0", ""},
		"two that check": {"== pam.d/passwd\npassword requisite pam_pwquality.so minlen=12 " +
			"dictcheck=0\npassword requisite pam_passwdqc.so min=9,9,9,9,9\npassword required pam_unix.so use_authtok",
			"min-length=12 dictionary-check=on min-changed=1", ""},
		"passwdqc behind one that asked": {"== pam.d/passwd\npassword requisite pam_pwquality.so minlen=9 " +
			"dictcheck=0\npassword required pam_passwdqc.so min=20,20,20,20,20\npassword required pam_unix.so use_authtok", "min-length=9", ""},
		"two of which one is obeyed": {"== pam.d/passwd\npassword [success=1 default=ignore] pam_pwquality.so " +
			"minlen=20\npassword requisite pam_permit.so\npassword requisite pam_passwdqc.so min=9,9,9,9,9\npassword required pam_unix.so",
			"min-length=9", ""},
		"the storing module asks for more": {checked("requisite pam_pwquality.so minlen=12 dcredit=4") + " minlen=16",
			"min-length=16", ""},
		"sessions' modules check nothing": {"== pam.d/passwd\npassword required pam_env.so\npassword required pam_unix.so",
			"min-length=?", ""},
		"rounds": {"== pam.d/passwd\npassword required pam_unix.so sha512 rounds=70000",
			"hash-rounds=70000", "hash-rounds=70000"},
		"rounds of login.defs": {"== pam.d/passwd\npassword required pam_unix.so\n== login.defs\nENCRYPT_METHOD " +
			"SHA512\nSHA_CRYPT_MIN_ROUNDS 7000\nSHA_CRYPT_MAX_ROUNDS 9000", "hash-rounds=9000", ""},
		"the cost of yescrypt": {"== debian_version\n13.1\n== pam.d/passwd\npassword required pam_unix.so\n== " +
			"login.defs\nENCRYPT_METHOD YESCRYPT\nYESCRYPT_COST_FACTOR 7", "hash-rounds=7", ""},
		"a cost that Debian 12 does not read": {"== debian_version\n12.1\n== pam.d/passwd\npassword required pam_unix.so " +
			"yescrypt\n== login.defs\nENCRYPT_METHOD YESCRYPT\nYESCRYPT_COST_FACTOR 7", "hash-rounds=-", ""},
		"rounds of another method": {"== debian_version\n13.1\n== pam.d/passwd\npassword required pam_unix.so " +
			"yescrypt\n== login.defs\nENCRYPT_METHOD SHA512\nSHA_CRYPT_MAX_ROUNDS 9000", "hash-rounds=-", ""},

		"a success that may clear": {goodAuth + strings.Repeat("\naccount required pam_harbour.so", 6), "success-clears=?", ""},
		"an empty password at the second": {goodAuth + "\n== pam.d/gate\nauth sufficient pam_unix.so\nauth required pam_unix.so nullok",
			"empty-accepted=on", ""},
		"no empty password": {goodAuth, "empty-accepted=off", ""},
		"a success that clears": {goodAuth + "\naccount required pam_faillock.so\naccount required pam_unix.so",
			"success-clears=on failure-delay=2", ""},
		"a success that clears nothing": {goodAuth + "\naccount required pam_unix.so", "success-clears=off", ""},
		"a success that authsucc clears": {strings.Replace(goodAuth, "auth required pam_permit",
			"auth required pam_faillock.so authsucc\nauth required pam_permit", 1) + "\naccount required pam_unix.so", "success-clears=on", ""},
		"no delay": {strings.ReplaceAll(goodAuth, ".so", ".so nodelay"), "failure-delay=at-once", ""},
		"a delay": {strings.Replace(goodAuth, "auth required pam_faillock",
			"auth optional pam_faildelay.so delay=5000000\nauth required pam_faillock", 1), "failure-delay=5", ""},
		"a delay of login.defs": {"== login.defs\nFAIL_DELAY 4" + strings.Replace(goodAuth, "auth required pam_faillock",
			"auth optional pam_faildelay.so\nauth required pam_faillock", 1), "failure-delay=4", ""},
		"root's door is another": {strings.Replace(goodAuth, "auth required pam_faillock",
			"auth [success=1 default=ignore] pam_succeed_if.so uid >= 1000\nauth sufficient pam_unix.so\nauth required pam_faillock", 1) +
			"\n== security/faillock.conf\neven_deny_root", "lockout-threshold=3", "lockout-threshold=never"},
		"a door for root alone": {goodAuth +
			"\n== pam.d/gate\nauth requisite pam_succeed_if.so user = root\nauth required pam_unix.so\n== security/faillock.conf\neven_deny_root",
			"lockout-threshold=3", "lockout-threshold=never"},
		"a door that lets no account in": {goodAuth + "\n== pam.d/gate\nauth required pam_unix.so\naccount required pam_deny.so",
			"lockout-threshold=3", ""},
		"a door by no module that checks": {goodAuth + "\n== pam.d/gate\nauth required pam_limits.so\nauth required pam_unix.so",
			"lockout-threshold=3", ""},
		"a door that lets everybody in": {goodAuth + "\n== pam.d/gate\nauth sufficient pam_permit.so\nauth required pam_unix.so",
			"lockout-threshold=never", ""},
		"a door that may let everybody in": {goodAuth +
			"\n== pam.d/gate\nauth sufficient pam_access.so\nauth required pam_unix.so\n== security/access.conf\n-:ada:10.0.0.0/8",
			"lockout-threshold=never", ""},
		"a door that access.conf shuts": {goodAuth +
			"\n== pam.d/gate\nauth required pam_access.so\nauth required pam_unix.so\n== security/access.conf\n-:ALL EXCEPT " +
			"root:ALL\n== security/faillock.conf\neven_deny_root", "lockout-threshold=3", "lockout-threshold=never"},
		"a door that access.conf shuts, all": {goodAuth +
			"\n== pam.d/gate\nauth required pam_access.so\nauth required pam_unix.so\n== security/access.conf\n+:root:ALL\n-:ALL:ALL\n",
			"lockout-threshold=3", ""},
		"a door for those on a list": {goodAuth +
			"\n== pam.d/gate\nauth required pam_listfile.so item=user sense=allow file=/etc/ftpusers onerr=fail\nauth required " +
			"pam_unix.so\n== ftpusers\nbo\n", "lockout-threshold=3", ""},
		"a door for those not on a list": {goodAuth +
			"\n== pam.d/gate\nauth required pam_listfile.so item=user sense=deny file=/etc/ftpusers\nauth required pam_unix.so\n== ftpusers\nbo\n",
			"lockout-threshold=never", ""},
		"a door for shells that are listed": {goodAuth +
			"\n== pam.d/gate\nauth required pam_shells.so\nauth required pam_unix.so\n== shells\n/bin/bash\n", "lockout-threshold=3", ""},
		"a door at its hours": {goodAuth +
			"\n== pam.d/gate\nauth required pam_unix.so\naccount required pam_time.so\n== security/time.conf\nother;*;*;!Al0000-2400\n",
			"lockout-threshold=never", ""},
		"the services of pam.conf": {"== pam.conf\n# all in one\nsshd auth required pam_faillock.so preauth\nsshd auth " +
			"[success=1 default=ignore] pam_unix.so\nsshd auth [default=die] pam_faillock.so authfail\nSSHD auth required pam_permit.so",
			"lockout-threshold=3", ""},
		"pam.conf beside pam.d": {goodAuth + "\n== pam.conf\ngate auth required pam_unix.so", "lockout-threshold=3", ""},
		"what other asks": {goodAuth +
			"\n== pam.d/gate\naccount required pam_unix.so\n== pam.d/other\nauth required pam_unix.so", "lockout-threshold=never", ""},

		"hash of login.defs": {"== pam.d/passwd\npassword required pam_unix.so\n== login.defs\nENCRYPT_METHOD YESCRYPT",
			"hash-method=yescrypt", ""},
	} {
		a, _, _ := machine(t, strings.TrimPrefix(c.tree, "\n")+"\n== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh")
		for _, who := range []struct {
			want  string
			facts estate.Settings
		}{{c.want, a.Head.Settings}, {c.root, rootOf(a)}} {
			for _, pair := range strings.Fields(who.want) {
				id, want, _ := strings.Cut(pair, "=")
				f, ok := who.facts[setting.ID(id)]
				text, _ := f.Value.MarshalText()
				got := string(text)
				if !ok {
					got = "-"
				} else if f.Problem != "" {
					got = "?"
				} else if f.Cite.Line == 0 || !strings.HasPrefix(f.Cite.File, "m/") {
					t.Errorf("%s: %s has no line: %+v", name, id, f.Cite)
				}
				if got != want {
					t.Errorf("%s: %s is %s, want %s", name, id, got, want)
				}
			}
		}
	}
}

// rootOf returns the settings that govern root.
func rootOf(a *estate.Authority) estate.Settings { return settingsOf(a, "root") }

func settingsOf(a *estate.Authority, account string) estate.Settings {
	for row := range a.Objects.Len() {
		if n := a.Objects.Applied.At(row); a.Objects.Name.At(row) == account && n > 0 {
			for _, p := range a.Overrides {
				if p.Origin == a.Policies[n-1].DN {
					return p.Settings
				}
			}
		}
	}
	return a.Head.Settings
}

func TestRemarksAndAccounts(t *testing.T) {
	a, tree, problems := machine(t, `== login.defs
PASS_MAX_DAYS 90
UID_MIN 1000
== passwd
root:x:0:0:root:/root:/bin/sh
daemon:x:1:1::/:/usr/sbin/nologin
ada:x:1000:1000:Ada Quay,,,:/home/ada:/bin/sh
bo:x:1001:1001::/home/bo:/bin/sh
cy:$1$salt$hashedhashedhashed:1002:1002::/home/cy:/bin/sh
dee:x:1003:1003::/home/dee:/bin/sh
eve:x:1004:1004::/home/eve:/bin/sh
gil:x:1005:1005::/home/gil:/bin/sh
short:line
== group
sudo:x:27:ada,bo
boats:grouphash:1010:cy
== shadow
root:$y$rootsecret:19900:0:90:7:::
daemon:*:19900:0:99999:7:::
ada:$6$s$adasecret:19901:0:90:7:::
bo:!$6$s$bosecret:19902:0:99999:7:::
dee::19903:0:90:7:::
eve:oldDESsecret1:19904:0:99999:7::19000:
no colon at all
== pam.d/passwd
password required pam_unix.so sha512
password optional pam_ldap.so bindpw=plainsecret
== security/pwquality.conf
minlen = 12`)
	kinds := map[estate.RemarkKind]string{}
	for _, r := range a.Remarks {
		kinds[r.Kind] += r.Text + " [" + strings.Join(r.Accounts, " ") + "]"
		if len(r.Cites) == 0 || r.Cites[0].Line == 0 {
			t.Errorf("%s without a line", r.Kind)
		}
	}
	for kind, want := range map[estate.RemarkKind]string{estate.NotCalled: "pwquality.conf sets minlen", estate.OldHash: "[cy eve]",
		estate.NewAccountsOnly: "[eve]"} {
		if !strings.Contains(kinds[kind], want) {
			t.Errorf("%s: %q, want %q", kind, kinds[kind], want)
		}
	}
	flags := map[string]estate.Flag{}
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) == estate.Account {
			flags[a.Objects.Name.At(row)] = a.Objects.FlagsOf(row)
		}
	}
	want := map[string]estate.Flag{"root": estate.Administrator, "ada": 0, "bo": estate.Disabled, "cy": 0, "dee": estate.EmptyPassword,
		"eve": estate.Disabled, "gil": estate.NoControl | estate.Disabled}
	if fmt.Sprint(flags) != fmt.Sprint(want) {
		t.Errorf("accounts: %v, want %v", flags, want)
	}
	if len(problems) != 2 {
		t.Errorf("problems: %v", problems)
	}
	for _, p := range tree.Parts {
		lines := strings.Count(string(p.Data), "\n")
		kept, _, _ := p.Copy()
		if kept == nil {
			kept = p.Data
		} else if p.Data != nil && strings.Count(string(kept), "\n") != lines {
			t.Errorf("%s: the copy has other lines", p.Name)
		}
		if strings.Contains(string(kept), "secret") || strings.Contains(string(kept), "hashed") || strings.Contains(string(kept), "grouphash") ||
			strings.Contains(string(kept), "no colon") {
			t.Errorf("%s keeps a secret:\n%s", p.Name, kept)
		}
	}
	if kept := keptOf(tree.Find("etc/shadow")); !strings.Contains(kept, "ada:$6$[struck out]:19901") ||
		!strings.Contains(kept, "bo:!$6$[struck out]:") {
		t.Errorf("the methods' prefixes are gone:\n%s", kept)
	}
}

func TestPart(t *testing.T) {
	for file, want := range map[string]string{
		"gates/gate1/etc/shadow": "gates/gate1 etc/shadow", "/etc/pam.d/sshd": "/ etc/pam.d/sshd", "etc/login.defs": ". etc/login.defs",
		"x.tgz/etc/group":                         "x.tgz etc/group",
		"a/etc/security/pwquality.conf.d/10.conf": "a etc/security/pwquality.conf.d/10.conf", "a/etc/pam.d/sshd.dpkg-old": "",
		"a/etc/hosts": "", "a/passwd": "",
		"a/etc/b/etc/passwd": "a/etc/b etc/passwd", "a/etc/pam.d/x/y": "", "netc/passwd": "",
	} {
		root, name, ok := part(file, nil)
		if got := root + " " + name; ok != (want != "") || ok && got != want {
			t.Errorf("%s: %q %v, want %q", file, got, ok, want)
		}
	}
}

// Members of admin_group are locked as root is; the first line of shadow counts.
func TestGroupsAndLines(t *testing.T) {
	a, _, problems := machine(t,
		"== security/faillock.conf\ndeny = 5\nadmin_group = wardens\n== group\nwardens:x:20:ada\nquay:x:21:\n== "+
			"passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:21::/:/bin/sh\n"+
			"bo:x:1001:20::/:/bin/sh\ncy:x:1002:21::/:/bin/sh\n+@riggers:::::\n== "+
			"shadow\nroot:*:1:0:90:7:::\nada:$6$s$x:1:0:90:7:::\nbo:$6$s$x:1:0:90:7:::\ncy:$6$s$x:1:0:90:7:::\ncy:!:1:0:99999:7:::\n"+
			strings.TrimPrefix(goodAuth, "\n"))
	got := map[string]string{}
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) == estate.Account {
			text, _ := settingsOf(a, a.Objects.Name.At(row))["lockout-threshold"].Value.MarshalText()
			got[a.Objects.Name.At(row)] = fmt.Sprint(string(text), " ", a.Objects.FlagsOf(row)&estate.Disabled != 0)
		}
	}
	if want := map[string]string{"root": "never true", "ada": "never false", "bo": "never false", "cy": "5 false"}; !reflect.DeepEqual(got,
		want) {
		t.Errorf("%v, want %v", got, want)
	}
	if len(problems) != 1 || !strings.Contains(fmt.Sprint(problems), "the one in line 4 counts") {
		t.Errorf("problems: %v", problems)
	}
}

// Trees of other systems are refused by their names, and hashes of former
// passwords are never taken.
func TestForeignTrees(t *testing.T) {
	for name, system := range map[string]string{"etc/master.passwd": "BSD", "etc/security/user": "AIX", "etc/default/passwd": "Solaris",
		"etc/alpine-release": "Alpine"} {
		if _, got, ok := part("m/"+name, nil); !ok || got != name {
			t.Errorf("%s is passed over", name)
		}
		tree := &intake.Tree{Name: "m", Path: "m"}
		for _, n := range []string{name, "etc/passwd"} {
			tree.Parts = append(tree.Parts, &intake.Part{Name: n, Path: "m/" + n, Stored: "m/" + n})
		}
		if err := read(tree, estate.NewBuilder()); err == nil || !strings.Contains(err.Error(), system) ||
			!strings.Contains(err.Error(), "m/"+name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, ok := part("m/etc/security/opasswd", nil); ok {
		t.Error("opasswd is taken")
	}
	for file, want := range map[string]string{"m/usr/etc/pam.d/sshd": "m usr/etc/pam.d/sshd", "m/usr/lib/pam.d/sshd": "m usr/lib/pam.d/sshd",
		"usr/lib/os-release": ". usr/lib/os-release"} {
		if root, name, ok := part(file, nil); !ok || root+" "+name != want {
			t.Errorf("%s: %s %s, want %s", file, root, name, want)
		}
	}
}

// A random stack does on the real thing what play says: the same modules are
// asked in the same order, and the same comes of it.
func TestRealStacks(t *testing.T) {
	labtest.Wanted(t)
	tester, err := exec.LookPath("pamtester")
	if err != nil || os.Getuid() != 0 {
		labtest.Lacking(t, "no pamtester, or not root; Debian's package pamtester has it")
	}
	const service, inner = "sternledger-stack", "sternledger-inner"
	t.Cleanup(func() { os.Remove("/etc/pam.d/" + service); os.Remove("/etc/pam.d/" + inner) })
	rnd := rand.New(rand.NewPCG(1, 2))
	codes := []string{"success", "auth_err", "ignore", "perm_denied", "new_authtok_reqd"}
	line := func() string {
		control := []string{"required", "requisite", "sufficient", "optional"}[rnd.IntN(4)]
		if rnd.IntN(2) == 0 {
			control = "["
			for _, code := range append(codes[:3:3], "default") {
				if rnd.IntN(3) > 0 {
					control += code + "=" + []string{"ok", "ignore", "bad", "die", "done", "reset", "1", "2"}[rnd.IntN(8)] + " "
				}
			}
			control += "]"
		}
		return fmt.Sprintf("auth %s pam_debug.so auth=%s\n", control, codes[rnd.IntN(len(codes))])
	}
	lines := func() (text string) {
		for range 1 + rnd.IntN(4) {
			text += line()
		}
		return text
	}
	const tries = 250
	agreed := 0
	for range tries {
		outer := lines()
		if rnd.IntN(3) > 0 {
			outer += []string{"auth include ", "auth substack ", "@include "}[rnd.IntN(3)] + inner + "\n" + lines()
		}
		tree := &intake.Tree{}
		for name, text := range map[string]string{service: outer, inner: lines()} {
			if err := os.WriteFile("/etc/pam.d/"+name, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			tree.Parts = append(tree.Parts, &intake.Part{Name: pamFolder + name, Data: []byte(text)})
		}
		services := newStacks(tree)
		stack, err := services.own(service, "auth")
		if err != nil {
			t.Fatal(err)
		}
		code := func(c *call) string { return strings.TrimPrefix(c.args[0], "auth=") }
		called, ok := play(stack, code)
		var want []string
		for _, i := range called {
			want = append(want, stack[i].args[0])
		}
		out, _ := exec.Command(tester, service, "root", "authenticate").CombinedOutput()
		var got []string
		for _, l := range strings.Split(string(out), "\n") {
			if strings.HasPrefix(l, "auth=") {
				got = append(got, l)
			}
		}
		if succeeded := strings.Contains(string(out), "successfully authenticated"); succeeded != ok || !slices.Equal(got, want) {
			t.Errorf("%v %v, want %v %v:\n%s--\n%s", ok, want, succeeded, got, outer, tree.Find(pamFolder+inner).Data)
			continue
		}
		agreed++
	}
	t.Logf("%d of %d random stacks agree", agreed, tries)
}

// Failed sign-ins lock as the program says, or do not, on the real thing; only
// the module that checks the password is replaced by one that answers as told.
func TestRealLockout(t *testing.T) {
	labtest.Wanted(t)
	tester, err := exec.LookPath("pamtester")
	if err != nil || os.Getuid() != 0 {
		labtest.Lacking(t, "no pamtester, or not root; Debian's package pamtester has it")
	}
	const service = "sternledger-door"
	t.Cleanup(func() { os.Remove("/etc/pam.d/" + service) })
	const pre, fail, succ = "auth required pam_faillock.so preauth\n", "auth [default=die] pam_faillock.so authfail\n",
		"auth required pam_faillock.so authsucc\n"
	stacks := map[string]string{
		"as the manual has it": pre + "auth [success=1 default=ignore] pam_unix.so\n" + fail + "auth required pam_permit.so\n",
		"with authsucc":        "auth [success=1 default=ignore] pam_unix.so\n" + fail + succ + "auth required pam_permit.so\n",
		"required throughout":  pre + "auth sufficient pam_unix.so\nauth required pam_faillock.so authfail\nauth required pam_deny.so\n",
		"nothing asked before": "auth [success=1 default=ignore] pam_unix.so\n" + fail + "auth required pam_permit.so\n",
		"nothing counted":      pre + "auth [success=1 default=die] pam_unix.so\n" + fail + "auth required pam_permit.so\n",
		"counted behind a jump": pre + "auth [success=2 default=1] pam_unix.so\n" + fail +
			"auth requisite pam_deny.so\nauth required pam_permit.so\n",
		"asked, and nobody listens": "auth optional pam_faillock.so preauth\nauth [success=1 default=ignore] pam_unix.so\n" + fail +
			"auth required pam_permit.so\n",
		"sufficient before it counts": "auth sufficient pam_unix.so\n" + pre + fail,
		"no module":                   "auth required pam_unix.so\n",
	}
	for name, stack := range stacks {
		for _, options := range []string{"deny=2", "deny=4 even_deny_root", "deny=3 unlock_time=0 root_unlock_time=60", "deny=0"} {
			withOptions := strings.ReplaceAll(stack, "pam_faillock.so ", "pam_faillock.so "+options+" ")
			a, _, _ := machine(t, "== pam.d/sshd\n"+withOptions+"== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh")
			for _, who := range []struct {
				name  string
				facts estate.Settings
			}{{"daemon", a.Head.Settings}, {"root", rootOf(a)}} {
				records := t.TempDir()
				tries := func(answer string) bool {
					text := strings.ReplaceAll(withOptions, "pam_unix.so", "pam_debug.so auth="+answer)
					os.WriteFile("/etc/pam.d/"+service, []byte(strings.ReplaceAll(text, "pam_faillock.so", "pam_faillock.so silent nodelay dir="+
						records)), 0o644)
					out, _ := exec.Command(tester, service, who.name, "authenticate").CombinedOutput()
					return strings.Contains(string(out), "successfully authenticated")
				}
				threshold, locks := who.facts["lockout-threshold"].Value.Number()
				for range map[bool]int64{true: threshold - 1, false: 6}[locks] {
					tries("auth_err")
				}
				if !tries("success") {
					t.Errorf("%s, %s, %s: locked before %d tries", name, options, who.name, threshold)
				}
				for range threshold { // a success may or may not have cleared the count
					tries("auth_err")
				}
				if locks && tries("success") {
					t.Errorf("%s, %s, %s: not locked after %d tries", name, options, who.name, threshold)
				}
			}
		}
	}
}

// For random settings of pwquality, the least length is exactly the one from
// which on pwscore takes passwords.
func TestRealQuality(t *testing.T) {
	labtest.Wanted(t)
	if _, err := exec.LookPath("pwscore"); err != nil {
		labtest.Lacking(t, "no pwscore; Debian's package libpwquality-tools has it")
	}
	if _, err := os.Stat("/var/cache/cracklib/cracklib_dict.pwd"); err != nil {
		labtest.Lacking(t, "no dictionary for pwscore; Debian's package cracklib-runtime makes it")
	}
	if err := exec.Command("unshare", "-m", "true").Run(); err != nil {
		t.Skipf("skipped: no mount namespace to put a configuration into: %v", err)
	}
	rnd := rand.New(rand.NewPCG(3, 4))
	taken := func(conf string, passwords []string) []bool {
		dir := t.TempDir()
		file := filepath.Join(dir, "pwquality.conf")
		os.WriteFile(file, []byte(conf), 0o644)
		cmd := exec.Command("unshare", "-m", "sh", "-c",
			`mount --bind "$1" /etc/security/pwquality.conf && while IFS= read -r p; do printf '%s\n' "$p" | pwscore tester >`+
				`/dev/null 2>&1 && echo yes || echo no; done`, "sh", file)
		cmd.Stdin = strings.NewReader(strings.Join(passwords, "\n") + "\n")
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
		var all []bool
		for _, word := range strings.Fields(string(out)) {
			all = append(all, word == "yes")
		}
		return all
	}
	const tries, each = 60, 24
	asked := 0
	for range tries {
		conf := fmt.Sprintf("minlen = %d\n", rnd.IntN(16))
		var given [4]int
		for i, name := range credits {
			given[i] = []int{0, 0, 1, 2, 4, -1, -2}[rnd.IntN(7)]
			conf += fmt.Sprintf("%s = %d\n", name, given[i])
		}
		conf += fmt.Sprintf("minclass = %d\ndictcheck = %d\n", rnd.IntN(4), rnd.IntN(2))
		a, _, _ := machine(t, "== security/pwquality.conf\n"+conf+checked("requisite pam_pwquality.so"))
		least, _ := a.Head.Settings["min-length"].Value.Number()
		var shorter, enough []string
		for range each {
			shorter = append(shorter, password(rnd, given, int(least)-1))
			enough = append(enough, password(rnd, given, int(least)))
		}
		for i, yes := range taken(conf, append(shorter, enough...)) {
			asked++
			if yes && i < each {
				t.Errorf("%q of %d characters is taken, %d should be the least:\n%s", shorter[i], len(shorter[i]), least, conf)
				break
			}
		}
		if !slices.Contains(taken(conf, enough), true) {
			t.Errorf("nothing of %d characters is taken:\n%s%q", least, conf, enough[:3])
		}
	}
	t.Logf("%d passwords under %d configurations", asked, tries)
}

// password makes a random one of n characters that has what is required, no
// repeats, and every other time as much as possible of what brings credit.
func password(rnd *rand.Rand, credits [4]int, n int) string {
	sets := [4]string{"bdfhjkmqrtvwxz", "BDFHJKMQRTVWXZ", "2739584061", "!?%+=:;#"}
	var kinds, worth []int
	for i, c := range credits {
		for range max(-c, 0) {
			kinds = append(kinds, i)
		}
		for range max(c, 0) {
			worth = append(worth, i)
		}
	}
	rnd.Shuffle(len(worth), func(i, j int) { worth[i], worth[j] = worth[j], worth[i] })
	if rnd.IntN(3) > 0 {
		kinds = append(kinds, worth[:min(len(worth), max(n-len(kinds), 0))]...)
	}
	for len(kinds) < n {
		kinds = append(kinds, rnd.IntN(4))
	}
	rnd.Shuffle(len(kinds), func(i, j int) { kinds[i], kinds[j] = kinds[j], kinds[i] })
	var b strings.Builder
	last := byte(0)
	for _, kind := range kinds[:max(n, 0)] {
		c := last
		for c == last {
			c = sets[kind][rnd.IntN(len(sets[kind]))]
		}
		b.WriteByte(c)
		last = c
	}
	return b.String()
}

// What the program says of an account's ageing is what chage prints.
func TestRealAgeing(t *testing.T) {
	labtest.Wanted(t)
	if _, err := exec.LookPath("chage"); err != nil || os.Getuid() != 0 {
		labtest.Lacking(t, "no chage, or not root; Debian's package passwd has it")
	}
	rnd := rand.New(rand.NewPCG(5, 6))
	home := t.TempDir()
	os.MkdirAll(filepath.Join(home, "etc"), 0o755)
	pick := func(words ...string) string { return words[rnd.IntN(len(words))] }
	var passwd, shadow strings.Builder
	const people = 80
	for i := range people {
		fmt.Fprintf(&passwd, "u%d:x:%d:1000::/:/bin/sh\n", i, 1000+i)
		fmt.Fprintf(&shadow, "u%d:$6$a$b:%s:%s:%s:%s:%s::\n", i, pick("19900", "20300", ""), pick("0", "1", "7", ""),
			pick("0", "1", "90", "365", "9999", "10000", "99999", ""),
			pick("7", "14", "0", ""), pick("", "0", "30"))
	}
	for name, text := range map[string]string{"passwd": passwd.String(), "shadow": shadow.String(), "group": "g:x:1000:\n"} {
		os.WriteFile(filepath.Join(home, "etc", name), []byte(text), 0o600)
	}
	a, _, _ := machine(t, "== passwd\n"+passwd.String()+"== shadow\n"+shadow.String())
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) != estate.Account {
			continue
		}
		name := a.Objects.Name.At(row)
		facts := a.Head.Settings
		if n := a.Objects.Applied.At(row); n > 0 {
			i := slices.IndexFunc(a.Overrides, func(p estate.Policy) bool { return p.Origin == a.Policies[n-1].DN })
			facts = a.Overrides[i].Settings
		}
		out, err := exec.Command("chage", "-R", home, "-l", name).Output()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
		told := map[string]string{}
		for _, l := range strings.Split(string(out), "\n") {
			key, value, _ := strings.Cut(l, ":")
			told[strings.TrimSpace(key)] = strings.TrimSpace(value)
		}
		expires := facts["max-age"].Value
		if never := told["Password expires"] == "never"; never != expires.Is(setting.Never) {
			t.Errorf("%s: max-age %v, chage says %q", name, expires, told["Password expires"])
		}
		days := func(id setting.ID, none int64) int64 {
			if n, ok := facts[id].Value.Number(); ok {
				return n / day
			}
			return none
		}
		said := func(key string) int64 {
			n, _ := strconv.ParseInt(told[key], 10, 64)
			return max(n, 0)
		}
		if told["Last password change"] == "never" {
			continue // chage prints the fields all the same; nothing of them counts
		}
		if got, want := days("min-age", 0), said("Minimum number of days between password change"); got != want {
			t.Errorf("%s: min-age %d, chage says %d", name, got, want)
		}
		if got, want := days("expiry-warning", 0), said("Number of days of warning before password expires"); got != want {
			t.Errorf("%s: warning %d, chage says %d", name, got, want)
		}
		if n, ok := expires.Number(); ok && n/day != said("Maximum number of days between password change") {
			t.Errorf("%s: max-age %d, chage says %s", name, n/day, told["Maximum number of days between password change"])
		}
		if off := told["Password inactive"] == "never"; !expires.Is(setting.Never) && off != facts["inactive-disable"].Value.Is(setting.Never) {
			t.Errorf("%s: inactive %v, chage says %q", name, facts["inactive-disable"].Value, told["Password inactive"])
		}
	}
}

func FuzzTree(f *testing.F) {
	f.Add("passwd\nada:x:1000:1000::/:/bin/sh\n== shadow\nada:$6$a$b:1:2:3:4:5:6:\n== login.defs\nPASS_MAX_DAYS 90")
	f.Add("pam.d/sshd\nauth [success=1 default=die] pam_unix.so\n@include sshd\nauth substack sshd\n== pam.d/passwd\npassword " +
		"required pam_unix.so \\\n")
	f.Add("pam.d/passwd\npassword requisite pam_pwquality.so minlen=99\npassword [a=9999999999 b] pam_unix.so\n== " +
		"security/pwquality.conf\ndcredit=-9\n= =\n#")
	f.Add("passwd\n:::::::\nroot::0:0:::\n+::::::\n== group\nwheel:x:10:root,,\n== shadow\nroot\n::\n")
	f.Fuzz(func(t *testing.T, text string) {
		if !strings.HasPrefix(text, "passwd\n") && !strings.HasPrefix(text, "pam.d/passwd\n") && !strings.HasPrefix(text, "pam.d/sshd\n") {
			return
		}
		a, tree, _ := machine(t, "== "+text)
		for _, p := range tree.Parts {
			if p.Name == "etc/shadow" && strings.Count(keptOf(p), "\n") > strings.Count(text, "\n") {
				t.Error("the copy has more lines")
			}
		}
		for _, p := range append([]estate.Policy{*a.Head}, a.Overrides...) {
			for id, fact := range p.Settings {
				if n, ok := fact.Value.Number(); ok && n < 0 {
					t.Errorf("%s is %d", id, n)
				}
			}
		}
	})
}

// Which lines of shadow the system takes, and what they say of a password's age: as
// tried with the modules of Debian 11, 12 and 13.
func TestLinesOfShadow(t *testing.T) {
	const people = "debian_version\n%s\n== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:%s\n== shadow\nada:%s\n"
	for _, c := range []struct{ system, shell, line, want string }{
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365:7:45::", "max 365 idle 45 set 20000"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365:7:::", "max 365 set 20000"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:0365:7:::", "max 365 set 20000"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365", "max 365 set 20000"}, // the form of long ago
		{"12.1", "/bin/bash", "$6$a$b::0:365:7:::", "max 365 no-day"},
		{"13.1", "/bin/bash", "$6$a$b::0:365:7:::", "max 365 same-day ageless"},
		{"13.1", "/bin/bash", "$6$a$b:20000:0:365:7:::", "max 365 set 20000 same-day"},
		{"", "/bin/bash", "$6$a$b::0:365:7:::", "max 365 no-day same-day"}, // not known: what ends sooner
		{"12.1", "/bin/bash", "$6$a$b:0:0:365:7:::", "max 365 must-change"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:99999:7::20100:", "max 99999 set 20000 ends 20100"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:99999:7::0:", "max 99999 set 20000 ends 0 disabled"},
		{"12.1", "/usr/sbin/nologin", "$6$a$b:20000:0:365:7:::", "max 365 set 20000 no-session"},
		{"12.1", "/bin/bash", "!$6$a$b:20000:0:365:7:::", "max 365 set 20000 no-password disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:-1:7:::", "set 20000 no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365:7:-1::", "set 20000 no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:-1:0:365:7:::", "no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365x:7:::", "set 20000 no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000 :0:365:7:::", "no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365:7::", "set 20000 no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:365:7::::", "set 20000 no-line disabled"},
		{"12.1", "/bin/bash", "$6$a$b:20000:0:99999999999:7:::", "set 20000 no-line disabled"},
	} {
		a, _, _ := machine(t, fmt.Sprintf("== "+people, c.system, c.shell, c.line))
		o, got := a.Objects, []string{}
		add := func(there bool, text string) {
			if there {
				got = append(got, text)
			}
		}
		for row := range o.Len() {
			if o.ClassOf(row) != estate.Account || o.Name.At(row) != "ada" {
				continue
			}
			traits, flags := o.TraitsOf(row), o.FlagsOf(row)
			add(o.MaxDays.At(row) > 0, fmt.Sprint("max ", o.MaxDays.At(row)-1))
			add(o.IdleDays.At(row) > 0, fmt.Sprint("idle ", o.IdleDays.At(row)-1))
			add(o.PwdSet.At(row) > 0, fmt.Sprint("set ", o.PwdSet.At(row)/day))
			add(o.Ends.At(row) > 0, fmt.Sprint("ends ", o.Ends.At(row)/day))
			add(flags&estate.MustChange != 0, "must-change")
			add(traits&estate.NoSession != 0, "no-session")
			add(traits&estate.NoPassword != 0, "no-password")
			add(traits&estate.NoDay != 0, "no-day")
			add(traits&estate.SameDay != 0, "same-day")
			add(traits&estate.Ageless != 0, "ageless")
			add(traits&estate.NoLine != 0, "no-line")
			add(flags&estate.Disabled != 0, "disabled")
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s, %s: %q, want %q", c.system, c.line, text, c.want)
		}
	}
}

// What is undone is what was, to the byte; what chage would not write again as it is, is
// left to a person.
func TestAgedOf(t *testing.T) {
	year := setting.Number(365 * day)
	for line, want := range map[string]string{
		"ada:$6$x:20000:0:99999:7:30::": "chage -M 99999", "ada:$6$x:20000:0::7:::": "chage -M -1", "ada:$6$x:20000:0:090:7:::": "as it is",
		"ada:$6$x:20000:0:-1:7:::": "mend that first", "ada:$6$x:20000:0:90": "mend that first", "bo:$6$x:20000:0:90:7:::": "has no line",
		"ada:$6$x:20000:0:90:7:::\nada:$6$x:20000:0:90:7:::": "two lines",
	} {
		a, why := AgedOf([]byte(line+"\n"), "ada", "max-age", year)
		if got := why + string(Script([]Aged{a}, nil, true)); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
}

// What a module asks for beyond the settings goes with whom it holds.
func TestAsks(t *testing.T) {
	people := "\n== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh\n== shadow\nroot:*:20000:0:99999:7:::\nada:$6$a$b:20000:0:99999:7:::"
	asks := func(tree string) (rules, root *estate.Asks) {
		a, _, _ := machine(t, tree+people)
		for _, p := range a.Overrides {
			if strings.HasPrefix(p.Name, "root") {
				root = p.Asks
			} else {
				rules = p.Asks
			}
		}
		return rules, root
	}
	conf := "== security/pwquality.conf\nminlen = 12\nlcredit = 1\ndcredit = 2\nocredit = -1\nmaxclassrepeat = 4\ngecoscheck = " +
		"1\nusersubstr = 5\nbadwords = tide quay\n"
	rules, root := asks(conf + checked("requisite pam_pwquality.so retry=3"))
	if root != nil {
		t.Errorf("root is asked for %+v", root)
	}
	want := &estate.Asks{Module: "pam_pwquality", Length: 12, Credits: [4]int64{1, 0, 2, 0}, ClassRun: 4, Named: true,
		Personal: true, NamePart: 5, Words: []string{"tide", "quay"}}
	if rules == nil || rules.Cite.File != "m/etc/pam.d/passwd" {
		t.Fatalf("%+v", rules)
	}
	rules.Cite = estate.Cite{}
	if !reflect.DeepEqual(rules, want) {
		t.Errorf("%+v\nwant %+v", rules, want)
	}
	// enforce_for_root holds root to the same, so that there is one policy for all.
	a, _, _ := machine(t, conf+checked("requisite pam_pwquality.so enforce_for_root")+people)
	for _, p := range a.Overrides {
		if strings.HasPrefix(p.Name, "root") && p.Asks == nil {
			t.Errorf("root is spared: %+v", p)
		}
	}
	for name, tree := range map[string]string{"not called": conf + "== pam.d/passwd\npassword required pam_unix.so",
		"only warned": conf + "enforcing = 0\n" + checked("requisite pam_pwquality.so")} {
		if rules, _ := asks(tree); rules != nil {
			t.Errorf("%s: %+v", name, rules)
		}
	}
}

// What the storing module asks of a user it asks, and of root it does not: a
// real passwd, in a copy of /etc, by an ordinary user and by root.
func TestRealStorage(t *testing.T) {
	labtest.Wanted(t)
	if os.Getuid() != 0 {
		labtest.Lacking(t, "not root")
	}
	for _, tool := range []string{"useradd", "passwd", "chpasswd", "setpriv", "unshare"} {
		if _, err := exec.LookPath(tool); err != nil {
			labtest.Lacking(t, "no %s", tool)
		}
	}
	if err := exec.Command("unshare", "-m", "true").Run(); err != nil {
		t.Skipf("skipped: no mount namespace to put a copy of /etc into: %v", err)
	}
	const script = `set -e
cp -a /etc "$1/etc"
mount --bind "$1/etc" /etc
useradd -M -c 'Maud Ferrier' mferrier
printf 'password required pam_unix.so %s\n' "$2" >/etc/pam.d/passwd
cp /etc/pam.d/passwd /etc/pam.d/chpasswd
current=Start-Quay-Lantern-77
echo "mferrier:$current" | chpasswd
for word in $3; do
  if printf '%s\n%s\n%s\n' "$current" "$word" "$word" | setpriv --reuid mferrier --regid mferrier --clear-groups passwd >/dev/null 2>&1; then current=$word; echo user yes; else echo user no; fi
done
for word in $3; do
  if printf '%s\n%s\n' "$word" "$word" | passwd mferrier >/dev/null 2>&1; then echo root yes; else echo root no; fi
done`
	for _, options := range []string{"obscure yescrypt", "minlen=9 sha512", "minlen=4", "obscure minlen=11 yescrypt", "sha512"} {
		t.Run(options, func(t *testing.T) {
			t.Parallel() // each refusal takes its time
			tree := "== pam.d/passwd\npassword required pam_unix.so " + options +
				"\n== debian_version\n12\n== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh"
			a, _, _ := machine(t, tree)
			least := map[string]int{}
			n, _ := a.Head.Settings["min-length"].Value.Number()
			least["user"] = int(n)
			n, _ = rootOf(a)["min-length"].Value.Number()
			least["root"] = int(n)
			words := []string{"k", "kd3x", "quay", "Gannet", "7-Tide-Table"}
			for _, length := range []int{least["user"] - 1, least["user"]} {
				words = append(words, "Xq7-zB2_hW9pLm4"[:max(length, 1)])
			}
			out, err := exec.Command("unshare", "-m", "bash", "-c", script, "sh", t.TempDir(), options, strings.Join(words, " ")).CombinedOutput()
			if err != nil {
				t.Fatalf("%v %s", err, out)
			}
			for i, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
				who, answer, _ := strings.Cut(line, " ")
				word := words[i%len(words)]
				if (answer == "yes") != (len(word) >= least[who]) {
					t.Errorf("%s, %s: %q of %d characters is taken: %s, %d are asked for", options, who, word, len(word), answer, least[who])
				}
			}
		})
	}
}

// Who may run everything as root by sudo is privileged.
func TestSudoers(t *testing.T) {
	people := "\n== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh\nbo:x:1001:1001::/:/bin/sh\ncy:x:1002:1002::/:/bin/sh\n== " +
		"group\nquay:x:30:cy\nown:x:1001:\n"
	for text, want := range map[string]string{
		"root ALL=(ALL:ALL) ALL":                                             "",
		"ada ALL=(ALL) ALL":                                                  "ada",
		"ada\tALL = NOPASSWD: ALL":                                           "ada",
		"ada ALL=(postgres) ALL":                                             "",
		"ada ALL=(postgres, root) NOPASSWD: SETENV: ALL":                     "ada",
		"ada ALL=(postgres) ALL, (root) /bin/ls, ALL":                        "ada",
		"ada ALL=/usr/bin/apt, !ALL":                                         "",
		"ada ALL=ALL, !/bin/su":                                              "ada",
		"ada, bo ALL=(ALL) ALL # both":                                       "ada bo",
		"%quay ALL=(ALL) ALL":                                                "cy",
		"%own ALL=(ALL) ALL":                                                 "bo",
		"#1002 ALL=(ALL) ALL":                                                "cy",
		"ALL, !bo ALL=(ALL) ALL":                                             "ada cy",
		"ALL ALL=(ALL) ALL":                                                  "ada bo cy",
		"Defaults targetpw\nALL ALL=(ALL) ALL":                               "",
		"User_Alias CREW = ada, %quay : REST = bo\nCREW ALL=ALL":             "ada cy",
		"Cmnd_Alias EVERY = ALL\nRunas_Alias TOP = root\nbo ALL=(TOP) EVERY": "bo",
		"User_Alias A = B\nUser_Alias B = A\nA ALL=ALL":                      "",
		"ada ALL=(ALL) \\\n  ALL":                                            "ada",
		"@includedir /etc/sudoers.d\n== sudoers.d/crew\nbo ALL=ALL\n== sudoers.d/off.bak\nada ALL=ALL\n== sudoers.d/x~\nada ALL=ALL": "bo",
		"#include sudoers.extra\n== sudoers.extra\nbo ALL=ALL":                                                                       "bo",
		"#includedir /etc/elsewhere": "",
		"# ada ALL=ALL":              "",
	} {
		a, _, _ := machine(t, "== sudoers\n"+text+people)
		var got []string
		for row := range a.Objects.Len() {
			if a.Objects.FlagsOf(row)&estate.Administrator != 0 && a.Objects.Name.At(row) != "root" {
				got = append(got, a.Objects.Name.At(row))
			}
		}
		if slices.Sort(got); strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", text, got, want)
		}
	}
}

// Places that hold further accounts are told; what an empty password and a third
// field of 0 mean.
func TestElsewhereAndFields(t *testing.T) {
	a, _, _ := machine(t, "== nsswitch.conf\npasswd: files sss # both\nhosts: dns ldap\n== pam.d/gate\nauth sufficient "+
		"pam_krb5.so\nauth required pam_unix.so\n"+
		"== passwd\nroot:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh\nbo:x:1001:1001::/:/bin/sh\n+@riggers:::::\n== "+
		"shadow\nroot:*:1:0:90:7:::\nada::1:0:90:7:::\nbo:$6$s$x:0:0:90:7:::\n")
	i := slices.IndexFunc(a.Remarks, func(m estate.Remark) bool { return m.Kind == estate.Elsewhere })
	if i < 0 {
		t.Fatalf("nothing is said of other places: %+v", a.Remarks)
	}
	for _, want := range []string{"+@riggers", "sss", "krb5"} {
		if !strings.Contains(a.Remarks[i].Text, want) || strings.Contains(a.Remarks[i].Text, "ldap") {
			t.Errorf("%s, want %s", a.Remarks[i].Text, want)
		}
	}
	flags := func(a *estate.Authority, name string) estate.Flag {
		for row := range a.Objects.Len() {
			if a.Objects.Name.At(row) == name {
				return a.Objects.FlagsOf(row)
			}
		}
		return 0
	}
	if f := flags(a, "bo"); f&estate.MustChange == 0 {
		t.Errorf("a third field of 0: %v", f.Names())
	}
	for arg, want := range map[string]estate.Flag{"": estate.Disabled, " nullok": estate.EmptyPassword} {
		a, _, _ := machine(t, "== passwd\nada:x:1000:1000::/:/bin/sh\n== shadow\nada::1:0:90:7:::\n== pam.d/gate\nauth required pam_unix.so"+arg)
		if f := flags(a, "ada"); f&(estate.Disabled|estate.EmptyPassword) != want {
			t.Errorf("an empty password with %q: %v", arg, f.Names())
		}
	}
}

// measured is what modules of Debian 12 answered to ada (uid 1000) and to root, in
// stacks for signing in and for accounts; Debian 11 and 13 answer alike. "-" is
// what depends on more than the evidence.
const measured = `
pam_access.so | success success | success success
pam_debug.so | success success | success success
pam_deny.so | auth_err auth_err | auth_err auth_err
pam_echo.so | success success | success success
pam_env.so | ignore ignore | service_err service_err
pam_faildelay.so | ignore ignore | module_unknown module_unknown
pam_faillock.so | success success | success success
pam_group.so | ignore ignore | module_unknown module_unknown
pam_issue.so | ignore ignore | module_unknown module_unknown
pam_keyinit.so | ignore ignore | module_unknown module_unknown
pam_limits.so | module_unknown module_unknown | module_unknown module_unknown
pam_listfile.so | service_err service_err | service_err service_err
pam_localuser.so | success success | success success
pam_loginuid.so | module_unknown module_unknown | ignore ignore
pam_mail.so | ignore ignore | module_unknown module_unknown
pam_mkhomedir.so | module_unknown module_unknown | module_unknown module_unknown
pam_motd.so | module_unknown module_unknown | module_unknown module_unknown
pam_namespace.so | module_unknown module_unknown | module_unknown module_unknown
pam_nologin.so | ignore ignore | ignore ignore
pam_permit.so | success success | success success
pam_pwhistory.so | module_unknown module_unknown | module_unknown module_unknown
pam_pwquality.so | module_unknown module_unknown | module_unknown module_unknown
pam_securetty.so | success - | success -
pam_setquota.so | module_unknown module_unknown | module_unknown module_unknown
pam_shells.so | success success | success success
pam_succeed_if.so | success success | success success
pam_time.so | module_unknown module_unknown | success success
pam_tty_audit.so | module_unknown module_unknown | module_unknown module_unknown
pam_umask.so | module_unknown module_unknown | module_unknown module_unknown
pam_unix.so | success success | success success
pam_usertype.so | service_err service_err | service_err service_err
pam_warn.so | ignore ignore | ignore ignore
pam_xauth.so | module_unknown module_unknown | module_unknown module_unknown
pam_nologin.so successok | success success | success success
pam_succeed_if.so uid >= 1000 | success auth_err | success auth_err
pam_succeed_if.so uid < 1000 | auth_err success | auth_err success
pam_succeed_if.so user = ada | success auth_err | success auth_err
pam_succeed_if.so user ingroup ada | success auth_err | success auth_err
pam_succeed_if.so shell = /bin/sh | success auth_err | success auth_err
pam_succeed_if.so quiet_success uid eq 0 | auth_err success | auth_err success
pam_succeed_if.so service = codes | success success | success success
pam_succeed_if.so user in ada:bob | success auth_err | success auth_err
pam_succeed_if.so user notin ada:bob | auth_err success | auth_err success
pam_succeed_if.so bogus | service_err service_err | service_err service_err
pam_succeed_if.so user bogusop x | service_err service_err | service_err service_err
pam_succeed_if.so uid >= x | service_err service_err | service_err service_err
pam_usertype.so issystem | auth_err success | auth_err success
pam_usertype.so isregular | success auth_err | success auth_err
pam_faillock.so preauth | success success | success success
pam_faillock.so authfail | ignore ignore | success success
pam_faillock.so authsucc | success success | success success
pam_listfile.so item=user sense=allow file=/etc/passwd onerr=fail | auth_err auth_err | auth_err auth_err
pam_listfile.so item=user sense=deny file=/etc/passwd | success success | success success
pam_listfile.so item=user sense=allow file=/etc/one onerr=fail | success auth_err | success auth_err
pam_listfile.so item=user sense=deny file=/etc/one onerr=fail | auth_err success | auth_err success
pam_listfile.so item=group sense=allow file=/etc/onegroup onerr=fail | success auth_err | success auth_err
pam_securetty.so noconsole | success - | success -
`

// Modules answer here as they do on a real machine.
func TestAnswers(t *testing.T) {
	tree := &intake.Tree{Name: "m"}
	for name, text := range map[string]string{"etc/passwd": "root:x:0:0::/root:/bin/bash\nada:x:1000:1000::/home/ada:/bin/sh\n",
		"etc/group": "ada:x:1000:\nroot:x:0:\n", "etc/shells": "/bin/sh\n/bin/bash\n",
		"etc/security/access.conf": "# none\n", "etc/security/time.conf": "# none\n", "etc/one": "ada\n", "etc/onegroup": "ada\n"} {
		tree.Parts = append(tree.Parts, &intake.Part{Name: name, Data: []byte(text)})
	}
	r := &reader{tree: tree, into: estate.NewBuilder()}
	ada, root := audience{{"ada", 1000, 1000, "/bin/sh"}}, audience{{"root", 0, 0, "/bin/bash"}}
	seen := 0
	for line := range strings.Lines(strings.TrimSpace(measured)) {
		cells := strings.Split(strings.TrimSpace(line), " | ")
		w := strings.Fields(cells[0])
		for i, kind := range []string{"auth", "account"} {
			c := &call{module: strings.TrimSuffix(w[0], ".so"), args: w[1:], kind: kind, service: "codes"}
			for k, who := range []audience{ada, root} {
				want := strings.Fields(cells[1+i])[k]
				got, known := r.says(c, who)
				if !known {
					got = "-"
				}
				seen++
				if got != want {
					t.Errorf("%s of %s to %s: %s, want %s", cells[0], kind, who[0].name, got, want)
				}
			}
			// To both together only what it answers both is known.
			both, known := r.says(c, audience{ada[0], root[0]})
			if f := strings.Fields(cells[1+i]); known != (f[0] == f[1] && f[0] != "-") || known && both != f[0] {
				t.Errorf("%s of %s to both: %s %v", cells[0], kind, both, known)
			}
		}
	}
	if seen < 200 {
		t.Errorf("only %d answers", seen)
	}
	for text, want := range map[string]string{"pam_succeed_if user =~ a*": "success", "pam_succeed_if user !~ a*": "auth_err",
		"pam_succeed_if uid ne 1000": "auth_err", "pam_succeed_if uid le 1000": "success", "pam_succeed_if uid gt 999 gid lt 1000": "auth_err",
		"pam_succeed_if user notingroup ada": "auth_err", "pam_succeed_if user != ada": "auth_err", "pam_succeed_if uid": "service_err",
		"pam_succeed_if user innetgr x": "-", "pam_succeed_if use_uid uid = 0": "-", "pam_succeed_if rhost = x uid < 5": "-",
		"pam_listfile item=tty sense=allow file=/etc/one onerr=fail": "-", "pam_listfile item=user sense=allow file=/etc/gone onerr=succeed": "-",
		"pam_listfile sense=allow onerr=succeed": "success", "pam_listfile item=user sense=deny file=/etc/one apply=bo": "-",
		"pam_listfile item=shell sense=deny file=/etc/shells": "auth_err", "pam_localuser file=/x": "-", "pam_harbour": "-",
		"pam_access accessfile=/etc/gone": "-", "pam_debug auth=cred_err": "cred_err"} {
		w := strings.Fields(text)
		got, known := r.says(&call{module: w[0], args: w[1:], kind: "auth"}, ada)
		if !known {
			got = "-"
		}
		if got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// Folders that are the inside of an etc, and what they are not.
func TestBareFolders(t *testing.T) {
	for text, want := range map[string]string{
		"q.tgz/passwd q.tgz/pam.d/sshd": "q.tgz", "q/shadow q/login.defs": "q", "q/pam.d/sshd q/security/faillock.conf": "q",
		"q/etc/passwd q/etc/shadow": "", "q/passwd": "", "passwd shadow": "",
		"q/login.defs q/hostname": "", "a/passwd a/shadow b/passwd b/nsswitch.conf": "a b", "q/pam.d/a q/pam.d/b": "",
	} {
		if got := strings.Join(bareFolders(strings.Fields(text)), " "); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// Lines that go on, to the very end of a file.
func TestLogicalLines(t *testing.T) {
	for text, want := range map[string]string{"a \\\n b\nc": "1:a   b 3:c", "a \\": "1:a", "# x\n\na # y\r\n": "3:a",
		"a\\\n\\\nb": "1:a  b", "": ""} {
		var got []string
		for _, l := range logical([]byte(text)) {
			got = append(got, fmt.Sprintf("%d:%s", l.at, l.text))
		}
		if said := strings.Join(got, " "); said != want {
			t.Errorf("%q: %q, want %q", text, said, want)
		}
	}
}

// An account ends when the newest password of the machine was set after its day. One
// password that is dated in the future ends nobody.
func TestEndedAccounts(t *testing.T) {
	was := today
	defer func() { today = was }()
	today = func() int64 { return 20000 }
	const people = "== passwd\nada:x:1000:1000::/:/bin/sh\nbo:x:1001:1001::/:/bin/sh\ncy:x:1002:1002::/:/bin/sh\n== " +
		"shadow\nada:$6$a$b:19000:0:90:7::%s:\nbo:$6$a$b:%s:0:90:7:::\ncy:$6$a$b:19500:0:90:7:::\n"
	for name, c := range map[string]struct {
		ends, newest string
		ended        bool
	}{
		"before the newest":             {"19400", "19600", true},
		"after the newest":              {"19700", "19600", false},
		"never":                         {"", "19600", false},
		"one is dated in the future":    {"19700", "25000", false},
		"and it had ended all the same": {"19400", "25000", true},
		"one of today":                  {"20000", "20000", true},
	} {
		a, _, _ := machine(t, fmt.Sprintf(people, c.ends, c.newest))
		if got := a.Objects.FlagsOf(0)&estate.Disabled != 0; got != c.ended {
			t.Errorf("%s: ended %v, want %v", name, got, c.ended)
		}
		ahead := slices.ContainsFunc(a.Remarks, func(m estate.Remark) bool {
			return m.Kind == estate.DatedAhead && slices.Equal(m.Accounts, []string{"bo"})
		})
		if ahead != (c.newest == "25000") {
			t.Errorf("%s: dated ahead %v", name, ahead)
		}
	}
}

// What is kept of a call or a rule that goes on in further lines is judged by what it
// belongs to, and goes on as it did.
func TestKeptFurtherLines(t *testing.T) {
	for _, c := range []struct{ part, in, want string }{
		{"etc/pam.d/su", "auth required pam_ldap.so bindpw=\\\nQuay7 use_first_pass",
			"auth required pam_ldap.so bindpw=\\\n[struck out] use_first_pass"},
		{"etc/pam.d/su", "auth required pam_ldap.so \\\n  Quay7 nullok", "auth required pam_ldap.so \\\n  [not kept] nullok"},
		{"etc/pam.d/su", "auth \\\n required \\\n pam_ldap.so \\\n bindpw=Quay7", "auth \\\n required \\\n pam_ldap.so \\\n bindpw=[struck out]"},
		{"etc/pam.d/su", "auth required pam_unix.so secret=Quay7\\\n nullok", "auth required pam_unix.so secret=[struck out]\\\n nullok"},
		{"etc/pam.d/su", "auth required pam_unix.so token=\\\n\tQuay7 nullok", "auth required pam_unix.so token=\\\n\t[struck out] nullok"},
		{"etc/pam.d/su", "auth required pam_x.so [key=\\\n Quay7]\nauth required pam_unix.so",
			"auth required pam_x.so [not kept]\\\n [not kept]\n" +
				"auth required pam_unix.so"},
		{"etc/pam.d/su", "# a key \\\nauth required pam_unix.so nullok", "# [not kept]\nauth required pam_unix.so nullok"},
		{"etc/pam.d/su", "Quay7\n@include common-auth\n-auth optional pam_unix.so\n",
			"[not kept]\n@include common-auth\n-auth optional pam_unix.so\n"},
		{"etc/pam.conf", "su auth required pam_unix.so \\\n nullok\nQuay7 Quay8", "su auth required pam_unix.so \\\n nullok\n[not kept] [not kept]"},
		{"etc/sudoers", "ada ALL=/usr/bin/x \\\n -p Quay7, /bin/ls", "ada ALL=/usr/bin/x \\\n [not kept] , /bin/ls"},
		{"etc/sudoers", "ada ALL=/usr/bin/x a\\:b \\\n Quay7 \\\n Quay8\nbo ALL=(ALL) ALL",
			"ada ALL=/usr/bin/x [not kept]\\\n [not kept] \\\n [not kept] \n" +
				"bo ALL=(ALL) ALL"},
		{"etc/sudoers", "bo ALL=(ALL) \\\n NOPASSWD: ALL", "bo ALL=(ALL) \\\n NOPASSWD: ALL"},
	} {
		tree := &intake.Tree{Parts: []*intake.Part{{Name: c.part, Data: []byte(c.in)}}}
		keepParts(tree)
		if got := string(tree.Parts[0].Data); got != c.want {
			t.Errorf("of\n%s\nis kept\n%s\nwant\n%s", c.in, got, c.want)
		}
	}
}

func keptOf(p *intake.Part) string {
	kept, _, _ := p.Copy()
	return string(kept)
}

// What a distribution ships, hardened by its files alone, is not weak for services that are no
// way in, conditions on the caller, screen locks, cards and certificates. The tree holds, in words of ours, the
// stacks of Red Hat's local profile.
func TestStockStacks(t *testing.T) {
	stock := map[string]string{}
	for _, name := range []string{"arch", "red-hat-7", "red-hat-8-sssd", "red-hat-9", "suse-15", "ubuntu-22"} {
		data, err := os.ReadFile("testdata/" + name + ".txt")
		if err != nil {
			t.Fatal(err)
		}
		stock[name] = string(data)
	}
	const hardened = "min-length=14 classes-required=4 history=24 lockout-threshold=5 lockout-duration=900 lockout-administrator=on max-age=31536000"
	edit := func(name string, pairs ...string) string {
		t.Helper()
		text := stock[name]
		for i := 0; i < len(pairs); i += 2 {
			if !strings.Contains(text, pairs[i]) {
				t.Fatalf("%s has no %q", name, pairs[i])
			}
			text = strings.ReplaceAll(text, pairs[i], pairs[i+1])
		}
		return text
	}
	twice := "auth        required                                     pam_u2f.so\nauth        sufficient                                   pam_unix.so nullok\n"
	for name, c := range map[string]struct{ tree, want string }{
		"Red Hat 9": {stock["red-hat-9"], "min-length=14 classes-required=4 lockout-threshold=5 lockout-duration=900 max-age=31536000"},
		"with a card that lets in": {edit("red-hat-9", "== pam.d/system-auth\n", "== pam.d/system-auth\nauth sufficient pam_u2f.so cue\n"),
			"min-length=14 lockout-threshold=5"},
		"with a card beside the password": {edit("red-hat-9", "auth        sufficient                                   pam_unix.so nullok\n", twice),
			"min-length=14 lockout-threshold=5"},
		"odd: su that only asks its caller": {edit("red-hat-9", "uid = 0 use_uid", "uid >= 1000 use_uid"), "lockout-threshold=5 max-age=never"},
		"odd: a door without the lock": {stock["red-hat-9"] + "== pam.d/gate\nauth required pam_unix.so\naccount required pam_unix.so\n",
			"min-length=14 lockout-threshold=never"},
		"odd: Arch, whose su has no lock":           {stock["arch"], "min-length=14 classes-required=4 history=24 lockout-threshold=never"},
		"Arch, su as the others":                    {edit("arch", "auth            required        pam_unix.so\n", "auth            include         system-auth\n"), hardened},
		"Red Hat 7":                                 {stock["red-hat-7"], hardened},
		"Red Hat 8 with sssd":                       {stock["red-hat-8-sssd"], hardened},
		"SUSE 15, whose older module gives credits": {stock["suse-15"], strings.Replace(hardened, "14", "10", 1)},
		"SUSE 15 without credits":                   {edit("suse-15", "minlen=14", "minlen=14 lcredit=-1 ucredit=-1 dcredit=-1 ocredit=-1"), hardened},
		"Ubuntu 22":                                 {stock["ubuntu-22"], hardened},
		"Ubuntu with sssd": {edit("ubuntu-22", "success=2 default=ignore]	pam_unix.so nullok\n", "success=3 default=ignore]	pam_unix.so nullok\n"+
			"auth	[success=2 default=ignore]	pam_sss.so use_first_pass\n", "success=1 default=ignore]	pam_unix.so obscure",
			"success=2 default=ignore]	pam_unix.so obscure", "yescrypt\n", "yescrypt\npassword	sufficient			pam_sss.so use_authtok\n"), hardened},
		"Ubuntu with winbind": {edit("ubuntu-22", "success=2 default=ignore]	pam_unix.so nullok\n", "success=3 default=ignore]	pam_unix.so nullok\n"+
			"auth	[success=2 default=ignore]	pam_winbind.so krb5_auth krb5_ccache_type=FILE cached_login try_first_pass\n"), hardened},
		"Ubuntu with fingerprints": {edit("ubuntu-22", "auth	[success=2 default=ignore]	pam_unix.so nullok\n",
			"auth	[success=3 default=ignore]	pam_fprintd.so max-tries=1 timeout=10\nauth	[success=2 default=ignore]	pam_unix.so nullok try_first_pass\n"), hardened},
	} {
		a, _, problems := machine(t, c.tree)
		held := settingsOf(a, "ada")
		for _, pair := range strings.Fields(c.want) {
			id, want, _ := strings.Cut(pair, "=")
			text, _ := held[setting.ID(id)].Value.MarshalText()
			if string(text) != want {
				t.Errorf("%s: %s is %s (%s), want %s", name, id, text, held[setting.ID(id)].Problem, want)
			}
		}
		for _, r := range a.Remarks { // nothing of what is shipped is wrong
			if strings.HasPrefix(name, "odd: ") {
				continue
			}
			if r.Kind == estate.NotObeyed || r.Kind == estate.NotTaken || r.Kind == estate.DoorsDiffer {
				t.Errorf("%s: %s", name, r.Text)
			}
		}
		if len(problems) > 0 {
			t.Errorf("%s: %v", name, problems)
		}
	}
}

// Where the links of a stack were lost by the copy nothing is asserted of it, and what to do
// is said.
func TestLostLinks(t *testing.T) {
	data, err := os.ReadFile("testdata/red-hat-9.txt")
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	for _, name := range []string{"system-auth", "password-auth", "postlogin"} {
		text = regexp.MustCompile(`(?s)== pam.d/`+name+`\n.*?\n== `).ReplaceAllString(text, "== ")
	}
	a, _, problems := machine(t, text+"== authselect/system-auth\nauth required pam_unix.so\n")
	held := settingsOf(a, "ada")
	for _, id := range append(slices.Clone(passwordSettings), setting.LockoutThreshold, setting.MaxAge, setting.EmptyAccepted) {
		if f := held[id]; f.Problem == "" && f.Value.IsSet() {
			t.Errorf("%s is %v", id, f.Value)
		}
	}
	if len(problems) == 0 || !strings.Contains(problems[0].Text, "cp -RL") {
		t.Errorf("%v", problems)
	}
	for _, r := range a.Remarks {
		t.Errorf("%s: %s", r.Kind, r.Text)
	}
}

// Of the services by which passwords are changed the weakest is named.
func TestWeakestChange(t *testing.T) {
	a, _, _ := machine(t, "== pam.d/passwd\npassword requisite pam_pwquality.so minlen=14\npassword required pam_unix.so use_authtok\n"+
		"== pam.d/su\nauth required pam_unix.so\naccount required pam_unix.so\npassword required pam_unix.so minlen=7\n")
	i := slices.IndexFunc(a.Remarks, func(r estate.Remark) bool { return r.Kind == estate.DoorsDiffer })
	if i < 0 || !strings.Contains(a.Remarks[i].Text, "su has passwords changed too, and asks less than passwd: minimum length 7 characters instead of 14 characters") {
		t.Errorf("%+v", a.Remarks)
	}
	if got := a.Head.Settings[setting.MinLength]; got.Value != setting.Number(7) {
		t.Errorf("%+v", got)
	}
}

// Every option that the manuals give (pam_unix(8), pam_faillock(8), pwquality.conf(5),
// pam_pwhistory(8)) changes what is read of a machine, or stands here with the reason why it
// does not; what no manual knows is remarked on.
func TestEveryOptionIsKnown(t *testing.T) {
	const stack = "== login.defs\nPASS_MAX_DAYS 90\n== passwd\nroot:x:0:0::/root:/bin/sh\nada:x:1000:1000::/home/ada:/bin/sh\n== shadow\nroot:$6$a$b:20000:0:90:7:::\n" +
		"ada:$6$a$b:20000:0:90:7:::\n== nsswitch.conf\npasswd: files\nshadow: files\n== security/limits.conf\n== pam.d/sshd\nauth required pam_faillock.so preauth FAILLOCK\n" +
		"auth [success=1 default=ignore] pam_unix.so UNIX\nauth [default=die] pam_faillock.so authfail FAILLOCK\nauth required pam_permit.so\naccount required pam_unix.so UNIX\n" +
		"== pam.d/passwd\npassword requisite pam_pwquality.so PWQUALITY\npassword required pam_pwhistory.so use_authtok PWHISTORY\npassword required pam_unix.so use_authtok UNIX\n"
	facts := func(module, option string) (string, int) {
		text := strings.ReplaceAll(stack, module, option)
		for _, other := range []string{"FAILLOCK", "UNIX", "PWQUALITY", "PWHISTORY"} {
			text = strings.ReplaceAll(text, other, "")
		}
		a, _, _ := machine(t, text)
		var all []string
		for _, p := range policiesOf(a) {
			for id, f := range p.Settings {
				value, _ := f.Value.MarshalText()
				all = append(all, fmt.Sprint(p.Name, " ", id, " ", string(value), " ", f.Problem != ""))
			}
			all = append(all, fmt.Sprintf("%s asks %+v", p.Name, asked(p.Asks)))
		}
		slices.Sort(all)
		return strings.Join(all, "\n"), len(a.Remarks)
	}
	const log, prompt = "what is logged", "how it asks"
	for module, options := range map[string]map[string]string{
		"UNIX": {"nullok": "", "minlen=30": "", "remember=50": "", "sha256": "", "rounds=9999": "", "yescrypt": "", "md5": "", "bigcrypt": "", "blowfish": "",
			"gost_yescrypt": "", "debug": log, "audit": log, "quiet": log, "try_first_pass": prompt, "authtok_type=X": prompt, "nodelay": "how long a refusal takes",
			"shadow": "it is so", "no_pass_expiry": "of sign-ins without a password", "broken_shadow": "of accounts whose line of shadow cannot be read",
			"obscure": "", "likeauth": "which code it returns"},
		"FAILLOCK": {"deny=9": "", "unlock_time=60": "", "fail_interval=60": "", "even_deny_root": "", "dir=/run/x": "where it counts, the same for both calls",
			"audit": log, "silent": log, "no_log_info": log, "nodelay": "how long a refusal takes", "local_users_only": "of accounts of a directory",
			"root_unlock_time=60": "of root, where it locks", "admin_group=keepers": "there is no such group"},
		"PWQUALITY": {"minlen=30": "", "minclass=4": "", "lcredit=-2": "", "ucredit=-2": "", "dcredit=-2": "", "ocredit=-2": "", "difok=9": "", "maxrepeat=2": "",
			"maxsequence=3": "", "maxclassrepeat=4": "", "gecoscheck=1": "", "dictcheck=0": "", "usercheck=0": "", "usersubstr=4": "", "enforcing=0": "",
			"badwords=x": "", "enforce_for_root": "", "retry=3": prompt, "debug": log, "authtok_type=X": prompt, "try_first_pass": prompt,
			"local_users_only": "of accounts of a directory", "dictpath=/x": "another list of words"},
		"PWHISTORY": {"remember=3": "", "enforce_for_root": "", "retry=3": prompt, "debug": log, "authtok_type=X": prompt, "file=/x": "where it is kept"},
	} {
		base, remarks := facts(module, "")
		for option, why := range options {
			got, said := facts(module, option)
			if (got != base) != (why == "") {
				t.Errorf("%s %s: changes what is read: %v, and the reason why it does not matter is %q", module, option, got != base, why)
			}
			if why != "" && said > remarks {
				t.Errorf("%s %s: is remarked on", module, option)
			}
		}
		if _, said := facts(module, "unheard=1"); said == remarks && module != "UNIX" {
			t.Errorf("%s: an option that no manual knows is passed over", module)
		}
	}
}

// asked is what a module asks for, without where that stands.
func asked(a *estate.Asks) string {
	if a == nil {
		return ""
	}
	c := *a
	c.Cite = estate.Cite{}
	text := fmt.Sprintf("%+v", c)
	for _, f := range a.Further {
		text += asked(&f)
	}
	return regexp.MustCompile(`Cite:\{[^}]*\}|Further:\[.*\]`).ReplaceAllString(text, "")
}

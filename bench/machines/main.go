// Command machines writes the etc trees of many Unix machines, or with -windows the
// security templates of Windows machines, most of them alike: the same for the same
// seed, of any number.
//
//	go run ./bench/machines -machines 5000 -deviating 100 DIR
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

// usual are the files of a machine as most of them are.
var usual = map[string]string{
	"os-release": "ID=debian\nVERSION_ID=\"12\"\n",
	"login.defs": "PASS_MAX_DAYS 365\nPASS_MIN_DAYS 1\nPASS_WARN_AGE 7\nENCRYPT_METHOD YESCRYPT\n",
	"passwd":     "root:x:0:0:root:/root:/bin/bash\nops:x:1000:1000:Operations:/home/ops:/bin/bash\n",
	"shadow":     "root:!:20100:1:365:7:30::\nops:$y$j9T$x$y:20200:1:365:7:30::\n",
	"group":      "root:x:0:\nsudo:x:27:ops\nops:x:1000:\n",
	"pam.d/common-password": "password requisite pam_pwquality.so retry=3\npassword required pam_pwhistory.so remember=24 use_authtok\n" +
		"password [success=1 default=ignore] pam_unix.so obscure use_authtok yescrypt\npassword requisite pam_deny.so\n" +
		"password required pam_permit.so\n",
	"pam.d/common-auth": "auth required pam_faillock.so preauth\nauth [success=2 default=ignore] pam_unix.so nullok\n" +
		"auth [default=die] pam_faillock.so authfail\nauth requisite pam_deny.so\nauth required pam_permit.so\n",
	"pam.d/common-account":    "account required pam_faillock.so\naccount required pam_unix.so\n",
	"security/pwquality.conf": "minlen = 14\nminclass = 4\ndictcheck = 1\nenforce_for_root\n",
	"security/faillock.conf":  "deny = 5\nfail_interval = 900\nunlock_time = 900\neven_deny_root\n",
}

// deviations are what is otherwise on some of them: a file, what stands there, and
// what stands there instead.
var deviations = [][3]string{
	{"security/pwquality.conf", "minlen = 14", "minlen = 8"},
	{"security/pwquality.conf", "minclass = 4", "minclass = 1"},
	{"security/faillock.conf", "deny = 5", "deny = 20"},
	{"security/faillock.conf", "unlock_time = 900", "unlock_time = 60"},
	{"pam.d/common-password", "remember=24", "remember=5"},
	{"shadow", "20200:1:365", "20200:0:99999"},
	{"shadow", "ops:$y$j9T$x$y:", "ops::"},
}

func main() {
	windows := flag.Bool("windows", false, "Windows machines")
	machines := flag.Int("machines", 5000, "machines")
	deviating := flag.Int("deviating", 100, "how many of them deviate from the rest")
	seed := flag.Uint64("seed", 1, "seed")
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "machines: name the folder to write to")
		os.Exit(2)
	}
	rnd := rand.New(rand.NewPCG(*seed, 7))
	odd := map[int]bool{}
	for len(odd) < min(*deviating, *machines) {
		odd[rnd.IntN(*machines)] = true
	}
	for i := range *machines {
		write := func() error { return machine(filepath.Join(flag.Arg(0), fmt.Sprintf("ws%05d", i)), odd[i], rnd) }
		if *windows {
			write = func() error { return template(flag.Arg(0), fmt.Sprintf("ws%05d.inf", i), odd[i], rnd) }
		}
		if err := write(); err != nil {
			fmt.Fprintln(os.Stderr, "machines:", err)
			os.Exit(1)
		}
	}
}

// machine writes one.
func machine(dir string, deviates bool, rnd *rand.Rand) error {
	changed := [3]string{}
	if deviates {
		changed = deviations[rnd.IntN(len(deviations))]
	}
	for name, text := range usual {
		if name == changed[0] {
			text = strings.Replace(text, changed[1], changed[2], 1)
		}
		file := filepath.Join(dir, "etc", filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(dir, "etc", "hostname"), []byte(filepath.Base(dir)+"\n"), 0o644)
}

// template writes what a Windows machine exports of its settings.
func template(dir, name string, deviates bool, rnd *rand.Rand) error {
	length, threshold := 14, 5
	if deviates {
		length, threshold = 6+rnd.IntN(8), rnd.IntN(3)*10
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, name), fmt.Appendf(nil, "[Unicode]\r\nUnicode=yes\r\n[System Access]\r\nMinimumPasswordAge = "+
		"1\r\nMaximumPasswordAge = 365\r\n"+
		"MinimumPasswordLength = %d\r\nPasswordComplexity = 1\r\nPasswordHistorySize = 24\r\nLockoutBadCount = %d\r\nResetLockoutCount = "+
		"15\r\nLockoutDuration = 15\r\n"+
		"ClearTextPassword = 0\r\n[Registry Values]\r\nMACHINE\\System\\CurrentControlSet\\Control\\Lsa\\NoLMHash=4,1\r\n", length, threshold),
		0o644)
}

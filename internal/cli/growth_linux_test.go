package cli_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A child's highest memory begins with what its parent takes, so that a parent that takes
// little runs the program: this binary once more.
const measuredInto = "STERNLEDGER_MEASURED_INTO"

func init() {
	file := os.Getenv(measuredInto)
	if file == "" {
		return
	}
	cmd := exec.Command(os.Args[1], os.Args[2:]...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	_ = cmd.Run() // what is no export at all is refused
	use := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	took := cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	if err := os.WriteFile(file, fmt.Append(nil, use.Maxrss<<10, " ", int64(took)), 0o600); err != nil {
		panic(err)
	}
	os.Exit(0)
}

// measured runs the program and says what it took: bytes of memory, time of processors.
func measured(t *testing.T, args ...string) (size int64, took time.Duration, out []byte) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "use")
	cmd := exec.Command(os.Args[0], append([]string{program}, args...)...)
	cmd.Env = append(os.Environ(), measuredInto+"="+file)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	use, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := fmt.Sscan(string(use), &size, &took); err != nil {
		t.Fatalf("%q: %v", use, err)
	}
	return size, took, out
}

// hostile are small inputs that took minutes, or gigabytes, each at a size and at ten
// times that. A file's name ends in / where it is a folder of its own.
var hostile = []struct {
	name  string
	n     int
	put   func(t *testing.T, dir string, n int)
	then  []string // after gather
	most  time.Duration
	bytes int64
}{
	{"services that include the next twice", 3, func(t *testing.T, dir string, n int) {
		for i := range n {
			write(t, fmt.Sprintf("%s/gate/etc/pam.d/s%d", dir, i), fmt.Sprintf("auth include s%d\nauth include s%d\n", i+1, i+1))
		}
		write(t, fmt.Sprintf("%s/gate/etc/pam.d/s%d", dir, n), "auth required pam_unix.so\n")
		write(t, dir+"/gate/etc/passwd", "root:x:0:0::/root:/bin/sh\n")
	}, []string{"weigh", "--against", "cis-debian-12"}, 3 * time.Second, 120 << 20},
	{"a cell of separators", 100_000, func(t *testing.T, dir string, n int) {
		write(t, dir+"/x.csv", "DN,objectClass,member\n\"DC=x,DC=example\",domainDNS,\""+strings.Repeat(";", n)+"\"\n")
	}, nil, 3 * time.Second, 80 << 20},
	{"folders with a small JSON", 500, func(t *testing.T, dir string, n int) {
		for i := range n {
			write(t, fmt.Sprintf("%s/f%d/a.json", dir, i), `{"a":1}`)
		}
	}, nil, 6 * time.Second, 80 << 20},
	{"folders that are machines", 50, func(t *testing.T, dir string, n int) {
		for i := range n {
			write(t, fmt.Sprintf("%s/h%d/pam.d/login", dir, i), "auth required pam_unix.so\n")
			write(t, fmt.Sprintf("%s/h%d/passwd", dir, i), "root:x:0:0::/root:/bin/sh\n")
		}
	}, nil, 6 * time.Second, 120 << 20},
	{"groups in a ring with policies", 6000, ringOfGroups, []string{"trace", "u"}, 12 * time.Second, 250 << 20},
	{"local accounts of different ages", 3000, func(t *testing.T, dir string, n int) {
		var passwd, shadow strings.Builder
		for i := range n {
			fmt.Fprintf(&passwd, "u%d:x:%d:1000::/h:/bin/sh\n", i, 1000+i)
			fmt.Fprintf(&shadow, "u%d:$6$a$b:20000:%d:%d:7:::\n", i, i%1000, i/1000+1)
		}
		write(t, dir+"/gate/etc/passwd", passwd.String())
		write(t, dir+"/gate/etc/shadow", shadow.String())
	}, []string{"weigh", "--against", "cis-debian-12"}, 8 * time.Second, 250 << 20},
	{"names in one object", 30_000, func(t *testing.T, dir string, n int) {
		var b strings.Builder
		b.WriteString(`{"value":[{"a":0`)
		for i := range n {
			fmt.Fprintf(&b, `,"k%d":1`, i)
		}
		write(t, dir+"/a/users.json", b.String()+"}]}")
	}, nil, 6 * time.Second, 256 << 20},
	{"elements of a report", 30_000, func(t *testing.T, dir string, n int) {
		var b strings.Builder
		b.WriteString(`<?xml version="1.0"?><GPO xmlns="http://www.microsoft.com/GroupPolicy/Settings">`)
		for i := range n {
			fmt.Fprintf(&b, `<k%d>1</k%d>`, i, i)
		}
		write(t, dir+"/a.xml", b.String()+"</GPO>")
	}, nil, 6 * time.Second, 256 << 20},
	{"links in a tar", 10_000, func(t *testing.T, dir string, n int) {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for i := range n {
			if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: fmt.Sprintf("gate/etc/pam.d/l%d", i), Linkname: fmt.Sprintf("l%d", i+1)}); err != nil {
				t.Fatal(err)
			}
		}
		w.Close()
		write(t, dir+"/a.tar", b.String())
	}, nil, 6 * time.Second, 300 << 20},
	{"zeros in three layers of gzip", 20 << 20, func(t *testing.T, dir string, n int) {
		data := make([]byte, n)
		for range 3 {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			if _, err := z.Write(data); err != nil {
				t.Fatal(err)
			}
			z.Close()
			data = b.Bytes()
		}
		write(t, dir+"/a.ldif.gz", string(data))
	}, nil, 6 * time.Second, 650 << 20},
}

func ringOfGroups(t *testing.T, dir string, n int) {
	var b strings.Builder
	b.WriteString("dn: DC=x,DC=example\nobjectClass: domainDNS\nminPwdLength: 7\nobjectSid: S-1-5-21-1-2-3\noEMInformation: Samba\n\n" +
		"dn: CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettingsContainer\n\n")
	for i := range n {
		fmt.Fprintf(&b, "dn: CN=g%d,DC=x,DC=example\nobjectClass: group\nsAMAccountName: g%d\ngroupType: -2147483646\nobjectSid: S-1-5-21-1-2-3-%d\n"+
			"member: CN=g%d,DC=x,DC=example\n\n", i, i, 10000+i, (i+1)%n)
	}
	for i := range n / 20 {
		fmt.Fprintf(&b, "dn: CN=p%d,CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettings\n"+
			"msDS-PasswordSettingsPrecedence: %d\nmsDS-MinimumPasswordLength: %d\nmsDS-PSOAppliesTo: CN=g%d,DC=x,DC=example\n\n", i, i+1, i%20, i*20)
	}
	b.WriteString("dn: CN=u,DC=x,DC=example\nobjectClass: user\nsAMAccountName: u\nobjectSid: S-1-5-21-1-2-3-999999\nuserAccountControl: 512\nprimaryGroupID: 10000\n")
	write(t, dir+"/x.ldif", b.String())
}

// What is ten times as much takes at most twelve times the processor's time, beyond
// what the program takes to start, and stays below a ceiling of time and memory.
func TestHostileInputsEnd(t *testing.T) {
	for _, h := range hostile {
		t.Run(h.name, func(t *testing.T) {
			var took [2]time.Duration
			for k, n := range []int{h.n, 10 * h.n} {
				dir, in := begin(t), t.TempDir()
				h.put(t, in, n)
				for _, args := range [][]string{{"gather", in}, h.then} {
					if args == nil {
						continue
					}
					size, spent, out := measured(t, append([]string{"-C", dir}, args...)...)
					took[k] += spent
					if size > h.bytes {
						t.Errorf("%d: %s took %d MiB, at most %d are allowed: %.200s", n, args[0], size>>20, h.bytes>>20, out)
					}
				}
			}
			const start, noise = 100 * time.Millisecond, 400 * time.Millisecond
			if took[1] > h.most {
				t.Errorf("ten times as much took %v, at most %v are allowed", took[1], h.most)
			}
			if took[1] > 12*(took[0]+start)+noise {
				t.Errorf("%d took %v, ten times as much %v", h.n, took[0], took[1])
			}
			t.Logf("%v, ten times as much %v", took[0], took[1])
		})
	}
}

// What is told to end says that all is undone, and it is: no folder of copies stays.
func TestStoppedGatherLeavesNothing(t *testing.T) {
	in := t.TempDir()
	hostile[5].put(t, in, 60_000)
	for _, after := range []time.Duration{50, 200, 400, 700} {
		dir := begin(t)
		cmd := exec.Command(program, "-C", dir, "gather", in)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(after * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Process.Signal(syscall.SIGTERM) // at once
		if err := cmd.Wait(); err == nil {
			continue
		}
		if left := leftOver(t, dir); len(left) > 0 {
			t.Errorf("after %v ms: %v stays", after, left)
		}
	}
}

// What is printed to nobody is an error; what is thrown away is none.
func TestClosedOutput(t *testing.T) {
	dir := begin(t)
	for _, args := range []string{"settings", "--version", "help", "weigh --help", "-C " + dir + " entries", "schema weigh"} {
		for redirect, fails := range map[string]bool{">&-": true, ">/dev/null": false} {
			out, err := exec.Command("sh", "-c", program+" "+args+" "+redirect).CombinedOutput()
			if (err != nil) != fails || fails && !strings.Contains(string(out), "standard output is closed") {
				t.Errorf("%s %s: %v %s", args, redirect, err, out)
			}
		}
	}
}

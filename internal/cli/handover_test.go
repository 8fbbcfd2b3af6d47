package cli_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// machineFiles is a small machine, below its etc.
func machineFiles(deny, hostname string) map[string]string {
	files := map[string]string{"os-release": "ID=debian\nVERSION_ID=12\n", "passwd": "root:x:0:0::/:/bin/sh\nada:x:1000:1000::/:/bin/sh\n",
		"shadow": "root:*:1:0:90:7:::\nada:$6$s$hashedhashed:1:0:90:7:::\n", "security/limits.conf": "",
		"pam.d/sshd": "auth requisite pam_listfile.so item=user sense=deny file=/etc/quay/barred\nauth include common-auth\naccount " +
			"required pam_unix.so\n",
		"quay/barred": "bo\n", "quay/other": "secret\n", "security/gates.conf": "deny = " + deny + "\n",
		"pam.d/common-auth": "auth required pam_faillock.so preauth conf=/etc/security/gates.conf\nauth [success=1 default=ignore] " +
			"pam_unix.so\nauth [default=die] pam_faillock.so authfail conf=/etc/security/gates.conf\nauth required pam_permit.so\n"}
	if hostname != "" {
		files["hostname"] = hostname + "\n"
	}
	return files
}

// tarred packs files, under a prefix, into a tar archive.
func tarred(prefix string, files map[string]string) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		w.WriteHeader(&tar.Header{Name: prefix + name, Mode: 0o600, Size: int64(len(files[name]))})
		io.WriteString(w, files[name])
	}
	w.Close()
	return b.Bytes()
}

func compressed(data []byte, open func(io.Writer) io.WriteCloser) string {
	var b bytes.Buffer
	w := open(&b)
	w.Write(data)
	w.Close()
	return b.String()
}

func gzipped(data []byte) string {
	return compressed(data, func(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) })
}

// Machines are taken as administrators hand them over, and named.
func TestMachinesHandedOver(t *testing.T) {
	beside(t)
	ways := map[string]struct {
		put  func(t *testing.T, dir string)
		want string // names of machines and where they lock
	}{
		"one archive for each host": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "quay1/etc.tar.gz"), gzipped(tarred("etc/", machineFiles("4", ""))))
			write(t, filepath.Join(dir, "quay2/etc.tar.gz"), gzipped(tarred("etc/", machineFiles("5", ""))))
		}, "quay1=4 quay2=5"},
		"made within etc": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "quay3.tgz"), gzipped(tarred("./", machineFiles("4", ""))))
		}, "quay3=4"},
		"a folder that is etc": {func(t *testing.T, dir string) {
			for name, text := range machineFiles("4", "") {
				write(t, filepath.Join(dir, "quay4", name), text)
			}
		}, "quay4=4"},
		"hostname wins": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "backup-7.tar"), string(tarred("etc/", machineFiles("6", "Quay5.marrowick.example"))))
		}, "quay5.marrowick.example=6"},
		"two of one name": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "left.tar"), string(tarred("etc/", machineFiles("6", "clone"))))
			write(t, filepath.Join(dir, "right.tar"), string(tarred("etc/", machineFiles("7", "clone"))))
		}, "left=6 right=7"},
		"xz and zstd": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "x.tar.xz"), compressed(tarred("etc/", machineFiles("3", "")),
				func(w io.Writer) io.WriteCloser { z, _ := xz.NewWriter(w); return z }))
			write(t, filepath.Join(dir, "z.tar.zst"), compressed(tarred("etc/", machineFiles("5", "")),
				func(w io.Writer) io.WriteCloser { z, _ := zstd.NewWriter(w); return z }))
		}, "x=3 z=5"},
		"archives in one": {func(t *testing.T, dir string) {
			write(t, filepath.Join(dir, "all.tar"),
				string(tarred("", map[string]string{"quay6.tar.gz": gzipped(tarred("etc/", machineFiles("3", ""))),
					"quay7/etc.tar.gz": gzipped(tarred("./", machineFiles("4", "")))})))
		}, "quay6=3 quay7=4"},
		"links in a zip": {func(t *testing.T, dir string) {
			files := machineFiles("4", "")
			files["pam.d/real-auth"] = files["pam.d/common-auth"]
			delete(files, "pam.d/common-auth")
			var b bytes.Buffer
			w := zip.NewWriter(&b)
			for name, text := range files {
				f, _ := w.Create("quay8/etc/" + name)
				io.WriteString(f, text)
			}
			h := &zip.FileHeader{Name: "quay8/etc/pam.d/common-auth"}
			h.SetMode(0o777 | fs.ModeSymlink)
			f, _ := w.CreateHeader(h)
			io.WriteString(f, "real-auth")
			w.Close()
			write(t, filepath.Join(dir, "links.zip"), b.String())
		}, "quay8=4"},
		"what a support tool collects": {func(t *testing.T, dir string) {
			files := map[string]string{"proc/cpuinfo": "x", "sos_commands/pam/ls": "y", "var/log/messages": "z", "usr/lib/os-release": "ID=debian\n",
				"installed-debs": "ii  libpam-modules:amd64 1.5.2-6 amd64\n"}
			for name, text := range machineFiles("4", "") {
				files["etc/"+name] = text
			}
			write(t, filepath.Join(dir, "report-quay9.tar.xz"), compressed(tarred("report-quay9/", files),
				func(w io.Writer) io.WriteCloser { z, _ := xz.NewWriter(w); return z }))
		}, "report-quay9=4"},
		"what remote copies leave": {func(t *testing.T, dir string) {
			for name, text := range machineFiles("4", "") {
				write(t, filepath.Join(dir, "fetched/quay10/etc", name), text)
			}
		}, "quay10=4"},
	}
	for name, way := range ways {
		t.Run(name, func(t *testing.T) {
			dir, audit := t.TempDir(), begin(t)
			way.put(t, dir)
			got := map[string]bool{}
			taken := document(t, audit, "gather", dir)
			for _, machine := range strings.Fields(way.want) {
				host, _, _ := strings.Cut(machine, "=")
				scope := document(t, audit, "trace", "ada", "--authority", host)
				if n, ok := at(scope, "settings", "lockout-threshold", "value").(float64); ok {
					got[host+"="+string(rune('0'+int(n)))] = true
				}
			}
			if text := strings.Join(slices.Sorted(maps.Keys(got)), " "); text != way.want {
				t.Errorf("%s, want %s; gathered %v", text, way.want, taken)
			}
			filepath.WalkDir(filepath.Join(audit, "evidence"), func(file string, d fs.DirEntry, _ error) error {
				if data, err := os.ReadFile(file); err == nil && (strings.Contains(string(data), "hashedhashed") ||
					strings.Contains(string(data), "secret")) {
					t.Errorf("%s holds what it must not", file)
				}
				return nil
			})
		})
	}
	dir, audit := t.TempDir(), begin(t)
	write(t, filepath.Join(dir, "quay.7z"), "7z\xbc\xaf'\x1c and more")
	if _, errs, status := run(t, audit, "gather", dir); status == 0 || !strings.Contains(errs,
		"an archive of 7-Zip; ask for the same files as .zip") {
		t.Errorf("7z: %d %s", status, errs)
	}
}

// The script of docs/sources.md takes what is needed, and no hash.
func TestRealMachineScript(t *testing.T) {
	m := newRealMachine(t, "trixie")
	text, err := os.ReadFile("../../docs/sources.md")
	if err != nil {
		t.Fatal(err)
	}
	script := regexp.MustCompile("(?s)```sh\n(#!/bin/sh\n# Collects.*?)```").FindSubmatch(text)
	if script == nil {
		t.Fatal("docs/sources.md holds no script")
	}
	m.lab("user", "ada", rightPassword)
	m.etc("pam.d/gate", "auth required pam_unix.so nodelay\naccount required pam_unix.so\n")
	write(t, filepath.Join(m.dir, "root/collect.sh"), string(script[1]))
	out, err := exec.Command("chroot", m.dir, "sh", "-c", "cd /root && sh collect.sh").Output()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	archive := filepath.Join(m.dir, strings.TrimSpace(string(out)))
	defer os.Remove(archive)
	if listed, err := exec.Command("tar", "-xOzf", archive).Output(); err != nil ||
		regexp.MustCompile(`\$(y|6)\$[./A-Za-z0-9]`).Match(listed) {
		t.Errorf("%v; a hash is in the archive", err)
	}
	audit := begin(t)
	must(t, audit, "gather", archive)
	if found := grep(t, filepath.Join(audit, "evidence"), "libpam-modules"); found == "" {
		t.Error("the version of the modules was not taken")
	}
	mine, whole := document(t, audit, "trace", "ada"), document(t, m.gathered(), "trace", "ada")
	for id, want := range whole["settings"].(map[string]any) {
		if got := at(mine, "settings", id, "text"); got != at(want.(map[string]any), "text") {
			t.Errorf("%s: %v by the script, %v of the whole tree", id, got, at(want.(map[string]any), "text"))
		}
	}
}

package collect

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/intake/unix"
)

// member makes a candidate of a file in memory.
func member(name, text string) candidate { return inMemory(name, []byte(text), time.Time{}) }

// pack makes a tar of "NAME", text pairs.
func pack(files ...string) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		w.WriteHeader(&tar.Header{Name: files[i], Mode: 0o600, Size: int64(len(files[i+1]))})
		io.WriteString(w, files[i+1])
	}
	w.Close()
	return b.String()
}

func TestArchivesInArchives(t *testing.T) {
	inner := pack("gate/etc/passwd", "x")
	deep := inner
	for range deepest + 1 {
		deep = pack("again.tar", deep)
	}
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"one in another":        {pack("a.tar", inner, "b.txt", "y"), []string{"all.tar/a.tar/gate/etc/passwd", "all.tar/b.txt"}},
		"names that climb":      {pack("../../x/../y", "z", `..\w`, "z"), []string{"all.tar/y", "all.tar/w"}},
		"so deep and no deeper": {deep, []string{"all.tar/again.tar/again.tar/again.tar/again.tar"}},
	} {
		found, archives, err := unpacked([]candidate{member("all.tar", c.text)})
		if err != nil || len(archives) != 1 {
			t.Fatalf("%s: %v %v", name, archives, err)
		}
		var got []string
		for _, f := range found {
			got = append(got, f.path)
		}
		if name == "so deep and no deeper" {
			if len(got) != 1 || !strings.HasPrefix(got[0], c.want[0]) || strings.Contains(got[0], "passwd") {
				t.Errorf("%s: %q", name, got)
			}
		} else if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func TestTreesAreRecognised(t *testing.T) {
	link := func(name, to string) candidate {
		c := member(name, "")
		c.open, c.link = nil, to
		return c
	}
	var formats = trees{&unix.Format}
	known, passed, err := formats.recognised([]candidate{
		member("a/etc/passwd", "x"), member("a/etc/hosts", "y"), member("a/etc/ldap/schema.ldif", "dn: cn=x\n"), member("a/home/notes", "z"),
		member("b/etc/login.defs", "x"), link("b/etc/pam.d/sshd", "common"), member("b/etc/pam.d/common", "auth"),
		link("b/etc/pam.d/su", "../../../a/etc/passwd"),
		member("c/etc/readme", "no tree begins here"), member("export.ldif", "dn: DC=x\n"),
	})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, k := range known {
		var parts []string
		for _, p := range k.parts {
			parts = append(parts, p.part)
		}
		got = append(got, strings.TrimSpace(k.path+" "+strings.Join(parts, " ")))
	}
	if want := []string{"a etc/passwd", "b etc/login.defs etc/pam.d/common etc/pam.d/sshd", "export.ldif"}; !slices.Equal(got, want) {
		t.Errorf("known %q, want %q", got, want)
	}
	said := fmt.Sprint(passed)
	for _, want := range []string{"{a 3 further files", "{b/etc/pam.d/su a link to", "{c/etc/readme not a known format"} {
		if !strings.Contains(said, want) {
			t.Errorf("passed over %s, want %q", said, want)
		}
	}
}

func TestNames(t *testing.T) {
	for root, want := range map[string]string{"x/Gate1": "gate1", "gates.tar.gz": "gates", "a/b.tgz": "b", "x/quay.zip": "quay",
		"gates/quay1/etc.tar.gz": "quay1", "q/rootfs": "q"} {
		if got := treeName(root); got != want {
			t.Errorf("%s: %q, want %q", root, got, want)
		}
	}
	for name, want := range map[string]string{"../../etc": "etc", "a b:c.ldif": "a-b-c.ldif", "": "export", ".hidden": "hidden",
		strings.Repeat("x", 99) + ".json": strings.Repeat("x", 60) + ".json", "Ümlaut": "mlaut"} {
		if got := folder.Safe(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
	taken := map[string]bool{"a.json": true, "a-2.json": true}
	if got := numbered("A.json", taken); got != "A-3.json" {
		t.Errorf("a name that is taken: %q", got)
	}
}

func FuzzArchive(f *testing.F) {
	f.Add([]byte(pack("gate/etc/passwd", "x", "b.tar", pack("c", "d"))))
	f.Add([]byte("PK\x03\x04\x14\x00\x00\x00\x00\x00"))
	f.Add([]byte("\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff"))
	f.Fuzz(func(t *testing.T, data []byte) {
		found, _, err := unpacked([]candidate{member("x", string(data))})
		if err != nil {
			return
		}
		for _, c := range found {
			if c.path != "x" && !strings.HasPrefix(c.path, "x/") || strings.Contains(c.path, "/../") {
				t.Errorf("a member named %q", c.path)
			}
			if c.open != nil {
				if _, err := c.head(); err != nil {
					t.Error(err)
				}
			}
		}
		_, _, _ = trees([]*intake.TreeFormat{&unix.Format}).recognised(found)
	})
}

// An archive's own word is not believed: entries that share one body, sizes that are
// claimed, and files that are nothing but holes come to an end, and what is sparse is read.
func TestArchivesThatLie(t *testing.T) {
	body := bytes.Repeat([]byte{0}, 4<<20)
	var shared bytes.Buffer
	w := zip.NewWriter(&shared)
	f, err := w.CreateHeader(&zip.FileHeader{Name: "a.ldif", Method: zip.Deflate})
	if err != nil {
		t.Fatal(err)
	}
	f.Write(body)
	w.Close()
	// The directory's entry for it, again and again: all of them lie over each other.
	data := shared.Bytes()
	end := bytes.LastIndex(data, []byte("PK\x05\x06"))
	at := int(binary.LittleEndian.Uint32(data[end+16:]))
	entries := bytes.Repeat(data[at:end], 200)
	tail := bytes.Clone(data[end:])
	binary.LittleEndian.PutUint16(tail[8:], 200)
	binary.LittleEndian.PutUint16(tail[10:], 200)
	binary.LittleEndian.PutUint32(tail[12:], uint32(len(entries)))
	overlapping := string(data[:at]) + string(entries) + string(tail)

	holes := func(size int64, text string) string { // a sparse file as GNU's tar writes it: its text, and a hole behind it
		var h [512]byte
		copy(h[:], "x.ldif")
		copy(h[100:], "0000600\x00")
		copy(h[124:], fmt.Sprintf("%011o\x00", len(text)))
		copy(h[136:], "00000000000\x00")
		h[156] = 'S'
		copy(h[257:], "ustar  \x00")
		copy(h[386:], fmt.Sprintf("%011o\x00%011o\x00", 0, len(text)))
		copy(h[386+24:], fmt.Sprintf("%011o\x00%011o\x00", size, 0))
		copy(h[483:], fmt.Sprintf("%011o\x00", size))
		copy(h[148:], "        ")
		sum := 0
		for _, c := range h {
			sum += int(c)
		}
		copy(h[148:], fmt.Sprintf("%06o\x00 ", sum))
		padded := text + strings.Repeat("\x00", (512-len(text)%512)%512)
		return string(h[:]) + padded + strings.Repeat("\x00", 1024)
	}
	for name, c := range map[string]struct {
		file, text, want string
	}{
		"entries over each other": {"a.zip", overlapping, "unpacks to more than 512 MiB"},
		"nothing but a hole":      {"a.tar", holes(8_000_000_000, ""), "unpacks to more than 512 MiB"},
		"a small hole":            {"a.tar", holes(2000, "dn: DC=x\n"), ""},
	} {
		found, _, err := unpacked([]candidate{member(c.file, c.text)})
		switch {
		case c.want == "" && (err != nil || len(found) != 1 || found[0].size != 2000):
			t.Errorf("%s: %v %v", name, found, err)
		case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v", name, err)
		}
	}
}

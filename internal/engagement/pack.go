package engagement

import (
	"archive/zip"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/ledger"
)

// A packed engagement is a bag as RFC 8493 has it, in a zip archive: the folder
// under data/, a manifest of SHA-256s, and a manifest of the bag's own files.
const (
	bagDeclaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
	bagTxt         = "bagit.txt"
	bagInfo        = "bag-info.txt"
	bagManifest    = "manifest-sha256.txt"
	bagTags        = "tagmanifest-sha256.txt"
	bagData        = "data/"
)

// What a bag may come to when it is unpacked.
const (
	mostBagFiles = 100_000
	mostTagFile  = 64 << 20
	mostRatio    = 200      // times what it takes packed: exports come to some 20, a bomb to a thousand
	spared       = 64 << 20 // bytes that are let off
)

// Packed says what was packed.
type Packed struct {
	File  string
	Files int
	Size  int64
	Seal  string
}

// payload returns the engagement's own files, by their names in the folder.
func (e *Engagement) payload() ([]string, error) {
	var names []string
	err := filepath.WalkDir(e.Dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(e.Dir, p)
		if err != nil || name == "." {
			return err
		}
		name = filepath.ToSlash(name)
		top, _, _ := strings.Cut(name, "/")
		switch {
		case d.IsDir() && (strings.HasPrefix(path.Base(name), ".") || !slices.Contains([]string{EvidenceDir, BaselinesDir, FieldMapsDir}, top)):
			return filepath.SkipDir // reports and other things of the auditor's
		case d.IsDir():
			return nil
		case !d.Type().IsRegular():
			return fmt.Errorf("%s is no plain file; an engagement is packed without links", p)
		case top == name && !slices.Contains([]string{ConfigName, ledger.FileName, e.Config.Expect.MachinesFrom.Value}, name):
			return nil
		}
		names = append(names, name)
		return nil
	})
	slices.Sort(names)
	return names, err
}

// Pack writes the engagement as one file to hand over. The ledger must hold.
func (e *Engagement) Pack(to string) (*Packed, error) {
	v, err := e.Verify()
	if err != nil {
		return nil, err
	}
	if len(v.Failures) > 0 {
		return nil, fmt.Errorf("the ledger does not hold (%s); \"sternledger verify\" tells more", v.Failures[0].Text)
	}
	// While a change is open no other program writes.
	tx, err := e.Ledger.Change()
	if err != nil {
		return nil, fmt.Errorf("the ledger is in use by another program; try again when it is done: %w", err)
	}
	defer tx.Rollback()
	if last, err := tx.Last(); err != nil || last != v.Last.Seq {
		return nil, errors.Join(err, errors.New("another program added to the ledger meanwhile; pack again"))
	}
	names, err := e.payload()
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(to); err == nil {
		return nil, fmt.Errorf("%s exists already; name another file", to)
	}
	draft, err := os.CreateTemp(filepath.Dir(to), ".packing-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(draft.Name())
	p := &Packed{File: to, Seal: SealOf(&v.Last)}
	if err := e.writeBag(draft, names, p); err != nil {
		draft.Close()
		return nil, fmt.Errorf("pack %s: %w", to, cause(err))
	}
	if err := errors.Join(draft.Sync(), draft.Close()); err != nil {
		return nil, fmt.Errorf("pack %s: %w", to, cause(err))
	}
	// A link takes no file's place, unlike a rename; the file systems of sticks
	// have none.
	if err := os.Link(draft.Name(), to); errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("%s exists already; name another file", to)
	} else if err != nil {
		if err := os.Rename(draft.Name(), to); err != nil {
			return nil, fmt.Errorf("pack %s: %w", to, cause(err))
		}
	}
	return p, syncDir(filepath.Dir(to))
}

func (e *Engagement) writeBag(out io.Writer, names []string, p *Packed) error {
	z := zip.NewWriter(out)
	root := plainName(strings.TrimSuffix(filepath.Base(p.File), ".zip")) + "/"
	at := e.Now().UTC()
	put := func(name string, in io.Reader) (string, int64, error) {
		w, err := z.CreateHeader(&zip.FileHeader{Name: root + name, Method: zip.Deflate, Modified: at})
		if err != nil {
			return "", 0, err
		}
		h := sha256.New()
		n, err := io.Copy(io.MultiWriter(w, h), in)
		return hex.EncodeToString(h.Sum(nil)), n, err
	}
	var manifest strings.Builder
	for _, name := range names {
		f, err := os.Open(filepath.Join(e.Dir, filepath.FromSlash(name)))
		if err != nil {
			return err
		}
		sum, n, err := put(bagData+name, f)
		f.Close()
		if err != nil {
			return err
		}
		p.Files, p.Size = p.Files+1, p.Size+n
		fmt.Fprintf(&manifest, "%s  %s\n", sum, bagName(bagData+name))
	}
	info := fmt.Sprintf("External-Description: %s\nContact-Name: %s\nBagging-Date: %s\nPayload-Oxum: %d.%d\nExternal-Identifier: seal %s\nBag-Software-Agent: sternledger %s\n",
		oneLine(e.Config.Title), oneLine(e.Config.Auditor), at.Format(time.DateOnly), p.Size, p.Files, p.Seal, Version)
	var tags strings.Builder
	for _, f := range []struct{ name, text string }{{bagTxt, bagDeclaration}, {bagInfo, info}, {bagManifest, manifest.String()}} {
		sum, _, err := put(f.name, strings.NewReader(f.text))
		if err != nil {
			return err
		}
		fmt.Fprintf(&tags, "%s  %s\n", sum, f.name)
	}
	if _, _, err := put(bagTags, strings.NewReader(tags.String())); err != nil {
		return err
	}
	return z.Close()
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// Names in a manifest: line ends and percent signs are written as RFC 8493
// has it.
func bagName(name string) string {
	return strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A").Replace(name)
}

func fromBagName(name string) string {
	return strings.NewReplacer("%25", "%", "%0D", "\r", "%0d", "\r", "%0A", "\n", "%0a", "\n").Replace(name)
}

// Unpack makes an engagement folder of a packed one: everything is proved
// against the bag's manifests, and the ledger is verified. Of what does not hold
// nothing is left.
func Unpack(file, dir string, now func() time.Time) (v *Verified, err error) {
	if _, err := os.Lstat(dir); err == nil {
		return nil, fmt.Errorf("%s exists already; name a folder that does not", dir)
	}
	z, err := zip.OpenReader(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; expected an engagement that \"sternledger pack\" wrote", file, cause(err))
	}
	defer z.Close()
	draft, err := os.MkdirTemp(filepath.Dir(filepath.Clean(dir)), ".unpacking-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(draft)
	if err := unpackBag(&z.Reader, draft); err != nil {
		return nil, fmt.Errorf("%s: %w; nothing was unpacked", file, err)
	}
	e, err := Open(draft, now)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; nothing was unpacked", file, err)
	}
	v, err = e.Verify()
	err = errors.Join(err, e.Close())
	if err != nil {
		return nil, err
	}
	if len(v.Failures) > 0 {
		return v, fmt.Errorf("%s: the ledger in it does not hold: %s; nothing was unpacked", file, v.Failures[0].Text)
	}
	if err := os.Rename(draft, dir); err != nil {
		return nil, err
	}
	return v, syncDir(filepath.Dir(filepath.Clean(dir)))
}

// unpackBag proves a bag and writes its payload into a folder.
func unpackBag(z *zip.Reader, to string) error {
	members := map[string]*zip.File{}
	root, packed, whole := "", uint64(0), uint64(0)
	for _, f := range z.File {
		packed, whole = packed+f.CompressedSize64, whole+min(f.UncompressedSize64, 1<<50)
		if whole > packed*mostRatio+spared {
			return fmt.Errorf("it unpacks to more than %d times its size, which no engagement does", mostRatio)
		}
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if len(members) == mostBagFiles {
			return fmt.Errorf("it holds more than %d files", mostBagFiles)
		}
		name := f.Name
		if !fs.ValidPath(name) || strings.Contains(name, `\`) || !f.Mode().IsRegular() {
			return fmt.Errorf("the name or kind of %q in it is not taken: it would lead out of the folder", f.Name)
		}
		if root == "" {
			root, _, _ = strings.Cut(name, "/")
			root += "/"
		}
		short, ok := strings.CutPrefix(name, root)
		if !ok {
			return fmt.Errorf("%q stands beside the bag's folder", f.Name)
		}
		if members[strings.ToLower(short)] != nil {
			return fmt.Errorf("%q is in it twice", f.Name)
		}
		members[strings.ToLower(short)] = f
	}
	tag := func(name string) ([]byte, error) {
		f := members[name]
		if f == nil {
			return nil, fmt.Errorf("no %s in it: it is no bag as RFC 8493 has it", name)
		}
		in, err := f.Open()
		if err != nil {
			return nil, err
		}
		defer in.Close()
		data, err := io.ReadAll(io.LimitReader(in, mostTagFile+1))
		if err == nil && len(data) > mostTagFile {
			err = fmt.Errorf("%s is larger than %d MiB", name, mostTagFile>>20)
		}
		return data, err
	}
	declaration, err := tag(bagTxt)
	if err != nil {
		return err
	}
	if !bytes.HasPrefix(declaration, []byte("BagIt-Version: 1.0")) && !bytes.HasPrefix(declaration, []byte("BagIt-Version: 0.97")) {
		return fmt.Errorf("%s is of a version that is not known", bagTxt)
	}
	tags, err := tag(bagTags)
	if err != nil {
		return err
	}
	for name, sum := range manifestOf(tags) {
		data, err := tag(strings.ToLower(name))
		if err != nil {
			return err
		}
		if hexSum(data) != sum {
			return fmt.Errorf("%s was altered: its SHA-256 is not the one in %s", name, bagTags)
		}
	}
	manifest, err := tag(bagManifest)
	if err != nil {
		return err
	}
	listed := manifestOf(manifest)
	for short, f := range members {
		name := strings.TrimPrefix(f.Name, root)
		if _, ok := listed[name]; strings.HasPrefix(short, bagData) && !ok {
			return fmt.Errorf("%s is not in the manifest", name)
		}
	}
	for name, sum := range listed {
		inside, ok := strings.CutPrefix(name, bagData)
		f := members[strings.ToLower(name)]
		if !ok || f == nil {
			return fmt.Errorf("%s is in the manifest, and not in the bag", name)
		}
		if err := unpackOne(f, filepath.Join(to, filepath.FromSlash(inside)), sum); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func unpackOne(f *zip.File, to, sum string) error {
	most := int64(f.UncompressedSize64) // what it says of itself
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), io.LimitReader(in, most+1))
	err = errors.Join(err, out.Sync(), out.Close())
	switch {
	case err != nil:
		return err
	case n > most:
		return errors.New("it unpacks to more than it says")
	case hex.EncodeToString(h.Sum(nil)) != sum:
		return errors.New("its SHA-256 is not the one in the manifest: it was altered")
	}
	return nil
}

// manifestOf reads "SHA-256  NAME" lines.
func manifestOf(text []byte) map[string]string {
	all := map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		sum, name, ok := strings.Cut(lines.Text(), " ")
		if name = strings.TrimLeft(name, " *\t"); ok && name != "" {
			all[fromBagName(name)] = strings.ToLower(sum)
		}
	}
	return all
}

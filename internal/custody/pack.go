package custody

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/folder"
	"sternledger/internal/ledger"

	"filippo.io/age"
)

// A packed engagement is a bag as RFC 8493 has it, in a zip archive: the folder
// under data/, a manifest of SHA-256s, and a manifest of the bag's own files.
const (
	BagDeclaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
	BagTxt         = "bagit.txt"
	bagInfo        = "bag-info.txt"
	BagManifest    = "manifest-sha256.txt"
	BagTags        = "tagmanifest-sha256.txt"
	bagData        = "data/"
)

// Packed says what was packed.
type Packed struct {
	File      string
	Files     int
	Size      int64
	Seal      string
	Encrypted bool
}

// Payload returns the engagement's own files: what it is made of, and the
// evidence that the ledger tells of. Reports and other things of the auditor's
// stay behind.
func (e *Engagement) Payload() ([]folder.Name, error) {
	names := []folder.Name{ConfigName, ledger.FileName}
	evidence, err := e.accepted()
	if err != nil {
		return nil, err
	}
	for _, x := range evidence {
		name, err := Stored(x.Name)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	for _, dir := range []folder.Name{BaselinesDir, FieldMapsDir} {
		own, err := e.Folder.List(dir, ".yaml")
		if err != nil {
			return nil, err
		}
		names = append(names, own...)
	}
	if from := e.Config.Expect.MachinesFrom.Value; from != "" {
		name, err := folder.Parse(from)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	for _, name := range names {
		if _, err := e.Folder.Stat(name); errors.Is(err, folder.ErrNotPlain) {
			return nil, fmt.Errorf("%s is no plain file; an engagement is packed without links", e.Folder.Path(name))
		} else if err != nil {
			return nil, err
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// PackOptions say for whom an engagement is packed.
type PackOptions struct {
	// Recipients, if any, are those who can open the file (age, version 1);
	// nobody else can.
	Recipients []age.Recipient
}

// Pack writes the engagement as one file to hand over. The ledger must hold.
func (e *Engagement) Pack(to string, opt PackOptions) (*Packed, error) {
	v, err := e.Verify()
	if err != nil {
		return nil, err
	}
	if len(v.Failures) > 0 {
		return nil, fmt.Errorf("verification failed (%s); \"sternledger verify\" says more", v.Failures[0].Text)
	}
	names, err := e.Payload()
	if err != nil {
		return nil, fmt.Errorf("pack: %w", err)
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
	exists := fmt.Errorf("%s exists already; name another file", to)
	if _, err := os.Lstat(to); err == nil {
		return nil, exists
	}
	draft, err := folder.NewDraft(filepath.Dir(to), ".packing-")
	if err != nil {
		return nil, fmt.Errorf("%s: %w; name a place where you may write", to, Cause(err))
	}
	defer draft.Remove()
	p := &Packed{File: to, Seal: SealOf(&v.Last), Encrypted: len(opt.Recipients) > 0}
	err = e.packInto(draft.Path("bag"), names, p, opt)
	if err == nil {
		err = folder.PutNew(draft.Path("bag"), to)
	}
	if errors.Is(err, fs.ErrExist) {
		return nil, exists
	}
	if err != nil {
		return nil, fmt.Errorf("pack %s: %w", to, Cause(err))
	}
	return p, folder.SyncDir(filepath.Dir(to))
}

// packInto writes the bag into a file, encrypted where somebody is named for it.
func (e *Engagement) packInto(file string, names []folder.Name, p *Packed, opt PackOptions) error {
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	if !p.Encrypted {
		return errors.Join(e.writeBag(out, names, p), out.Sync(), out.Close())
	}
	locked, err := age.Encrypt(out, opt.Recipients...)
	if err != nil {
		return err
	}
	return errors.Join(e.writeBag(locked, names, p), locked.Close(), out.Sync(), out.Close())
}

func (e *Engagement) writeBag(out io.Writer, names []folder.Name, p *Packed) error {
	z := zip.NewWriter(out)
	root := folder.Safe(strings.TrimSuffix(strings.TrimSuffix(filepath.Base(p.File), ".age"), ".zip")) + "/"
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
		f, err := e.Folder.Open(name)
		if err != nil {
			return err
		}
		sum, n, err := put(bagData+string(name), f)
		f.Close()
		if err != nil {
			return err
		}
		p.Files, p.Size = p.Files+1, p.Size+n
		fmt.Fprintf(&manifest, "%s  %s\n", sum, BagName(bagData+string(name)))
	}
	info := fmt.Sprintf("External-Description: %s\nContact-Name: %s\nBagging-Date: %s\nPayload-Oxum: %d.%d\nExternal-Identifier: "+
		"seal %s\nBag-Software-Agent: sternledger %s\n",
		oneLine(e.Config.Title), oneLine(e.Config.Auditor), at.Format(time.DateOnly), p.Size, p.Files, p.Seal, Version)
	var tags strings.Builder
	for _, f := range []struct{ name, text string }{{BagTxt, BagDeclaration}, {bagInfo, info}, {BagManifest, manifest.String()}} {
		sum, _, err := put(f.name, strings.NewReader(f.text))
		if err != nil {
			return err
		}
		fmt.Fprintf(&tags, "%s  %s\n", sum, f.name)
	}
	if _, _, err := put(BagTags, strings.NewReader(tags.String())); err != nil {
		return err
	}
	return z.Close()
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// Names in a manifest: line ends and percent signs are written as RFC 8493
// has it.
func BagName(name string) string {
	return strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A").Replace(name)
}

func fromBagName(name string) string {
	return strings.NewReplacer("%25", "%", "%0D", "\r", "%0d", "\r", "%0A", "\n", "%0a", "\n").Replace(name)
}

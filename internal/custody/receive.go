package custody

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/folder"
	"sternledger/internal/ledger"

	"filippo.io/age"
)

// What a bag may come to when it is unpacked.
const (
	mostBagFiles = 100_000
	mostTagFile  = 64 << 20
	mostRatio    = 200      // times what it takes packed: exports come to some 20, a bomb to a thousand
	spared       = 64 << 20 // bytes that are let off
)

// UnpackOptions say how a packed engagement is opened.
type UnpackOptions struct {
	// Identities is asked where the file is encrypted. passphrase says that it
	// is so with one.
	Identities func(passphrase bool) ([]age.Identity, error)
	Judge      Judge // weighs again what is on record
}

// Unpack makes an engagement folder of a packed one, which may come from
// anybody: first the manifests are checked, then the ledger alone is unpacked
// and proved, read-only, then what it vouches for. Of what does not hold nothing
// is left, and nothing is written but in a folder that is made for it.
func Unpack(ctx context.Context, file, dir string, opt UnpackOptions, now func() time.Time) (*Verified, error) {
	if _, err := os.Lstat(dir); err == nil {
		return nil, fmt.Errorf("%s exists already; name a folder that does not", dir)
	}
	in, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, Cause(err))
	}
	defer in.Close()
	parent := filepath.Dir(filepath.Clean(dir))
	draft, err := folder.NewDraft(parent, ".unpacking-")
	if err != nil {
		return nil, err
	}
	defer draft.Remove()
	made := draft.Path("engagement")
	v, err := receive(ctx, in, made, opt, now)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; nothing was unpacked", file, err)
	}
	if err := os.Rename(made, dir); err != nil {
		return nil, err
	}
	return v, folder.SyncDir(parent)
}

// receive unpacks and proves a bag in a new folder.
func receive(ctx context.Context, in *os.File, to string, opt UnpackOptions, now func() time.Time) (*Verified, error) {
	z, err := openBag(in, opt)
	if err != nil {
		return nil, err
	}
	b, err := ReadBag(z)
	if err != nil {
		return nil, err
	}
	if err := folder.MakePrivate(to); err != nil {
		return nil, err
	}
	f, err := folder.Open(to)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := f.Mkdir(EvidenceDir); err != nil {
		return nil, err
	}
	// The ledger, and what says which other files belong to it.
	first := func(name folder.Name) bool {
		return name == ConfigName || name == ledger.FileName || strings.HasPrefix(string(name), BaselinesDir+"/") ||
			strings.HasPrefix(string(name), FieldMapsDir+"/")
	}
	if err := b.Unpack(ctx, f, first); err != nil {
		return nil, err
	}
	e, err := open(ctx, to, now, opt.Judge, ledger.OpenToRead)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	vouched, err := e.vouched()
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(b.payload)) {
		if !first(name) && !vouched[name] {
			return nil, fmt.Errorf("%s is in it, and not recorded in the ledger", name)
		}
	}
	for name := range vouched {
		if b.payload[name] == nil {
			return nil, fmt.Errorf("%s is in the ledger, and not in the bag", name)
		}
	}
	if err := b.Unpack(ctx, f, func(name folder.Name) bool { return !first(name) }); err != nil {
		return nil, err
	}
	v, err := e.Verify()
	if err == nil && len(v.Failures) > 0 {
		err = fmt.Errorf("the ledger in it does not hold: %s", v.Failures[0].Text)
	}
	return v, err
}

// vouched is what the proven ledger and the configuration name as files of the
// engagement.
func (e *Engagement) vouched() (map[folder.Name]bool, error) {
	files, err := e.accepted()
	if err != nil {
		return nil, fmt.Errorf("the ledger in it does not hold: %w", err)
	}
	all := map[folder.Name]bool{}
	for _, x := range files {
		name, err := Stored(x.Name)
		if err != nil {
			return nil, fmt.Errorf("the ledger in it names evidence: %w", err)
		}
		all[name] = true
	}
	if from := e.Config.Expect.MachinesFrom.Value; from != "" {
		name, err := folder.Parse(from)
		if err != nil {
			return nil, fmt.Errorf("its %s: machines-from: %w", ConfigName, err)
		}
		all[name] = true
	}
	return all, nil
}

// ageMark begins an encrypted file.
const ageMark = "age-encryption.org/v1"

// openBag opens the archive, through the encryption where there is one.
func openBag(in *os.File, opt UnpackOptions) (*zip.Reader, error) {
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, 256)
	n, _ := in.ReadAt(head, 0)
	var at io.ReaderAt = in
	size := info.Size()
	if bytes.HasPrefix(head[:n], []byte(ageMark)) {
		if opt.Identities == nil {
			return nil, errors.New("it is encrypted")
		}
		keys, err := opt.Identities(bytes.Contains(head[:n], []byte("\n-> scrypt ")))
		if err != nil {
			return nil, err
		}
		if at, size, err = age.DecryptReaderAt(in, size, keys...); err != nil {
			return nil, fmt.Errorf("it cannot be decrypted: %w", err)
		}
	}
	z, err := zip.NewReader(at, size)
	if err != nil {
		return nil, fmt.Errorf("%w; expected an engagement that \"sternledger pack\" wrote", err)
	}
	return z, nil
}

// bag is one whose manifests hold, as far as they go.
type bag struct {
	payload map[folder.Name]*zip.File
	sums    map[folder.Name]string
}

// ReadBag checks what is in a bag by name and size, and its manifests; of the
// payload it reads nothing.
func ReadBag(z *zip.Reader) (*bag, error) {
	members, err := bagMembers(z)
	if err != nil {
		return nil, err
	}
	manifest, err := bagTagFiles(members)
	if err != nil {
		return nil, err
	}
	b := &bag{map[folder.Name]*zip.File{}, map[folder.Name]string{}}
	for short, f := range members {
		inside, ok := strings.CutPrefix(short, bagData)
		switch sum := manifest[short]; {
		case slices.Contains([]string{BagTxt, bagInfo, BagManifest, BagTags}, short):
			continue
		case !ok || sum == "":
			return nil, fmt.Errorf("%s is in it, and not in its manifest", short)
		default:
			name, err := payloadName(inside)
			if err != nil {
				return nil, err
			}
			b.payload[name], b.sums[name] = f, sum
		}
	}
	for name := range manifest {
		if members[name] == nil {
			return nil, fmt.Errorf("%s is in the manifest, and not in the bag", name)
		}
	}
	return b, nil
}

// bagMembers are the files of a bag by their names below its folder.
func bagMembers(z *zip.Reader) (map[string]*zip.File, error) {
	members, folded := map[string]*zip.File{}, map[string]bool{}
	root, packed, whole := "", uint64(0), uint64(0)
	for _, f := range z.File {
		packed, whole = packed+f.CompressedSize64, whole+min(f.UncompressedSize64, 1<<50)
		if whole > packed*mostRatio+spared {
			return nil, fmt.Errorf("it unpacks to more than %d times its size, which no engagement does", mostRatio)
		}
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if len(members) == mostBagFiles {
			return nil, fmt.Errorf("it holds more than %d files", mostBagFiles)
		}
		if _, err := folder.Parse(f.Name); err != nil || !f.Mode().IsRegular() {
			return nil, fmt.Errorf("the name or kind of %q in it is not taken: it would lead out of the folder, or be none of an engagement's",
				f.Name)
		}
		if root == "" {
			root, _, _ = strings.Cut(f.Name, "/")
			root += "/"
		}
		short, ok := strings.CutPrefix(f.Name, root)
		if !ok {
			return nil, fmt.Errorf("%q stands beside the bag's folder", f.Name)
		}
		if folded[strings.ToLower(short)] {
			return nil, fmt.Errorf("%q is in it twice", f.Name)
		}
		members[short], folded[strings.ToLower(short)] = f, true
	}
	return members, nil
}

// bagTagFiles checks the bag's own files and returns its manifest.
func bagTagFiles(members map[string]*zip.File) (map[string]string, error) {
	declaration, err := tagFile(members, BagTxt)
	if err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(declaration, []byte("BagIt-Version: 1.0")) && !bytes.HasPrefix(declaration, []byte("BagIt-Version: 0.97")) {
		return nil, fmt.Errorf("%s is of a version that is not known", BagTxt)
	}
	tags, err := tagFile(members, BagTags)
	if err != nil {
		return nil, err
	}
	for name, sum := range manifestOf(tags) {
		data, err := tagFile(members, name)
		if err != nil {
			return nil, err
		}
		if HexSum(data) != sum {
			return nil, fmt.Errorf("%s was altered: its SHA-256 is not the one in %s", name, BagTags)
		}
	}
	if manifestOf(tags)[BagManifest] == "" {
		return nil, fmt.Errorf("%s does not vouch for %s", BagTags, BagManifest)
	}
	manifest, err := tagFile(members, BagManifest)
	return manifestOf(manifest), err
}

func tagFile(members map[string]*zip.File, name string) ([]byte, error) {
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

// payloadName checks the name of a file in a bag: only what an engagement is
// made of is taken.
func payloadName(text string) (folder.Name, error) {
	name, err := folder.Parse(text)
	if err != nil {
		return "", err
	}
	top, rest, below := strings.Cut(text, "/")
	switch {
	case !below:
		// engagement.yaml, the ledger, and a list of machines, for which
		// engagement.yaml must vouch.
		if strings.HasPrefix(top, ledger.FileName) && top != ledger.FileName {
			return "", fmt.Errorf("%s in it: a ledger is handed over as one file", text)
		}
	case top == EvidenceDir:
	case (top == BaselinesDir || top == FieldMapsDir) && !strings.Contains(rest, "/") && strings.HasSuffix(rest, ".yaml"):
	default:
		return "", fmt.Errorf("%s is in it, and does not belong to an engagement", text)
	}
	return name, nil
}

// Unpack writes those files of the payload that are picked.
func (b *bag) Unpack(ctx context.Context, to *folder.Folder, pick func(folder.Name) bool) error {
	for _, name := range slices.Sorted(maps.Keys(b.payload)) {
		if !pick(name) {
			continue
		}
		if err := context.Cause(ctx); err != nil {
			return err
		}
		if err := unpackOne(b.payload[name], to, name, b.sums[name]); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func unpackOne(f *zip.File, to *folder.Folder, name folder.Name, sum string) error {
	most := int64(f.UncompressedSize64) // what it says of itself
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := to.Create(name)
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

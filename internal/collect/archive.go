package collect

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/custody"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Archives are read into memory, so that what they hold never lies unpacked on
// a disk; what is larger is unpacked by the auditor.
const (
	mostUnpacked = 512 << 20
	mostMembers  = 200_000
	deepest      = 3 // archives in archives
)

// packing recognises one kind of archive by its first bytes and opens it.
type packing struct {
	name   string
	is     func(head []byte) bool
	unpack func(u *unpacking, at string, data []byte) error
}

// packings is a function because the kinds hold one another.
func packings() []packing {
	return []packing{
		{"zip", isZip, (*unpacking).zip},
		stream("gzip", []byte{0x1f, 0x8b, 8}, func(in io.Reader) (io.Reader, error) { return gzip.NewReader(in) }),
		stream("bzip2", []byte("BZh"), func(in io.Reader) (io.Reader, error) { return bzip2.NewReader(in), nil }),
		stream("xz", []byte("\xfd7zXZ\x00"), func(in io.Reader) (io.Reader, error) { return xz.NewReader(in) }),
		stream("zstd", []byte{0x28, 0xb5, 0x2f, 0xfd}, func(in io.Reader) (io.Reader, error) { return zstd.NewReader(in) }),
		{"tar", func(h []byte) bool { return len(h) > 262 && string(h[257:262]) == "ustar" }, (*unpacking).tar},
	}
}

// isZip passes over the documents of office programs, which are zip archives
// too.
func isZip(head []byte) bool {
	document := bytes.Contains(head, []byte("[Content_Types].xml")) || bytes.Contains(head, []byte("mimetypeapplication/"))
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) && !document
}

func packingOf(head []byte) *packing {
	all := packings()
	if i := slices.IndexFunc(all, func(p packing) bool { return p.is(head) }); i >= 0 {
		return &all[i]
	}
	return nil
}

// unpacking is the work on one archive.
type unpacking struct {
	source  string // the archive that the auditor named
	members []candidate
	room    int64
	depth   int
	written time.Time
}

// unpacked puts the members of archives in the archives' place.
func unpacked(found []candidate) (all []candidate, archives []contract.Archive, err error) {
	for _, c := range found {
		if c.open == nil || c.size == 0 {
			all = append(all, c)
			continue
		}
		head, err := c.head()
		if err != nil {
			return nil, nil, err
		}
		p := packingOf(head)
		if p == nil {
			all = append(all, c)
			continue
		}
		u := &unpacking{source: c.path, room: mostUnpacked, written: c.written}
		data, err := u.whole(c)
		if err == nil {
			err = p.unpack(u, c.path, data)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("gather %s: %w", c.path, err)
		}
		if len(u.members) == 0 {
			return nil, nil, fmt.Errorf("gather %s: the archive holds no files; expected exports, see docs/sources.md", c.path)
		}
		sum := sha256.Sum256(data)
		archives = append(archives, contract.Archive{Path: c.path, Size: int64(len(data)), SHA256: hex.EncodeToString(sum[:])})
		all = append(all, u.members...)
	}
	return all, archives, nil
}

var errTooMany = fmt.Errorf("it holds more than %d files and links; unpack it, and gather the folder that holds the exports", mostMembers)

var errTooLarge = fmt.Errorf("it unpacks to more than %d MiB; unpack it, look at what it holds, and gather the folder", mostUnpacked>>20)

func (u *unpacking) whole(c candidate) ([]byte, error) {
	f, err := c.open()
	if err != nil {
		return nil, custody.Cause(err)
	}
	defer f.Close()
	return u.read(f, c.size)
}

// read takes one stream, and no more than there is room for. Its pieces are joined once:
// a buffer that doubles as it grows would be held several times over. size is how long it
// is known to be; what an archive says of its members is not believed.
func (u *unpacking) read(in io.Reader, size int64) ([]byte, error) {
	const least, most = 4 << 10, 8 << 20
	var pieces [][]byte
	total, piece := 0, max(size+1, least)
	for {
		next := make([]byte, min(piece, u.room+1))
		n, err := fill(in, next)
		if u.room -= int64(n); u.room < 0 {
			return nil, errTooLarge
		}
		pieces, total, piece = append(pieces, next[:n]), total+n, min(2*piece, most)
		switch {
		case errors.Is(err, io.EOF):
			if len(pieces) == 1 {
				return slices.Clip(pieces[0]), nil
			}
			data := make([]byte, 0, total)
			for i, p := range pieces {
				data, pieces[i] = append(data, p...), nil
			}
			return data, nil
		case err != nil:
			return nil, fmt.Errorf("damaged archive: %w; copy it again, or have it made again", err)
		}
	}
}

// fill reads until a buffer is full; what ends a stream before comes as it is, so that a
// stream that was cut is told from one that ended.
func fill(in io.Reader, to []byte) (n int, err error) {
	for n < len(to) && err == nil {
		var more int
		more, err = in.Read(to[n:])
		n += more
	}
	return n, err
}

// member adds one file. Names from an archive are never used as paths: they
// only tell the files apart, and what the files are of.
func (u *unpacking) member(at, name string, data []byte, written time.Time) error {
	name = path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))
	if len(u.members) == mostMembers {
		return errTooMany
	}
	if p := packingOf(data); p != nil && u.depth < deepest {
		u.depth++
		defer func() { u.depth-- }()
		return p.unpack(u, at+name, data)
	}
	u.members = append(u.members, inMemory(at+name, data, written))
	return nil
}

// stream is a packing of one file, or of a tar archive.
func stream(name string, mark []byte, open func(io.Reader) (io.Reader, error)) packing {
	return packing{name, func(h []byte) bool { return bytes.HasPrefix(h, mark) }, func(u *unpacking, at string, data []byte) error {
		z, err := open(bytes.NewReader(data))
		if err != nil {
			return fmt.Errorf("damaged archive: %w; copy it again, or have it made again", err)
		}
		inner, err := u.read(z, 0)
		if err != nil {
			return err
		}
		if p := packingOf(inner); p != nil && p.name == "tar" {
			return p.unpack(u, at, inner)
		}
		name := path.Base(strings.ReplaceAll(at, `\`, "/"))
		return u.member(at, strings.TrimSuffix(name, path.Ext(name)), inner, u.written)
	}}
}

func (u *unpacking) tar(at string, data []byte) error {
	t := tar.NewReader(bytes.NewReader(data))
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("damaged archive: %w; copy it again, or have it made again", err)
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse: // with its holes filled, as far as there is room
			inner, err := u.read(t, 0)
			if err != nil {
				return err
			}
			if err := u.member(at, h.Name, inner, h.ModTime); err != nil {
				return err
			}
		case tar.TypeSymlink, tar.TypeLink:
			if len(u.members) == mostMembers {
				return errTooMany
			}
			c := inMemory(at+path.Clean("/"+h.Name), nil, h.ModTime)
			c.open, c.link = nil, h.Linkname
			if h.Typeflag == tar.TypeLink { // it names another member, from the archive's top
				c.linked = at + path.Clean("/"+h.Linkname)
			}
			u.members = append(u.members, c)
		}
	}
}

func (u *unpacking) zip(at string, data []byte) error {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return fmt.Errorf("damaged archive: %w; copy it again, or have it made again", err)
	}
	for _, f := range z.File {
		link := f.Mode()&fs.ModeSymlink != 0
		if !f.Mode().IsRegular() && !link {
			continue
		}
		in, err := f.Open()
		if err != nil {
			return fmt.Errorf("%s in it: %w; an archive with a password is unpacked by hand first", f.Name, err)
		}
		inner, err := u.read(in, 0)
		in.Close()
		if err != nil {
			return err
		}
		if link { // what it holds is where it points
			if len(u.members) == mostMembers {
				return errTooMany
			}
			c := inMemory(at+path.Clean("/"+strings.ReplaceAll(f.Name, `\`, "/")), nil, f.Modified)
			c.open, c.link = nil, string(inner)
			u.members = append(u.members, c)
			continue
		}
		if err := u.member(at, f.Name, inner, f.Modified); err != nil {
			return err
		}
	}
	return nil
}

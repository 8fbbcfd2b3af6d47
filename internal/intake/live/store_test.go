package live

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
	"time"
)

// hostile is a share that does what a share may do, and what none should.
type hostile struct {
	names  func(yield func(name string, folder bool) bool)
	files  map[string]func() io.Reader
	states map[string]func(time int) (string, int64) // by name and how often it was asked
	opened []string
}

func (h *hostile) List(_ string, each func(string, bool) bool) error {
	h.names(each)
	return nil
}

func (h *hostile) Open(name string) (shared, error) {
	h.opened = append(h.opened, name)
	of, ok := h.files[name[strings.LastIndexByte(name, '/')+1:]]
	if !ok {
		return nil, fs.ErrNotExist
	}
	in := of()
	if in == nil {
		return nil, fs.ErrPermission
	}
	return &hostileFile{Reader: in, h: h, name: name[strings.LastIndexByte(name, '/')+1:]}, nil
}

type hostileFile struct {
	io.Reader
	h     *hostile
	name  string
	asked int
}

func (f *hostileFile) Close() error { return nil }

func (f *hostileFile) State() (string, int64, time.Time, error) {
	f.asked++
	if of := f.h.states[f.name]; of != nil {
		state, size := of(f.asked)
		return state, size, time.Unix(1, 0), nil
	}
	if sized, ok := f.Reader.(interface{ Size() int64 }); ok {
		return "same", sized.Size(), time.Unix(1, 0), nil
	}
	return "same", 1, time.Unix(1, 0), nil
}

const policyA, policyB = "{5A0E1C52-0B77-4A51-9D5C-1D8A4B5C0001}", "{5a0e1c52-0b77-4a51-9d5c-1d8a4b5c0002}"

func listed(names ...string) func(func(string, bool) bool) {
	return func(yield func(string, bool) bool) {
		for _, name := range names {
			if !yield(name, true) {
				return
			}
		}
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return copy(p, bytes.Repeat([]byte{'x'}, len(p))), nil }

// A share's names lead nowhere else, and nothing that it does is waited for or
// held without a bound.
func TestHostileShares(t *testing.T) {
	text := func(s string) func() io.Reader { return func() io.Reader { return strings.NewReader(s) } }
	for name, c := range map[string]struct {
		share    *hostile
		files    int
		policies int
		refused  string // what is told; empty: nothing
	}{
		"a sound one": {&hostile{names: listed(policyA, policyB, "PolicyDefinitions"),
			files: map[string]func() io.Reader{"GptTmpl.inf": text("[Unicode]"), "Registry.pol": text("PReg"),
				"GPT.INI": text("Version=3")}}, 6, 2, ""},
		"a policy that only the directory has": {&hostile{names: listed(policyB)}, 0, 1, policyA + ": not there, though"},
		"names that lead out": {&hostile{names: listed("..", "../..", `..\..\Windows`, policyA+"/..", policyA+`\..`, "{..}", policyA+"\x00", "C:",
			policyA+".", "", policyA+"_NTFRS_00012345"), files: map[string]func() io.Reader{"GptTmpl.inf": text("x")}}, 0, 0,
			"11 folders whose names"},
		"a million names": {&hostile{names: func(yield func(string, bool) bool) {
			for i := 0; yield(fmt.Sprintf("{5A0E1C52-0B77-4A51-9D5C-%012X}", i), true); i++ {
			}
		}}, 0, mostPolicies, "the rest was not read"},
		"names without end that are none": {&hostile{names: func(yield func(string, bool) bool) {
			for yield("..", true) {
			}
		}}, 0, 0, "the rest was not read"},
		"a file without end": {&hostile{names: listed(policyA),
			files: map[string]func() io.Reader{"GptTmpl.inf": func() io.Reader { return endless{} }}},
			0, 1, "it has no end"},
		"a file of a terabyte": {&hostile{names: listed(policyA), files: map[string]func() io.Reader{"GptTmpl.inf": text("x")},
			states: map[string]func(int) (string, int64){"GptTmpl.inf": func(int) (string, int64) { return "", 1 << 40 }}}, 0, 1,
			"no file of settings"},
		"a file that says that it is longer": {&hostile{names: listed(policyA), files: map[string]func() io.Reader{"GptTmpl.inf": text("x")},
			states: map[string]func(int) (string, int64){"GptTmpl.inf": func(int) (string, int64) { return "", 9 }}}, 0, 1,
			"changes while it is read"},
		"a file that changes for ever": {&hostile{names: listed(policyA), files: map[string]func() io.Reader{"GptTmpl.inf": text("x")},
			states: map[string]func(int) (string, int64){"GptTmpl.inf": func(n int) (string, int64) { return fmt.Sprint(n), 1 }}}, 0, 1,
			"changes while it is read"},
		"a file that may not be read": {&hostile{names: listed(policyA), files: map[string]func() io.Reader{
			"GptTmpl.inf": func() io.Reader { return nil }, "Registry.pol": text("PReg")}}, 1, 1, "GptTmpl.inf: not allowed"},
	} {
		t.Run(name, func(t *testing.T) {
			store := &Store{}
			r := &storeReader{ctx: t.Context(), share: c.share, store: store, at: "x.example/Policies"}
			if name == "a sound one" || strings.HasPrefix(name, "a policy that") {
				r.versions = map[string]int{policyA: 3}
			}
			r.read()
			if len(r.files) != c.files || store.Files != c.files || store.Policies != c.policies ||
				(c.refused == "") != (len(store.Refused) == 0) || !strings.Contains(strings.Join(store.Refused, "\n"), c.refused) {
				t.Errorf("%d files, %+v", len(r.files), store)
			}
			for _, at := range c.share.opened {
				if strings.Contains(at, "..") || strings.Contains(at, `\`) || !strings.HasPrefix(at, "x.example/Policies/{") {
					t.Errorf("opened %q", at)
				}
			}
		})
	}
}

// A file that changed once is read again, whole.
func TestFileThatChangesOnce(t *testing.T) {
	reads := 0
	h := &hostile{names: listed(policyA), files: map[string]func() io.Reader{"GptTmpl.inf": func() io.Reader {
		reads++
		return strings.NewReader(strings.Repeat("x", reads))
	}}}
	h.states = map[string]func(int) (string, int64){"GptTmpl.inf": func(n int) (string, int64) {
		if reads == 1 {
			return fmt.Sprint(n), 1
		}
		return "same", int64(reads)
	}}
	store := &Store{}
	r := &storeReader{ctx: t.Context(), share: h, store: store, at: "x.example/Policies"}
	r.read()
	if len(r.files) != 1 || string(r.files[0].Data) != "xx" || len(store.Refused) != 0 {
		t.Errorf("%d files, %+v", len(r.files), store)
	}
}

// What is read of a store is bounded in all, and ends with the time.
func TestBoundsOfAStore(t *testing.T) {
	large := bytes.Repeat([]byte{'x'}, mostStoreFile)
	many := func(yield func(string, bool) bool) {
		for i := range 200 {
			if !yield(fmt.Sprintf("{5A0E1C52-0B77-4A51-9D5C-%012X}", i), true) {
				return
			}
		}
	}
	h := &hostile{names: many, files: map[string]func() io.Reader{"GptTmpl.inf": func() io.Reader { return bytes.NewReader(large) }}}
	store := &Store{}
	r := &storeReader{ctx: t.Context(), share: h, store: store, at: "x.example/Policies"}
	r.read()
	if store.Files != mostStore/mostStoreFile || r.size > mostStore ||
		!strings.Contains(fmt.Sprint(store.Refused), "MiB; the rest was not read") {
		t.Errorf("%d files of %d bytes, %v", store.Files, r.size, store.Refused)
	}
	ctx, end := context.WithCancelCause(t.Context())
	end(errors.New("it went on for too long"))
	store = &Store{}
	(&storeReader{ctx: ctx, share: h, store: store, at: "x.example/Policies"}).read()
	if store.Files != 0 || !strings.Contains(fmt.Sprint(store.Refused), "too long") {
		t.Errorf("%+v", store)
	}
}

func TestVersionOfAPolicy(t *testing.T) {
	for text, want := range map[string]int{"[General]\r\nVersion=65538\r\n": 65538, "\xef\xbb\xbf[General]\nversion = 3": 3,
		"": -1, "Version=x": -1,
		"Version=99999999999999999999": -1, "DisplayVersion=4\n": -1} {
		if got := version([]byte(text)); got != want {
			t.Errorf("%q: %d, want %d", text, got, want)
		}
	}
}

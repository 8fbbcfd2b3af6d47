package live

import (
	"bytes"
	"context"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cloudsoda/go-smb2"

	"sternledger/internal/intake/kerberos"
)

// Store says what was read of a domain's policy store.
type Store struct {
	Address  string   `json:"address"`
	Policies int      `json:"policies"`
	Files    int      `json:"files"`
	Refused  []string `json:"refused,omitempty"` // what could not be read, and why: a gap
	// Unlike are policies whose store and directory are at different versions: one
	// of the two is not yet, or no more, what the other server has.
	Unlike []string `json:"unlike,omitempty"`
}

// StoreFile is one file of a policy store.
type StoreFile struct {
	Path    string // from the share on, with slashes
	Data    []byte
	Written time.Time
}

// storeFiles are the only files that are asked for, in each policy's folder.
var storeFiles = []string{versionFile, "Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf", "Machine/Registry.pol",
	"Machine/Preferences/Registry/Registry.xml"}

const (
	versionFile = "GPT.INI"
	storeShare  = "sysvol"
	storePort   = "445"
)

// Bounds of reading a store.
const (
	mostPolicies  = 20_000
	mostNames     = 100_000  // of whatever lies beside them
	mostStoreFile = 16 << 20 // bytes
	mostStore     = 512 << 20
	mostStoreTime = 30 * time.Minute
	storeSilence  = time.Minute
	tries         = 3 // at a file that changes while it is read
)

// policyFolder is the name of a policy's folder. Nothing else that a server calls
// a folder is asked for.
var policyFolder = regexp.MustCompile(`^\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$`)

// share is what is needed of a share. Names have slashes.
type share interface {
	// List calls for each name in a folder until it returns false.
	List(folder string, each func(name string, folder bool) bool) error
	Open(file string) (shared, error)
}

// shared is an open file. State changes when the file does.
type shared interface {
	io.ReadCloser
	State() (state string, size int64, written time.Time, err error)
}

// CollectStore reads the policy store of the domain whose directory was read,
// and notes in got what came of it. What cannot be read is a gap, and no error.
func CollectStore(ctx context.Context, opt Options, got *Collected) []StoreFile {
	if got.Server == nil || got.Server.Host == "" || !got.whole {
		return nil
	}
	got.Store = &Store{Address: `\\` + got.Server.Host + `\` + storeShare + `\` + got.Server.Domain + `\Policies`}
	ctx, done := context.WithTimeoutCause(ctx, mostStoreTime, fmt.Errorf("it went on for more than %s", mostStoreTime))
	defer done()
	s, closing, err := opt.openShare(ctx, got)
	if err != nil {
		got.Store.Refused = append(got.Store.Refused, "all of it: "+whyNot(ctx, err))
		return nil
	}
	defer closing()
	r := &storeReader{ctx: ctx, share: s, store: got.Store, versions: got.versions, at: got.Server.Domain + "/Policies"}
	r.read()
	return r.files
}

// openShare signs in to the server's share, as one signed in to the directory.
// Everything is signed; a server that wants it sealed has it sealed.
func (o *Options) openShare(ctx context.Context, got *Collected) (share, func(), error) {
	host := got.Server.Host
	var by smb2.Initiator
	switch {
	case o.Identity != nil:
		c, err := o.Identity.Context("cifs/"+host, nil)
		if err != nil {
			return nil, nil, err
		}
		by = &initiator{c}
	case o.Bind == "":
		return nil, nil, errors.New("nobody is signed in; give --bind or --kerberos")
	default:
		ntlm := &smb2.NTLMInitiator{User: o.Bind, Password: o.Password, TargetSPN: "cifs/" + host}
		domain, user, ok := strings.Cut(got.As, `\`)
		if !ok {
			domain, user, ok = strings.Cut(o.Bind, `\`)
		}
		switch {
		case ok:
			ntlm.Domain, ntlm.User = domain, user
		case strings.Contains(o.Bind, "="):
			return nil, nil, fmt.Errorf("a share takes no DN; sign in as NAME@%s", got.Server.Domain)
		}
		by = ntlm
	}
	session, closing, err := o.signInToShare(ctx, by, host, o.storeAddress(got))
	if err != nil {
		return nil, nil, err
	}
	mounted, err := session.WithContext(ctx).Mount(storeShare)
	if err != nil {
		closing()
		return nil, nil, fmt.Errorf("the share: %w", err)
	}
	return &smbShare{mounted.WithContext(ctx)}, func() {
		_ = mounted.Umount()
		_ = session.Logoff()
		closing()
	}, nil
}

// dialects are those of SMB 3, the newest first. Each is asked for alone: what
// is older cannot be talked into.
var dialects = []uint16{0x0311, 0x0302, 0x0300}

// notSupported is a server's answer to a dialect that it does not speak.
const notSupported = 0xC00000BB

// signInToShare signs in with every message signed.
func (o *Options) signInToShare(ctx context.Context, by smb2.Initiator, host, address string) (*smb2.Session, func(), error) {
	var last error
	for _, dialect := range dialects {
		wire, err := dial(ctx, address, storeSilence)
		if err != nil {
			return nil, nil, fmt.Errorf("%w; check that port %s is open", err, storePort)
		}
		stop := context.AfterFunc(ctx, func() { wire.Close() })
		closing := func() { stop(); wire.Close() }
		how := smb2.Negotiator{RequireMessageSigning: true, SpecifiedDialect: dialect}
		session, err := (&smb2.Dialer{Negotiator: how, Initiator: by}).DialConn(ctx, wire, host)
		if err == nil {
			return session, closing, nil
		}
		closing()
		last = fmt.Errorf("signing in to the share: %w", err)
		var answer *smb2.ResponseError
		if !errors.As(err, &answer) || answer.Code != notSupported {
			if o.Identity == nil {
				last = fmt.Errorf("%w; where passwords are refused there (NTLM is off), sign in with --kerberos", last)
			}
			return nil, nil, last
		}
	}
	return nil, nil, fmt.Errorf("%w; the server does not speak SMB 3", last)
}

// storeAddress is where the share is asked: where the directory answered, unless
// the options have another.
func (o *Options) storeAddress(got *Collected) string {
	for _, name := range []string{got.Server.Domain, got.Server.Host} {
		if at, ok := o.Stores[name]; ok {
			return at.on(storePort)
		}
	}
	return Address{Host: got.answered}.on(storePort)
}

// initiator brings a security context into a sign-in to a share (MS-SMB2
// 3.2.4.2.3).
type initiator struct{ kerberos.Context }

func (i *initiator) OID() asn1.ObjectIdentifier {
	return asn1.ObjectIdentifier{1, 2, 840, 113554, 1, 2, 2}
}

func (i *initiator) InitSecContext() ([]byte, error) { return i.First() }

func (i *initiator) AcceptSecContext(token []byte) ([]byte, error) { return []byte{}, i.Accept(token) }

func (i *initiator) Sum(data []byte) []byte {
	mic, err := i.MIC(data)
	if err != nil {
		return nil
	}
	return mic
}

// SessionKey is the first sixteen bytes (MS-SMB2 3.2.5.3).
func (i *initiator) SessionKey() []byte {
	key := make([]byte, 16)
	copy(key, i.Context.SessionKey())
	return key
}

// smbShare is a share of a real server.
type smbShare struct{ *smb2.Share }

func (s *smbShare) List(folder string, each func(string, bool) bool) error {
	f, err := s.Share.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	for {
		some, err := f.Readdir(256)
		for _, info := range some {
			if !each(info.Name(), info.IsDir()) {
				return nil
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (s *smbShare) Open(file string) (shared, error) {
	f, err := s.Share.Open(file)
	if err != nil {
		return nil, err
	}
	return &smbFile{f}, nil
}

type smbFile struct{ *smb2.File }

func (f *smbFile) State() (string, int64, time.Time, error) {
	info, err := f.Stat()
	if err != nil {
		return "", 0, time.Time{}, err
	}
	state, changed := fmt.Sprint(info.Size(), info.ModTime().UnixNano()), info.ModTime()
	if st, ok := info.Sys().(*smb2.FileStat); ok {
		state += fmt.Sprint(" ", st.ChangeTime.UnixNano())
	}
	return state, info.Size(), changed, nil
}

// storeReader reads a store's policies one by one.
type storeReader struct {
	ctx      context.Context
	share    share
	at       string // the folder of the policies
	store    *Store
	versions map[string]int // of the policies in the directory, by name in capitals
	files    []StoreFile
	size     int64
}

func (r *storeReader) refuse(what string, err error) {
	r.store.Refused = append(r.store.Refused, what+": "+whyNot(r.ctx, err))
}

// whyNot words an error of a share in one line.
func whyNot(ctx context.Context, err error) string {
	if ended := context.Cause(ctx); ended != nil {
		err = ended
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "not allowed"
	case errors.Is(err, fs.ErrNotExist):
		return "not there"
	}
	return strings.ReplaceAll(strings.TrimSuffix(strings.Join(strings.Fields(err.Error()), " "), "."), ".;", ";")
}

func (r *storeReader) read() {
	var policies []string
	strange, seen := 0, 0
	whole := true
	err := r.share.List(r.at, func(name string, folder bool) bool {
		if seen++; seen > mostNames || len(policies) == mostPolicies {
			whole = false
			return false
		}
		switch {
		case !folder || strings.EqualFold(name, "PolicyDefinitions"):
		case policyFolder.MatchString(name):
			policies = append(policies, name)
		default:
			strange++
		}
		return true
	})
	if err != nil {
		r.refuse(r.at, err)
	}
	if !whole {
		r.refuse(r.at, fmt.Errorf("more than %d policies or %d names; the rest was not read", mostPolicies, mostNames))
	}
	if strange > 0 {
		r.refuse(r.at, fmt.Errorf("%d folders whose names are no policy's; they were not read", strange))
	}
	if err == nil && whole {
		r.missing(policies)
	}
	for _, name := range policies {
		if r.ctx.Err() != nil {
			r.refuse(r.at+"/"+name+" and what follows", r.ctx.Err())
			return
		}
		r.store.Policies++
		if !r.policy(name) {
			return
		}
	}
}

// missing tells the policies that the directory has and the store has not.
func (r *storeReader) missing(policies []string) {
	there := map[string]bool{}
	for _, name := range policies {
		there[strings.ToUpper(name)] = true
	}
	for _, name := range slices.Sorted(maps.Keys(r.versions)) {
		if !there[name] {
			r.refuse(r.at+"/"+name, errors.New("not there, though the directory has the policy"))
		}
	}
}

// policy reads one policy's files, and reports whether to go on.
func (r *storeReader) policy(name string) bool {
	for _, file := range storeFiles {
		at := r.at + "/" + name + "/" + file
		got, err := r.file(at)
		switch {
		case errors.Is(err, fs.ErrNotExist): // it has no settings of that kind
			continue
		case err != nil:
			r.refuse(at, err)
			if errors.Is(err, errFull) || r.ctx.Err() != nil {
				return false
			}
			continue
		}
		if file == versionFile {
			has := version(got.Data)
			if want, ok := r.versions[strings.ToUpper(name)]; ok && has != want {
				r.store.Unlike = append(r.store.Unlike, name)
			}
			if has < 0 {
				r.refuse(at, errors.New("no version in it"))
				continue
			}
		}
		r.files = append(r.files, *got)
		r.store.Files++
	}
	return true
}

var (
	errFull     = fmt.Errorf("the store holds more than %d MiB; the rest was not read", mostStore>>20)
	errChanging = errors.New("it changes while it is read")
)

// file reads a file that is the same before and after.
func (r *storeReader) file(at string) (*StoreFile, error) {
	for range tries {
		got, same, err := r.once(at)
		if err != nil || same {
			return got, err
		}
	}
	return nil, errChanging
}

func (r *storeReader) once(at string) (got *StoreFile, same bool, err error) {
	f, err := r.share.Open(at)
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	before, size, written, err := f.State()
	if err != nil {
		return nil, false, err
	}
	if size > mostStoreFile {
		return nil, false, fmt.Errorf("it is of %d bytes, and no file of settings", size)
	}
	if r.size+size > mostStore {
		return nil, false, errFull
	}
	data, err := io.ReadAll(io.LimitReader(f, mostStoreFile+1))
	if err != nil {
		return nil, false, err
	}
	after, _, _, err := f.State()
	if err != nil {
		return nil, false, err
	}
	if len(data) > mostStoreFile {
		return nil, false, errors.New("it has no end")
	}
	if r.size += int64(len(data)); r.size > mostStore {
		return nil, false, errFull
	}
	return &StoreFile{at, data, written}, before == after && int64(len(data)) == size, nil
}

var versionLine = regexp.MustCompile(`(?im)^[ \t]*Version[ \t]*=[ \t]*(\d+)[ \t]*\r?$`)

// version is what a policy's GPT.INI says (MS-GPOL 2.2.4); -1 if nothing.
func version(text []byte) int {
	m := versionLine.FindSubmatch(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")))
	if m == nil {
		return -1
	}
	n, err := strconv.Atoi(string(m[1]))
	if err != nil {
		return -1
	}
	return n
}

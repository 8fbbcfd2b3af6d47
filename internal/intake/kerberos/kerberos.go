// Package kerberos signs in to services by Kerberos (RFC 4120, RFC 4121) with
// what an auditor has: a ticket, a keytab, a password, or on Windows their own
// sign-in. The exchanges are a package's; what LDAP's and SMB's connections need
// beyond them is here: security contexts that sign and seal.
package kerberos

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/keytab"
)

// Means is what somebody signed in with. Only this stands in the ledger, never
// the thing itself.
type Means string

// The means.
const (
	ByTicket   Means = "ticket"
	ByKeytab   Means = "keytab"
	ByPassword Means = "password"
	ByOwn      Means = "own sign-in" // of the user of this Windows machine
)

// Options say who signs in, and with what.
type Options struct {
	Name     string // name or name@REALM; empty: whose ticket it is, or who signed in to this machine
	Password string // "": none
	Keytab   string // a file; "": none
	// Realms are the hosts of KDCs, by realm in capitals. They come before a
	// configuration's.
	Realms map[string]string
}

// Identity is somebody who can sign in to services.
type Identity interface {
	Name() string // name@REALM
	Means() Means
	// Context begins a security context with a service, such as
	// ldap/quay1.marrowick.example. binding, if not nil, ties it to a channel
	// (RFC 5929).
	Context(service string, binding []byte) (Context, error)
	// Ask has a realm's KDC asked at a host, unless another is known.
	Ask(realm, host string)
	Close()
}

// Context is a security context with one service.
type Context interface {
	// First is the token that begins it.
	First() ([]byte, error)
	// Accept takes the service's answer and proves that it is the service.
	Accept(token []byte) error
	// Wrap signs, and seals if asked; Unwrap says whether it was sealed.
	Wrap(data []byte, seal bool) ([]byte, error)
	Unwrap(token []byte) (data []byte, sealed bool, err error)
	// MIC signs alone.
	MIC(data []byte) ([]byte, error)
	// SessionKey is the key that both sides have.
	SessionKey() []byte
	Close()
}

// SignIn makes an identity. It asks for a ticket only where there is none.
func SignIn(opt Options) (Identity, error) {
	if opt.own() {
		return own()
	}
	conf, err := configuration()
	if err != nil {
		return nil, err
	}
	name, realm, _ := strings.Cut(opt.Name, "@")
	if _, short, ok := strings.Cut(name, `\`); ok { // DOMAIN\name: the domain's short name is no realm
		name = short
	}
	if realm = strings.ToUpper(realm); realm == "" {
		realm = conf.LibDefaults.DefaultRealm
	}
	who := &ticketed{}
	switch {
	case opt.Keytab != "":
		keys, err := loadKeytab(opt.Keytab)
		if err != nil {
			return nil, err
		}
		if name == "" {
			return nil, fmt.Errorf("whose key of the keytab %s is it? Give the name with --bind NAME@REALM", opt.Keytab)
		}
		who.means, who.client = ByKeytab, client.NewWithKeytab(name, realm, keys, conf, client.DisablePAFXFAST(true))
	case name != "":
		if opt.Password == "" {
			return nil, errors.New("an empty password is refused")
		}
		who.means, who.client = ByPassword, client.NewWithPassword(name, realm, opt.Password, conf, client.DisablePAFXFAST(true))
	default:
		if who, err = fromCache(cacheName(), conf); err != nil {
			return nil, err
		}
		realm = who.client.Credentials.Domain()
	}
	if realm == "" {
		return nil, fmt.Errorf("of which realm is %q? Give it as --bind NAME@REALM", opt.Name)
	}
	opt.add(conf, realm)
	if who.means != ByTicket {
		if err := safely(who.client.Login); err != nil {
			return nil, &Refused{who.Name(), realm, err}
		}
	}
	return who, nil
}

// Refused is a KDC's refusal, or that there was none to ask.
type Refused struct {
	Name, Realm string
	err         error
}

func (r *Refused) Unwrap() error { return r.err }

// Skewed reports whether the clocks are too far apart.
func (r *Refused) Skewed() bool { return r.says("KRB_AP_ERR_SKEW") || r.says("lock skew") }

func (r *Refused) says(text string) bool { return strings.Contains(r.err.Error(), text) }

// Error says what to do next. The package tells errors in prose alone; the codes
// of RFC 4120 are in it.
func (r *Refused) Error() string {
	next := "check the name, the realm and the KDC"
	for _, known := range []struct{ says, next string }{
		{"KRB_AP_ERR_SKEW", "this machine's clock and the KDC's are more than five minutes apart; set this machine's"},
		{"lock skew", "this machine's clock and the KDC's are more than five minutes apart; set this machine's"},
		{"KRB_AP_ERR_TKT_NYV", "the ticket begins in the KDC's future: this machine's clock and the KDC's are apart; set this machine's"},
		{"KDC_ERR_PREAUTH_FAILED", "wrong password or key; another try may lock the account"},
		{"password/keytab incorrect", "wrong password or key; another try may lock the account"},
		{"KDC_ERR_C_PRINCIPAL_UNKNOWN", "the KDC knows no such name in this realm"},
		{"KDC_ERR_S_PRINCIPAL_UNKNOWN", "the KDC knows no such server; name it by its full host name, as the directory does"},
		{"KDC_ERR_CLIENT_REVOKED", "the account is disabled or locked"},
		{"KDC_ERR_KEY_EXPIRED", "the password has expired"},
		{"KDC_ERR_WRONG_REALM", "this KDC is of another realm; check the realm behind the @"},
		{"KRB_AP_ERR_TKT_EXPIRED", "the ticket has expired; get a new one with kinit"},
		{"no valid existing session", "the ticket has expired; get a new one with kinit"},
		{"KDC_ERR_ETYPE_NOSUPP", "the KDC has no key of AES for it"},
		{"no key", "the keytab has no key of that name and realm; klist -k shows what it has"},
		{"matching key not found", "the keytab has no key of that name and realm; klist -k shows what it has"},
		{"no KDCs defined", "no KDC is known for this realm; name it in krb5.conf, or with --server " + r.Realm + "=HOST"},
		{"KDC SRV", "no KDC is known for this realm; name it in krb5.conf, or with --server " + r.Realm + "=HOST"},
		{"lookup", "no KDC is known for this realm; name it in krb5.conf, or with --server " + r.Realm + "=HOST"},
		{"ommunicat", "the KDC does not answer; check that port 88 is open"},
	} {
		if r.says(known.says) {
			next = known.next
			break
		}
	}
	return fmt.Sprintf("no ticket for %s: %s (%s)", r.Name, next, strings.Join(strings.Fields(r.err.Error()), " "))
}

// ticketed is an identity of the package's.
type ticketed struct {
	client *client.Client
	means  Means
}

func (t *ticketed) Name() string {
	return t.client.Credentials.CName().PrincipalNameString() + "@" + t.client.Credentials.Domain()
}
func (t *ticketed) Means() Means { return t.means }

func (t *ticketed) Ask(realm, host string) {
	if conf := t.client.Config; !slices.ContainsFunc(conf.Realms, func(r config.Realm) bool { return r.Realm == realm }) {
		(&Options{Realms: map[string]string{realm: host}}).add(conf, realm)
	}
}

func (t *ticketed) Close() { t.client.Destroy() }

// configuration is the krb5.conf (KRB5_CONFIG), or what takes its place.
func configuration() (*config.Config, error) {
	file, given := os.Getenv("KRB5_CONFIG"), true
	if file == "" {
		file, given = "/etc/krb5.conf", false
	}
	if _, err := os.Stat(file); err != nil {
		if given || !errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("the configuration of Kerberos: %w", err)
		}
		conf := config.New()
		conf.LibDefaults.DNSLookupKDC = true
		return tuned(conf), nil
	}
	conf, err := read(file, 0)
	if err != nil {
		return nil, fmt.Errorf("the configuration of Kerberos: %w", err)
	}
	return tuned(conf), nil
}

var includes = regexp.MustCompile(`(?m)^(include|includedir)[ \t]+(\S+)[ \t]*\r?$`)

// read reads a krb5.conf and those that it includes, which the package does not.
func read(file string, deep int) (*config.Config, error) {
	if deep > 8 {
		return nil, fmt.Errorf("%s: it includes itself", file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	conf, err := config.NewFromString(includes.ReplaceAllString(string(text), ""))
	var unsupported config.UnsupportedDirective // passed over, as by others
	if err != nil && !errors.As(err, &unsupported) {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, m := range includes.FindAllStringSubmatch(string(text), -1) {
		more := []string{m[2]}
		if m[1] == "includedir" {
			more, _ = filepath.Glob(filepath.Join(m[2], "*"))
		}
		for _, name := range more {
			info, err := os.Stat(name)
			if base := filepath.Base(name); m[1] == "includedir" && (err != nil || !info.Mode().IsRegular() ||
				strings.HasPrefix(base, ".") || strings.Contains(strings.TrimSuffix(base, ".conf"), ".")) {
				continue // backups, and what a package left
			}
			other, err := read(name, deep+1)
			if err != nil {
				return nil, err
			}
			conf.Realms = append(conf.Realms, other.Realms...)
			maps.Copy(conf.DomainRealm, other.DomainRealm)
			conf.LibDefaults.DefaultRealm = cmp.Or(conf.LibDefaults.DefaultRealm, other.LibDefaults.DefaultRealm)
		}
	}
	return conf, nil
}

// tuned asks over TCP, as answers of directories are large, for no old methods,
// and for tickets that can be passed on to nobody and are not renewed.
func tuned(conf *config.Config) *config.Config {
	conf.LibDefaults.UDPPreferenceLimit = 1
	conf.LibDefaults.NoAddresses = true
	conf.LibDefaults.Forwardable, conf.LibDefaults.Proxiable, conf.LibDefaults.RenewLifetime = false, false, 0
	strong := []int32{20, 19, 18, 17} // AES (RFC 8009, RFC 3962)
	for _, ids := range []*[]int32{&conf.LibDefaults.DefaultTGSEnctypeIDs, &conf.LibDefaults.DefaultTktEnctypeIDs,
		&conf.LibDefaults.PermittedEnctypeIDs} {
		*ids = slices.DeleteFunc(slices.Clone(*ids), func(id int32) bool { return !slices.Contains(strong, id) })
		if len(*ids) == 0 {
			*ids = []int32{18, 17}
		}
	}
	return conf
}

// add names the KDCs that the options know. Of which realm a service is, the
// client's own KDC tells.
func (o *Options) add(conf *config.Config, realm string) {
	if conf.LibDefaults.DefaultRealm == "" {
		conf.LibDefaults.DefaultRealm = realm
	}
	for name, host := range o.Realms {
		host = net.JoinHostPort(host, "88")
		if i := slices.IndexFunc(conf.Realms, func(r config.Realm) bool { return r.Realm == name }); i >= 0 {
			conf.Realms[i].KDC = []string{host}
		} else {
			conf.Realms = append(conf.Realms, config.Realm{Realm: name, KDC: []string{host}})
		}
	}
}

// HasKDC reports whether a configuration names a KDC of the realm.
func HasKDC(realm string) bool {
	conf, err := configuration()
	return err == nil && slices.ContainsFunc(conf.Realms, func(r config.Realm) bool { return r.Realm == realm && len(r.KDC) > 0 })
}

// cacheName is the file of tickets.
func cacheName() string {
	if name := os.Getenv("KRB5CCNAME"); name != "" {
		return name
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("krb5cc_%d", os.Getuid()))
}

// CacheOwner is whose tickets the default cache holds; empty where there is none
// that can be read.
func CacheOwner() (name, realm string) {
	tickets, _, err := loadCache(cacheName())
	if err != nil {
		return "", ""
	}
	return tickets.DefaultPrincipal.PrincipalName.PrincipalNameString(), tickets.DefaultPrincipal.Realm
}

func loadCache(name string) (tickets *credentials.CCache, file string, err error) {
	file = strings.TrimPrefix(name, "FILE:")
	if kind, _, ok := strings.Cut(file, ":"); ok && len(kind) > 1 {
		return nil, file, fmt.Errorf("the tickets are in a cache of the kind %s; expected a file: KRB5CCNAME=FILE:/path kinit, and again", kind)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, file, fmt.Errorf("no tickets: %w; get one with kinit, or give --bind NAME@REALM", err)
	}
	tickets = new(credentials.CCache)
	if err := safely(func() error { return tickets.Unmarshal(data) }); err != nil {
		return nil, file, fmt.Errorf("%s is no cache of tickets: %w; name it in KRB5CCNAME", file, err)
	}
	return tickets, file, nil
}

func fromCache(name string, conf *config.Config) (*ticketed, error) {
	tickets, file, err := loadCache(name)
	if err != nil {
		return nil, err
	}
	var cl *client.Client
	if err := safely(func() (err error) {
		cl, err = client.NewFromCCache(tickets, conf, client.DisablePAFXFAST(true))
		return err
	}); err != nil {
		return nil, fmt.Errorf("%s: %w; get a ticket with kinit", file, err)
	}
	who := &ticketed{cl, ByTicket}
	var until time.Time
	for _, t := range tickets.GetEntries() {
		if t.Server.PrincipalName.NameString[0] == "krbtgt" && t.EndTime.After(until) {
			until = t.EndTime
		}
	}
	if until.Before(time.Now()) {
		return nil, fmt.Errorf("the ticket of %s in %s expired at %s; get a new one with kinit", who.Name(), file,
			until.UTC().Format(time.RFC3339))
	}
	return who, nil
}

func loadKeytab(file string) (*keytab.Keytab, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("--keytab: %w", err)
	}
	keys := keytab.New()
	if err := safely(func() error { return keys.Unmarshal(data) }); err != nil {
		return nil, fmt.Errorf("--keytab: %s is no keytab: %w", file, err)
	}
	return keys, nil
}

// safely calls a reader of the package's, which panics on files and answers that
// are cut short.
func safely(do func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = errors.New("it is cut short, or damaged")
		}
	}()
	return do()
}

package cli

import (
	"bytes"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sternledger/internal/collect"
)

// passwordVariable holds the password of a live source, for scripts.
const passwordVariable = "STERNLEDGER_PASSWORD"

// login is how gather signs in to a live source.
type login struct {
	passwordFile, issuers string
	kerberos              bool
	keytab                string
	servers, stores       map[string]string
	tenantMap, tokenURL   string
	hosts                 map[string]string
	how                   collect.LiveOptions
}

func (l *login) addFlags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&l.how.Bind, "bind", "", "sign in to a live source as this DN or name@domain")
	flags.BoolVar(&l.kerberos, "kerberos", false,
		"sign in to a directory by Kerberos: by the ticket at hand, on Windows by your own sign-in, or with --bind NAME@REALM by password")
	flags.StringVar(&l.keytab, "keytab", "", "sign in to a directory by Kerberos, with the key of --bind NAME@REALM in this `FILE`")
	flags.BoolVar(&l.how.Forest, "forest", false, "read the other domains of the directory's forest, too")
	flags.StringToStringVar(&l.servers, "server", nil, "ask a domain or host, and its KDC, at another address: `NAME=HOST[:PORT]`")
	flags.StringToStringVar(&l.stores, "policy-store", nil, "ask a domain's policy store at another address: `DOMAIN=HOST[:PORT]`")
	flags.StringVar(&l.passwordFile, "password-file", "", "read its password from the first line of this file")
	flags.StringVar(&l.issuers, "ca", "", "trust the issuers in this PEM file, instead of the system's")
	flags.StringSliceVar(&l.how.Certificates, "certificate", nil, "trust only the certificate with this SHA-256; once for each host")
	flags.StringVar(&l.tenantMap, "map", "", "field map by which a tenant is asked")
	flags.StringVar(&l.tokenURL, "token-url", "", "get a tenant's token here, instead of at the field map's path")
	flags.StringToStringVar(&l.hosts, "interface", nil,
		"ask this interface of a tenant at another address than the field map's: `ID=https://HOST`")
	flags.BoolVar(&l.how.AnyCertificate, "any-certificate", false, "trust any certificate; the ledger records it")
}

// Variables that hold what signs in to a tenant.
const (
	tokenVariable   = "STERNLEDGER_TOKEN"
	clientVariable  = "STERNLEDGER_CLIENT_ID"
	secretVariable  = "STERNLEDGER_CLIENT_SECRET"
	keyVariable     = "STERNLEDGER_CLIENT_KEY"    // a file
	keyIDVariable   = "STERNLEDGER_CLIENT_KEY_ID" // its name at the tenant
	subjectVariable = "STERNLEDGER_SUBJECT"       // for whom a signed grant acts
)

// credentials reads the environment, and the key's file.
func (l *login) credentials() (collect.Credentials, error) {
	by := collect.Credentials{Token: os.Getenv(tokenVariable), Client: os.Getenv(clientVariable), Secret: os.Getenv(secretVariable),
		Subject: os.Getenv(subjectVariable), TokenURL: l.tokenURL}
	file := os.Getenv(keyVariable)
	if file == "" {
		return by, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return by, fmt.Errorf("%s: %w", keyVariable, err)
	}
	if by.Key, err = collect.ParseKey(text, os.Getenv(keyIDVariable)); err != nil {
		return by, fmt.Errorf("%s: %s: %w", keyVariable, file, err)
	}
	return by, nil
}

// options reads the files that the flags name.
func (l *login) options() (how collect.LiveOptions, tickets *collect.Tickets, err error) {
	how = l.how
	if l.issuers != "" {
		pem, err := os.ReadFile(l.issuers)
		if err != nil {
			return how, nil, fmt.Errorf("--ca: %w", err)
		}
		how.Issuers = pem
	}
	if how.Servers, err = addresses("--server", l.servers); err != nil {
		return how, nil, err
	}
	if how.Stores, err = addresses("--policy-store", l.stores); err != nil {
		return how, nil, err
	}
	if l.kerberos || l.keytab != "" {
		tickets = &collect.Tickets{Name: how.Bind, Keytab: l.keytab}
	}
	return how, tickets, nil
}

func addresses(flag string, given map[string]string) (map[string]collect.Address, error) {
	all := map[string]collect.Address{}
	for name, text := range given {
		at, err := collect.ParseAddress(text)
		if err != nil {
			return nil, usage("%s %s: %v", flag, name, err)
		}
		all[strings.ToLower(name)] = at
	}
	return all, nil
}

// password asks for the password: of the file, the variable, or the terminal.
func (l *login) password(cmd *cobra.Command) func(string) (string, error) {
	return func(name string) (string, error) {
		if l.passwordFile != "" {
			data, err := os.ReadFile(l.passwordFile)
			if err != nil {
				return "", fmt.Errorf("--password-file: %w", err)
			}
			first, _, _ := bytes.Cut(data, []byte("\n"))
			return string(bytes.TrimSuffix(first, []byte("\r"))), nil
		}
		if p, ok := os.LookupEnv(passwordVariable); ok {
			return p, nil
		}
		in, ok := cmd.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", fmt.Errorf("no password for %q: give --password-file, set %s, or run on a terminal", name, passwordVariable)
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "Password of %s: ", name)
		typed, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return string(typed), err
	}
}

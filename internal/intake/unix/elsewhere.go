package unix

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
)

// source is a place other than passwd that the machine takes accounts from.
type source struct {
	name string // as the files call it: "sss", "+@staff"
	by   string // the file or stack that says so
	cite estate.Cite
}

// directories are modules that know accounts of other places, and what those
// places are.
var directories = map[string]string{"pam_sss": "sss (a directory)", "pam_ldap": "ldap (a directory)", "pam_ldapd": "ldap (a directory)",
	"pam_winbind": "winbind (a Windows domain)",
	"pam_krb5":    "krb5 (a Kerberos realm)", "pam_krb5_migrate": "krb5 (a Kerberos realm)", "pam_lsass": "lsass (a Windows domain)",
	"pam_userdb": "a database of its own",
	"pam_mysql":  "a database of its own", "pam_pgsql": "a database of its own", "pam_radius_auth": "radius (a server)",
	"pam_tacplus": "tacacs (a server)"}

// nameServices are the sources of nsswitch.conf(5) that hold accounts of other
// places.
var nameServices = map[string]string{"sss": directories["pam_sss"], "ldap": directories["pam_ldap"], "winbind": directories["pam_winbind"],
	"nis": "nis (a NIS domain)", "nisplus": "nis (a NIS domain)",
	"compat": "", "hesiod": "hesiod (a name server)"}

// otherSources remarks on the places, other than passwd, whose accounts the
// machine takes.
func (r *reader) otherSources() {
	for _, service := range r.pam.names {
		for _, kind := range []string{"auth", "account"} {
			stack, _ := r.pam.own(service, kind)
			for i := range stack {
				if name := directories[stack[i].module]; name != "" {
					r.elsewhere = append(r.elsewhere, source{name, service, stack[i].cite})
				}
			}
		}
	}
	if p := r.file("etc/nsswitch.conf"); p != nil {
		for i, text := range strings.Split(string(p.Data), "\n") {
			text, _, _ = strings.Cut(text, "#")
			database, list, _ := strings.Cut(text, ":")
			if database = strings.TrimSpace(database); database != "passwd" && database != "shadow" && database != "passwd_compat" {
				continue
			}
			for _, word := range strings.Fields(list) {
				if name := nameServices[word]; name != "" {
					r.elsewhere = append(r.elsewhere, source{name, "nsswitch.conf", cite(p, i+1, database, strings.TrimSpace(text))})
				}
			}
		}
	}
	if len(r.elsewhere) == 0 {
		return
	}
	var names []string
	var at []estate.Cite
	for _, s := range r.elsewhere {
		if !slices.Contains(names, s.name) {
			names, at = append(names, s.name), append(at, s.cite)
		}
	}
	r.remark(estate.Elsewhere, "",
		fmt.Sprintf("the machine takes accounts from elsewhere too: %s. They, and what governs their passwords, are not in its own files",
			strings.Join(names, ", ")),
		"Gather the place that holds them, and name it in engagement.yaml (expect: authorities).", nil, at...)
}

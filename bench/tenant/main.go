// Command tenant writes the exports of a directory tenant of a cloud: many users, of
// whom one in three comes from a domain. The same for the same number.
//
//	go run ./bench/tenant -users 100000 DIR
package main

import (
	"bufio"
	"flag"
	"fmt"
	"os"
	"path/filepath"
)

// beside are the small exports that belong to it.
var beside = map[string]string{
	"domains.json": `{"@odata.context": "https://directory.cloud.example/v1.0/$metadata#domains", "value": [
{"id": "marrowick.example", "authenticationType": "Managed", "isInitial": false, "passwordValidityPeriodInDays": 2147483647},
{"id": "marrowick.initial.example", "authenticationType": "Managed", "isInitial": true, "passwordValidityPeriodInDays": 2147483647}]}
`,
	"groupSettings.json": `{"@odata.context": "https://directory.cloud.example/v1.0/$metadata#groupSettings", "value": []}
`,
	"agents.json": `{"@odata.context": "https://directory.cloud.example/v1.0/$metadata#onPremisesPublishingProfiles", "value": []}
`,
	"onPremisesSynchronization.json": `{"@odata.context": "https://directory.cloud.example/v1.0/$metadata#onPremisesSynchronization",
"value": [
{"id": "s", "features": {"passwordSyncEnabled": true, "cloudPasswordPolicyForPasswordSyncedUsersEnabled": false}}]}
`,
}

func main() {
	users := flag.Int("users", 100_000, "users")
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "tenant: name the folder to write to")
		os.Exit(2)
	}
	if err := write(flag.Arg(0), *users); err != nil {
		fmt.Fprintln(os.Stderr, "tenant:", err)
		os.Exit(1)
	}
}

func write(dir string, users int) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, text := range beside {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	f, err := os.Create(filepath.Join(dir, "users.json"))
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	fmt.Fprint(w, `{
  "@odata.context": "https://directory.cloud.example/v1.0/$metadata#users",
  "value": [`)
	for i := range users {
		synced, domain, account, sid := "null", "null", "null", "null"
		if i%3 == 0 {
			synced, domain = "true", `"marrowick.example"`
			account, sid = fmt.Sprintf(`"user%06d"`, i), fmt.Sprintf(`"S-1-5-21-1111111111-2222222222-3333333333-%d"`, 1000+i)
		}
		if i > 0 {
			fmt.Fprint(w, ",")
		}
		fmt.Fprintf(w, `
    {
      "id": "7a%06d-1111-4222-8333-%012d",
      "userPrincipalName": "user%06d@marrowick.example",
      "displayName": "User Number %d",
      "accountEnabled": %v,
      "userType": "Member",
      "passwordPolicies": "None",
      "lastPasswordChangeDateTime": "2026-%02d-14T07:31:05Z",
      "onPremisesSyncEnabled": %s,
      "onPremisesDomainName": %s,
      "onPremisesSamAccountName": %s,
      "onPremisesSecurityIdentifier": %s
    }`, i, i, i, i, i%50 != 0, 1+i%9, synced, domain, account, sid)
	}
	fmt.Fprint(w, "\n  ]\n}\n")
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

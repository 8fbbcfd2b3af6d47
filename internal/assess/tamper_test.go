package assess

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sternledger/internal/collect"
	"sternledger/internal/custody"
)

// smallAudit is an engagement with two gathers and two weighings, whose ledger has
// several rows in every table.
func smallAudit(t *testing.T) string {
	t.Helper()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	clock := func() time.Time { now = now.Add(time.Minute); return now }
	dir, from := filepath.Join(t.TempDir(), "audit"), t.TempDir()
	if err := custody.Begin(t.Context(), dir, "Small", "R. Quill", clock); err != nil {
		t.Fatal(err)
	}
	put := func(name, text string) string {
		file := filepath.Join(from, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	config := "title: Small\nauditor: R. Quill\nbaselines: [cis-debian-12]\n"
	if err := os.WriteFile(filepath.Join(dir, custody.ConfigName), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	domain := func(length int, accounts ...string) string {
		text := fmt.Sprintf("dn: DC=x,DC=example\nobjectClass: domainDNS\nminPwdLength: %d\nmaxPwdAge: 0\nlockoutThreshold: 0\npwdProperties: 1\n"+
			"pwdHistoryLength: 24\nminPwdAge: -864000000000\noEMInformation: Samba\nobjectSid: S-1-5-21-1-2-3\n\n", length)
		for i, name := range accounts {
			text += fmt.Sprintf("dn: CN=%s,CN=Users,DC=x,DC=example\nobjectClass: user\nsAMAccountName: %s\nobjectSid: S-1-5-21-1-2-3-%d\n"+
				"userAccountControl: 512\npwdLastSet: 13%d\nbadPwdCount: %d\n\n", name, name, 1100+i, 3000000000000000+i, i+1)
		}
		return text
	}
	put("gate1/etc/shadow", "root:*:20000:0:99999:7:::\nada:$6$x$y:20000:0:99999:7:::\nodd\n")
	put("gate1/etc/passwd", "root:x:0:0::/root:/bin/sh\nada:x:1000:1000::/h:/bin/sh\nshort\nlines\n")
	put("gate1/etc/login.defs", "PASS_MAX_DAYS 99999\n")
	e, err := custody.Open(t.Context(), dir, clock, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	for round, length := range []int{7, 14} {
		gathered := []string{put(fmt.Sprintf("x%d.ldif", round), domain(length, "ada", "ben", "cy")), filepath.Join(from, "gate1")}
		if _, err := collect.Gather(e, gathered[:2-round], collect.GatherOptions{}); err != nil {
			t.Fatal(err)
		}
		if _, err := Weigh(e, custody.WeighOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// tampered opens a copy of an engagement after a statement was run on its ledger, and
// says what verify finds; empty: nothing.
func tampered(t *testing.T, dir, statement string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "copy")
	if err := os.CopyFS(to, os.DirFS(dir)); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", filepath.Join(to, "ledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	var stay, last string
	if err := db.QueryRow("SELECT (SELECT sql FROM sqlite_schema WHERE name = 'entries_stay'), (SELECT sql FROM sqlite_schema WHERE name = 'entries_last')").
		Scan(&stay, &last); err != nil {
		t.Fatal(err)
	}
	_, err = db.Exec("DROP TRIGGER entries_stay; DROP TRIGGER entries_last; " + statement + "; " + stay + "; " + last)
	db.Close()
	if err != nil {
		return "the database itself: " + err.Error() // it takes no such row
	}
	e, err := custody.Open(t.Context(), to, time.Now, Judge)
	if err != nil {
		return err.Error()
	}
	defer e.Close()
	v, err := e.Verify()
	if err != nil {
		return err.Error()
	}
	var all []string
	for _, f := range v.Failures {
		all = append(all, f.Text)
	}
	return strings.Join(all, "; ")
}

// words are what a failure names, by table.
var words = map[string][]string{"entries": {""}, "evidence": {"evidence", "file"}, "problems": {"not understood"}, "holdings": {"facts"},
	"chunks": {"facts"}, "records": {"record", "weighing"}, "texts": {"text"}}

// Whatever is changed in the ledger, in any column of any row of any table, exchanged
// between rows, added or taken away, is found, and said.
func TestEveryAlterationIsFound(t *testing.T) {
	dir := smallAudit(t)
	if said := tampered(t, dir, "SELECT 1"); said != "" {
		t.Fatalf("nothing was altered: %s", said)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, "ledger.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	strs := func(query string) (all []string) {
		t.Helper()
		rows, err := db.Query(query)
		if err != nil {
			t.Fatal(query, err)
		}
		defer rows.Close()
		for rows.Next() {
			var one string
			if err := rows.Scan(&one); err != nil {
				t.Fatal(err)
			}
			all = append(all, one)
		}
		return all
	}
	tried := 0
	try := func(table, statement string) {
		tried++
		t.Run(fmt.Sprint(table, " ", tried), func(t *testing.T) {
			t.Parallel()
			said := tampered(t, dir, statement)
			if said == "" || !slices.ContainsFunc(words[table], func(w string) bool { return strings.Contains(said, w) }) && !strings.Contains(said, "the database") {
				t.Errorf("%s: %q", statement, said)
			}
		})
	}
	for _, table := range strs("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'") {
		ids := strs("SELECT rowid FROM " + table + " ORDER BY rowid")
		if len(ids) == 0 {
			if table != "weighings" { // of versions before records
				t.Errorf("%s has no rows: the test tests too little", table)
			}
			continue
		}
		some := []string{ids[0], ids[len(ids)/2], ids[len(ids)-1]}
		columns, types := strs("SELECT name FROM pragma_table_info('"+table+"')"), strs("SELECT type FROM pragma_table_info('"+table+"')")
		for i, column := range columns {
			other := map[string]string{"INTEGER": " + 1000", "TEXT": " || 'x'", "BLOB": ""}[types[i]]
			value := column + other
			if types[i] == "BLOB" {
				value = "CAST(CAST(" + column + " AS TEXT) || 'x' AS BLOB)"
			}
			for _, id := range slices.Compact(slices.Clone(some)) {
				try(table, fmt.Sprintf("UPDATE %s SET %s = %s WHERE rowid = %s", table, column, value, id))
			}
			if len(ids) > 1 && strs(fmt.Sprintf("SELECT count(DISTINCT %s) FROM %s WHERE rowid IN (%s, %s)", column, table, some[0], some[2]))[0] == "2" {
				a, b := some[0], some[2]
				free := "'a name that no row has'"
				if types[i] == "INTEGER" {
					free = "987654"
				}
				// As one statement would not do for what is unique.
				try(table, fmt.Sprintf("CREATE TEMP TABLE x AS SELECT (SELECT %[1]s FROM %[2]s WHERE rowid = %[3]s) AS a, (SELECT %[1]s FROM %[2]s WHERE rowid = %[4]s) AS b, "+
					"(SELECT rowid FROM %[2]s WHERE rowid = %[3]s) AS ra; UPDATE %[2]s SET %[1]s = CASE WHEN typeof(%[1]s) = 'blob' THEN CAST(%[5]s AS BLOB) ELSE %[5]s END "+
					"WHERE rowid = %[3]s; UPDATE %[2]s SET %[1]s = (SELECT a FROM x) WHERE rowid = %[4]s; "+
					"UPDATE %[2]s SET %[1]s = (SELECT b FROM x) WHERE %[1]s = CASE WHEN typeof(%[1]s) = 'blob' THEN CAST(%[5]s AS BLOB) ELSE %[5]s END", column, table, a, b, free))
			}
		}
		try(table, fmt.Sprintf("DELETE FROM %s WHERE rowid = %s", table, some[0]))
		try(table, fmt.Sprintf("DELETE FROM %s WHERE rowid = %s", table, some[1]))
	}
	last := strs("SELECT max(seq) FROM entries")[0] // of a weighing, which vouches for no facts
	for table, statement := range map[string]string{
		"evidence": "INSERT INTO evidence SELECT 'new', entry, path, format, size, written, sha256, stored_sha256, struck, tree, part FROM evidence LIMIT 1",
		"problems": "INSERT INTO problems SELECT " + last + ", file, line, place, raw, text FROM problems LIMIT 1",
		"holdings": "INSERT INTO holdings (entry, subject, body) SELECT " + last + ", subject, body FROM holdings LIMIT 1",
		"chunks":   "INSERT INTO chunks SELECT holding, 'other', 0, data FROM chunks LIMIT 1",
		"records":  "INSERT INTO records SELECT 9, 2, data FROM records LIMIT 1",
		"texts":    "INSERT INTO texts VALUES ('3a6eb0790f39ac87c94f3856b2dd2c5d110e6811602261a9a923d3bb23adc8b7', 'data')",
	} {
		try(table, statement)
	}
	for table, statement := range map[string]string{
		// What superseded facts would need to count again.
		"holdings": "UPDATE holdings SET id = 1000 WHERE id = 1; UPDATE chunks SET holding = 1000 WHERE holding = 1",
		"chunks":   "UPDATE chunks SET name = 'ends' WHERE name = 'failures'",
	} {
		try(table, statement)
	}
	try("holdings", "INSERT INTO holdings (entry, subject, body) SELECT entry, subject, body FROM holdings WHERE entry = (SELECT max(entry) FROM holdings)")
	t.Logf("%d alterations tried", tried)
}

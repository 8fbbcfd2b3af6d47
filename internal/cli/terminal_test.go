//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// onTerminal runs the program on a terminal and returns what it is sent.
func onTerminal(t *testing.T, dir string, args ...string) []byte {
	t.Helper()
	ours, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Skip("no terminals here: ", err)
	}
	defer ours.Close()
	number, err := unix.IoctlGetInt(int(ours.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(ours.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, theirs, theirs
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "TERM=xterm-256color")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	theirs.Close()
	var sent bytes.Buffer
	sent.ReadFrom(ours) // ends with an error when the other side is closed
	if err := cmd.Wait(); err != nil {
		t.Fatalf("%s: %v %s", args, err, sent.Bytes())
	}
	return sent.Bytes()
}

// What a terminal might obey is never sent to one, whatever the form.
func TestTerminalIsSentNothingToObey(t *testing.T) {
	beside(t)
	dir := begin(t)
	hostile := "\x1b]0;owned\x07\x1b[31m a\u009b31m \u202eevil\u2066 \u200b\ufeff \U000e0041 \r"
	people := []map[string]any{{"id": "1", "userPrincipalName": "ada" + hostile + "@x.example", "displayName": hostile,
		"accountEnabled": true}}
	data, err := json.Marshal(map[string]any{"value": people})
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "in", "users.json"), string(data))
	must(t, dir, "gather", filepath.Join(dir, "in"))
	for _, args := range [][]string{{"accounts"}, {"accounts", "--format", "csv"}, {"accounts", "--format", "json"},
		{"accounts", "--format", "markdown"}, {"scopes", "--format", "json"}, {"weigh", "--format", "csv"}, {"entries", "--format", "json"}} {
		sent := string(onTerminal(t, dir, args...))
		if !strings.Contains(sent, "ada") && args[0] == "accounts" {
			t.Errorf("%s: %q", args, sent)
		}
		for _, bad := range []string{"\x1b", "\x07", "\u009b", "\u202e", "\u2066", "\u200b", "\ufeff", "\U000e0041", "\r\r", " \r@"} {
			if strings.Contains(sent, bad) {
				t.Errorf("%s: %q was sent: %.300q", args, bad, sent)
			}
		}
	}
	// In a file CSV is as it is, and JSON says the same.
	if out := must(t, dir, "accounts", "--format", "csv"); !strings.Contains(out, "\u202e") {
		t.Error("CSV for other programs was changed")
	}
	if name := at(document(t, dir, "accounts"), "accounts", 0, "account"); !strings.Contains(fmt.Sprint(name), "\U000e0041") {
		t.Errorf("JSON says %q", name)
	}
}

//go:build unix

package cli_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// leftovers are files and folders below a folder that only a run under way may
// have.
func leftovers(t *testing.T, dir string) (found []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(file string, d os.DirEntry, err error) error {
		name := filepath.Base(file)
		for _, prefix := range []string{".incoming-", ".writing-", ".packing-", ".unpacking-", "sternledger-", "stand-in-"} {
			if strings.HasPrefix(name, prefix) {
				found = append(found, file)
			}
		}
		if strings.HasSuffix(name, "-journal") || strings.HasSuffix(name, "-wal") {
			found = append(found, file)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// under returns an engagement in a folder of its own, with its long commands.
func under(t *testing.T) (home, dir string, commands [][]string) {
	t.Helper()
	home = t.TempDir()
	dir = filepath.Join(home, "audit")
	if out, err := runIn(home, "begin", dir, "--quiet"); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	must(t, dir, "gather", write(t, filepath.Join(home, "d0.ldif"), manyAccounts("d0", 8000)))
	must(t, dir, "weigh")
	must(t, dir, "pack", filepath.Join(home, "whole.zip"))
	large := write(t, filepath.Join(home, "d1.ldif"), manyAccounts("d1", 25_000))
	return home, dir, [][]string{{"gather", large}, {"report", "--replace", "--to", filepath.Join(home, "r.html"), "--to",
		filepath.Join(home, "r.xlsx")},
		{"pack", filepath.Join(home, "again.zip")}, {"begin", filepath.Join(home, "copy"), "--from", filepath.Join(home, "whole.zip")}}
}

// Told to end, the program says so, and leaves nothing that was not finished.
func TestToldToEnd(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 2))
	home, dir, commands := under(t)
	told := 0
	for i := range 32 {
		args := commands[i%len(commands)]
		signal := []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP}[i%3]
		var errs strings.Builder
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Stderr = dir, &errs
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(10+rnd.IntN(140)) * time.Millisecond)
		_ = cmd.Process.Signal(signal)
		err := cmd.Wait()
		var ended *exec.ExitError
		switch {
		case err == nil: // it was done already
			os.Remove(filepath.Join(home, "again.zip"))
			os.RemoveAll(filepath.Join(home, "copy"))
			if args[0] == "gather" {
				write(t, args[1], manyAccounts("d1", 25_000+i)) // another one
			}
		case !errors.As(err, &ended):
			t.Fatal(err)
		case ended.ExitCode() == -1:
			// The signal came before the program could hear it.
		default:
			told++
			if want := map[bool]int{true: 130, false: 143}[signal == syscall.SIGINT]; ended.ExitCode() != want ||
				!strings.Contains(errs.String(), "what was not finished is undone") {
				t.Errorf("%s, %s: status %d, %q", args[0], signal, ended.ExitCode(), errs.String())
			}
			if left := leftovers(t, home); len(left) > 0 {
				t.Errorf("%s, %s: left %v", args[0], signal, left)
			}
		}
		sound(t, dir)
	}
	if told < 5 {
		t.Errorf("only %d were told in time", told)
	}
	must(t, dir, "verify")
}

// What a killed run left, the next one of its kind removes; what only looks like
// it stays.
func TestLeftoversOfAKill(t *testing.T) {
	t.Parallel()
	home, dir, commands := under(t)
	mine := filepath.Join(home, ".writing-mine")
	write(t, filepath.Join(mine, "notes"), "mine")
	for _, args := range commands {
		seen := false
		for wait := 5; wait < 400 && !seen; wait += 7 {
			cmd := start(t, func() *exec.Cmd {
				cmd := exec.Command(program, args...)
				cmd.Dir = dir
				return cmd
			})
			time.Sleep(time.Duration(wait) * time.Millisecond)
			cmd.Process.Kill()
			if cmd.Wait() == nil {
				os.Remove(filepath.Join(home, "again.zip"))
				os.RemoveAll(filepath.Join(home, "copy"))
				if args[0] == "gather" {
					write(t, args[1], manyAccounts("d1", 25_000+wait))
				}
			}
			seen = len(leftovers(t, home)) > 1
		}
		if !seen {
			t.Errorf("%s: no kill left anything: this proves nothing", args[0])
		}
		os.Remove(filepath.Join(home, "again.zip"))
		os.RemoveAll(filepath.Join(home, "copy"))
		if out, err := runIn(dir, args...); err != nil {
			t.Errorf("%s, after a kill: %v %s", args[0], err, out)
		}
		if left := leftovers(t, home); len(left) != 1 || left[0] != mine {
			t.Errorf("%s: left %v", args[0], left)
		}
	}
}

// A live collection that is told to end leaves nothing of what it was answered.
func TestLiveToldToEnd(t *testing.T) {
	address, options := standIn(t, "--page-size", "1", "--throttle", "2")
	tmp := t.TempDir()
	for i := range 6 {
		dir := begin(t)
		cmd := exec.Command(program, append([]string{"gather", address}, options...)...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "TMPDIR="+tmp)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(20+15*i) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		if left := append(leftovers(t, dir), leftovers(t, tmp)...); len(left) > 0 {
			t.Error(fmt.Sprint("left ", left))
		}
		sound(t, dir)
	}
}

package cli

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"sternledger/internal/page"
)

// usualWidth is that of what goes to a file or pipe.
const usualWidth = 100

// screenOf returns the terminal that output goes to, with its size; nil where it
// goes elsewhere.
func screenOf(w io.Writer) (f *os.File, width, height int) {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil, 0, 0
	}
	width, height, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return f, usualWidth, 0
	}
	return f, width, height
}

// width is that of the page: the terminal's, or what COLUMNS says, or the usual.
func width(w io.Writer) int {
	if f, width, _ := screenOf(w); f != nil {
		return width
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	return usualWidth
}

// sheet is an empty page, which will say how old the evidence is.
func (s *shared) sheet(w io.Writer, width int) *page.Sheet {
	sheet := page.NewSheet(w, width)
	if s.age != nil {
		sheet.Age = *s.age
	}
	return sheet
}

// draw draws a page: with the colours that the terminal shows, and through the
// pager where it is longer than the terminal.
func (s *shared) draw(w io.Writer, text func(*page.Sheet) error) error {
	profile := colorprofile.NoTTY
	f, _, height := screenOf(w)
	if f != nil && !s.noColour && os.Getenv("NO_COLOR") == "" {
		profile = min(colorprofile.Detect(w, os.Environ()), colorprofile.ANSI)
	}
	if f == nil || s.noPager || height == 0 {
		return text(s.sheet(&colorprofile.Writer{Forward: w, Profile: profile}, width(w)))
	}
	var drawn bytes.Buffer
	if err := text(s.sheet(&colorprofile.Writer{Forward: &drawn, Profile: profile}, width(w))); err != nil {
		return err
	}
	pager := pagerCommand()
	if len(pager) == 0 || bytes.Count(drawn.Bytes(), []byte("\n")) < height {
		_, err := w.Write(drawn.Bytes())
		return err
	}
	cmd := exec.Command(pager[0], pager[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(drawn.Bytes()), f, os.Stderr
	if os.Getenv("LESS") == "" {
		cmd.Env = append(os.Environ(), "LESS=-FRX") // colours, and nothing cleared
	}
	if err := cmd.Start(); err != nil {
		_, err := w.Write(drawn.Bytes())
		return err
	}
	return cmd.Wait()
}

// pagerCommand is the user's pager with its arguments; none where it is unset.
func pagerCommand() []string { return strings.Fields(os.Getenv("PAGER")) }

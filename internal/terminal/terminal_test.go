package terminal

import (
	"bytes"
	"encoding/json"
	"testing"
)

// However the output is cut into pieces, no character gets through.
func TestPiecesOfCharacters(t *testing.T) {
	const text = "a\u009bb\u202ec\U000e0041d\x1be \u00e4\n"
	for cut := range len(text) {
		var shown, escaped bytes.Buffer
		a, b := Shown(&shown), EscapedJSON(&escaped)
		for _, piece := range []string{text[:cut], text[cut:]} {
			a.Write([]byte(piece))
			b.Write([]byte(piece))
		}
		if got, want := shown.String(), "a\ufffdb\ufffdc\ufffdd\ufffde \u00e4\n"; got != want {
			t.Errorf("cut at %d: %q, want %q", cut, got, want)
		}
		if got, want := escaped.String(), `a\u009bb\u202ec\udb40\udc41d\u001be `+"\u00e4\n"; got != want {
			t.Errorf("cut at %d: %q, want %q", cut, got, want)
		}
	}
	var out bytes.Buffer
	if err := json.NewEncoder(EscapedJSON(&out)).Encode(text); err != nil {
		t.Fatal(err)
	}
	var back string
	if err := json.Unmarshal(out.Bytes(), &back); err != nil || back != text {
		t.Errorf("%s is read back as %q: %v", out.Bytes(), back, err)
	}
}

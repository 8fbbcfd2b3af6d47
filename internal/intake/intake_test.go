package intake

import (
	"io"
	"strings"
	"testing"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/unicode"
)

// Names in a code page that is not known are told; those of the known ones are read.
func TestCodePages(t *testing.T) {
	for text, c := range map[string]struct {
		in    encoding.Encoding
		other bool
	}{
		"Müller, José O’Brien – Größe":   {charmap.Windows1252, false},
		"Müller, José, Größe, façade":    {charmap.CodePage850, false},
		"Muller":                         {charmap.Windows1252, false},
		"Zażółć gęślą jaźń":              {charmap.Windows1250, true},
		"Иванов Пётр":                    {charmap.Windows1251, true},
		"Иванов Пётр Иванович":           {charmap.CodePage866, true},
		"Παπαδόπουλος Γιώργος":           {charmap.Windows1253, true},
		"山田太郎":                           {japanese.ShiftJIS, true},
		"김철수 사용자":                        {korean.EUCKR, true},
		"Иванов, by UTF-8":               {encoding.Nop, false},
		"山田太郎, by UTF-16":                {unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), false},
		"Ångström Åse, Bjørn, Øyvind Æs": {charmap.Windows1252, false},
	} {
		raw, err := c.in.NewEncoder().Bytes([]byte("name,length\n" + text + ",8\n"))
		if err != nil {
			t.Fatal(err)
		}
		if got := InOtherPage(raw); got != c.other {
			t.Errorf("%s: %v", text, got)
		}
		d := Decoder(strings.NewReader(string(raw)))
		decoded, err := io.ReadAll(d)
		if err != nil || d.OtherPage != c.other {
			t.Errorf("%s, streamed: %v %v", text, d.OtherPage, err)
		}
		if whole, err := Decode(raw); err != nil || !c.other && (!strings.Contains(string(whole), text) || !strings.Contains(string(decoded), text)) {
			t.Errorf("%s: %q and %q, %v", text, whole, decoded, err)
		}
	}
}

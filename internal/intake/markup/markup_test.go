package markup

import (
	"strings"
	"testing"

	"sternledger/internal/intake"
)

// kept is what is kept of a document of which elements, or attributes, of those names are
// read.
func kept(text string, read ...string) (string, error) {
	is := func(name string) bool { return strings.Contains(" "+strings.Join(read, " ")+" ", " "+name+" ") }
	t := &intake.Text{Bytes: []byte(text)}
	err := Walk(t, &Visitor{
		Close: func(stack []Element, _ string) (string, bool) { return "", is(stack[len(stack)-1].Name) },
		Attr:  func(name, _ string) (string, bool) { return name, is(name) }})
	return strings.ReplaceAll(string(t.Kept()), "[not kept]", "~"), err
}

// Whatever stands in a document, wherever, is kept only where somebody reads it; the copy
// has the same lines, and is a document again.
func TestAllIsJudged(t *testing.T) {
	for in, want := range map[string]string{
		"<a>x</a>":                                     "<a>~</a>",
		"<r>x</r>":                                     "<r>x</r>",
		"<r>x &amp; y<!-- z --></r>":                   "<r>x &amp; y<!--~--></r>",
		"<r>{SSHA}x1234</r>":                           "<r>[struck out]</r>",
		"<a b='x' c=\"y\">\n</a>":                      "<a b='~' c=\"~\">\n</a>",
		"<a r='x' c=\"y\"/>":                           "<a r='x' c=\"~\"/>",
		"<a b='&#120;'/>":                              "<a b='~'/>",
		"<a x9y8z7='q'/>":                              "<a not-kept-0='~'/>",
		"<x9y8z7>q</x9y8z7>":                           "<not-kept>~</not-kept>",
		"<a><!-- x -->y</a>":                           "<a>~</a>",
		"<a>y<!-- x\n -->\nz</a>":                      "<a>~\n\n</a>",
		"<a><!-- x --></a>":                            "<a><!--~--></a>",
		"<a>x<b>y</b>z</a>":                            "<a>~<b>~</b>~</a>",
		"<r>x<b>y</b>z</r>":                            "<r>~<b>~</b>~</r>",
		"<a>x<!-- y --><b>z</b></a>":                   "<a>~<!--~--><b>~</b></a>",
		"<a><![CDATA[x]]></a>":                         "<a>~</a>",
		"<?xml version=\"1.0\"?><a>x</a>":              "<?xml version=\"1.0\"?><a>~</a>",
		"<?xml version='1.0' encoding='utf-8'?>\n<a/>": "<?xml version='1.0' encoding='utf-8'?>\n<a/>",
		"<?xml version='1.0' x='y'?><a/>":              "<?xml ?><a/>",
		"<?pi x\ny?><a>z</a>":                          "<?pi \n?><a>~</a>",
		"<!DOCTYPE a><a/>":                             "<!DOCTYPE a><a/>",
		"<!DOCTYPE a [<!ENTITY x \"y\">]>\n<a/>":       "<!DOCTYPE a >\n<a/>",
		"<!DOCTYPE a SYSTEM 'x'><a/>":                  "<!DOCTYPE a ><a/>",
		"<!-- x --><a/><!-- y -->":                     "<!--~--><a/><!--~-->",
	} {
		if got, err := kept(in, "r"); err != nil || got != want {
			t.Errorf("of %q is kept %q (%v), want %q", in, got, err, want)
		}
	}
	for in, line := range map[string]int{"<a>\n<b></a>": 2, strings.Repeat("<a>", maxDepth+2): 1} {
		_, err := kept(in)
		if e, ok := err.(*Error); !ok || e.Line != line {
			t.Errorf("%.20q: %v", in, err)
		}
	}
}

func FuzzWalk(f *testing.F) {
	f.Add("<?xml version=\"1.0\"?><!DOCTYPE a><a b='c'>\n<!-- d -->e<f>g</f><?h i?>\n</a>")
	f.Add("<a>x<!-- y -->z<b/><![CDATA[q]]></a>")
	f.Fuzz(func(t *testing.T, text string) {
		copied, err := kept(text)
		if err != nil {
			return
		}
		if strings.Count(copied, "\n") < strings.Count(text, "\n") {
			t.Fatalf("%q: %q", text, copied)
		}
		if _, err := kept(copied); err != nil {
			t.Errorf("of %q is kept %q, which is none: %v", text, copied, err)
		}
	})
}

package markup

import (
	"strings"
	"testing"
)

// everything judges all of a document the same way.
func everything(of func(text string) string) *Visitor {
	judge := func(text string) string {
		if strings.TrimSpace(text) == "" {
			return text
		}
		return of(text)
	}
	return &Visitor{Close: func(stack []Element, text string) string { return judge(text) }, Loose: judge,
		Attr: func(_, value string) string { return judge(value) }}
}

func dropped(string) string { return "~" }

// Whatever stands in a document, wherever, comes before somebody who says whether it
// is kept; the copy has the same lines, and is a document again.
func TestAllIsJudged(t *testing.T) {
	for in, want := range map[string]string{
		"<a>x</a>":                                     "<a>~</a>",
		"<a b='x' c=\"y\">\n</a>":                      "<a b='~' c=\"~\">\n</a>",
		"<a b='&#120;'/>":                              "<a b='~'/>",
		"<a><!-- x -->y</a>":                           "<a>~</a>",
		"<a>y<!-- x\n -->\nz</a>":                      "<a>~\n\n</a>",
		"<a><!-- x --></a>":                            "<a><!----></a>",
		"<a>x<b>y</b>z</a>":                            "<a>~<b>~</b>~</a>",
		"<a>x<!-- y --><b>z</b></a>":                   "<a>~<b>~</b></a>",
		"<a><!-- y -->\n<b>z</b></a>":                  "<a><!---->\n<b>~</b></a>",
		"<a><![CDATA[x]]></a>":                         "<a>~</a>",
		"<a><b/>x<![CDATA[y]]><c/></a>":                "<a><b/>~~<c/></a>",
		"<?xml version=\"1.0\"?><a>x</a>":              "<?xml version=\"1.0\"?><a>~</a>",
		"<?xml version='1.0' encoding='utf-8'?>\n<a/>": "<?xml version='1.0' encoding='utf-8'?>\n<a/>",
		"<?xml version='1.0' x='y'?><a/>":              "<?xml ?><a/>",
		"<?pi x\ny?><a>z</a>":                          "<?pi \n?><a>~</a>",
		"<a>x<?pi y?>z</a>":                            "<a>~</a>",
		"<a><?pi y?><b/></a>":                          "<a><?pi ?><b/></a>",
		"<!DOCTYPE a><a/>":                             "<!DOCTYPE a><a/>",
		"<!DOCTYPE a [<!ENTITY x \"y\">]>\n<a/>":       "<!DOCTYPE a >\n<a/>",
		"<!DOCTYPE a SYSTEM 'x'><a/>":                  "<!DOCTYPE a ><a/>",
		"<!-- x --><a/><!-- y -->":                     "<!----><a/><!---->",
	} {
		// A comment's mark is none: what is kept of it is empty, unless all of it is.
		v := everything(dropped)
		v.Loose = func(text string) string {
			if strings.TrimSpace(text) == "" {
				return text
			}
			if strings.Contains(in, "<!--"+text+"-->") {
				return ""
			}
			return "~"
		}
		got, err := Walk([]byte(in), v)
		if err != nil || string(got) != want {
			t.Errorf("of %q is kept %q (%v), want %q", in, got, err, want)
		}
	}
	for in, line := range map[string]int{"<a>\n<b></a>": 2, strings.Repeat("<a>", maxDepth+2): 1} {
		_, err := Walk([]byte(in), everything(dropped))
		if e, ok := err.(*Error); !ok || e.Line != line {
			t.Errorf("%.20q: %v", in, err)
		}
	}
}

func FuzzWalk(f *testing.F) {
	f.Add("<?xml version=\"1.0\"?><!DOCTYPE a><a b='c'>\n<!-- d -->e<f>g</f><?h i?>\n</a>")
	f.Add("<a>x<!-- y -->z<b/><![CDATA[q]]></a>")
	f.Fuzz(func(t *testing.T, text string) {
		same, err := Walk([]byte(text), everything(func(text string) string { return text }))
		if err != nil {
			return
		}
		if string(same) != text {
			t.Errorf("%q became %q", text, same)
		}
		kept, err := Walk([]byte(text), everything(dropped))
		if err != nil || strings.Count(string(kept), "\n") < strings.Count(text, "\n") {
			t.Fatalf("%q: %v, %q", text, err, kept)
		}
		if _, err := Walk(kept, everything(dropped)); err != nil {
			t.Errorf("of %q is kept %q, which is none: %v", text, kept, err)
		}
	})
}

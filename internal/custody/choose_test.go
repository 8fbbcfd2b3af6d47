package custody

import (
	"strings"
	"testing"
)

// What is chosen is written in the place of what was, and nothing else changes.
func TestBaselinesAreWritten(t *testing.T) {
	for _, c := range []struct{ name, was, is string }{
		{"one line", "title: x\nbaselines: [a]\ntiers: {}\n", "title: x\nbaselines: [p, q]\ntiers: {}\n"},
		{"a list below", "baselines:\n  - a\n  - b\n\n# tiers\nauditor: x\n", "baselines: [p, q]\n\n# tiers\nauditor: x\n"},
		{"a list at the edge", "baselines:\n- a\n- b\nauditor: x\n", "baselines: [p, q]\nauditor: x\n"},
		{"a list over lines", "baselines: [a,\n  b,\n]\nauditor: x\n", "baselines: [p, q]\nauditor: x\n"},
		{"none", "title: x", "title: x\nbaselines: [p, q]\n"},
		{"an empty file", "", "baselines: [p, q]\n"},
		{"remarks within it", "baselines: # ours\n  - a # by contract\n  # later: c\n  - b\nauditor: x\n", "# ours\n# by contract\n# later: c\nbaselines: [p, q]\nauditor: x\n"},
		{"line ends of Windows", "title: x\r\nbaselines: [a]\r\nauditor: x\r\n", "title: x\r\nbaselines: [p, q]\r\nauditor: x\r\n"},
		{"those of a place", "authorities:\n  x.example:\n    baselines: [a]\nbaselines: [b]\n", "authorities:\n  x.example:\n    baselines: [a]\nbaselines: [p, q]\n"},
		{"a text that only looks so", "title: |\n  baselines: [a]\nauditor: x\n", "title: |\n  baselines: [a]\nauditor: x\nbaselines: [p, q]\n"},
		{"one of two in a line", "{title: x, baselines: [a]}\n", ""},
		{"a key in quotes", "\"baselines\": [a]\ntitle: x\n", ""},
	} {
		got, err := withBaselines(c.was, []string{"p", "q"})
		switch {
		case c.is == "" && (err == nil || !strings.Contains(err.Error(), "write [p, q] there")):
			t.Errorf("%s: %q, %v; expected a refusal", c.name, got, err)
		case c.is != "" && (err != nil || got != c.is):
			t.Errorf("%s: %q, %v; want %q", c.name, got, err, c.is)
		}
	}
}

package benchmark

import "strings"

// classes are POSIX's, which the engine for Perl's patterns does not know.
var classes = map[string]string{"alnum": `a-zA-Z0-9`, "alpha": `a-zA-Z`, "blank": ` \t`, "cntrl": `\x00-\x1f\x7f`, "digit": `0-9`,
	"graph": `\x21-\x7e`, "lower": `a-z`, "print": `\x20-\x7e`, "punct": "!-/:-@\\[-`{-~", "space": `\t\n\x0b\f\r `, "upper": `A-Z`,
	"word": `a-zA-Z0-9_`, "xdigit": `a-fA-F0-9`}

// translated writes in words that both engines have what Perl's patterns have besides: \h and
// POSIX's classes, and quantifiers that give nothing back, which are groups that do not.
// What it does not know it leaves, for an engine to refuse.
func translated(text string) string {
	var out strings.Builder
	last := 0 // where in out the last atom begins
	var open []int
	for i := 0; i < len(text); {
		rest := text[i:]
		switch {
		case strings.HasPrefix(rest, `\Q`):
			end := strings.Index(rest, `\E`)
			if end < 0 {
				end = len(rest)
			}
			for _, c := range []byte(rest[2:end]) {
				last = out.Len()
				if strings.IndexByte(`\.+*?()|[]{}^$`, c) >= 0 {
					out.WriteByte('\\')
				}
				out.WriteByte(c)
			}
			i += min(end+2, len(rest))
		case strings.HasPrefix(rest, `\h`):
			last = out.Len()
			out.WriteString(`[ \t]`)
			i += 2
		case strings.HasPrefix(rest, `\H`):
			last = out.Len()
			out.WriteString(`[^ \t]`)
			i += 2
		case rest[0] == '\\' && len(rest) > 1:
			last = out.Len()
			out.WriteString(rest[:2])
			i += 2
		case rest[0] == '[':
			last = out.Len()
			n := class(rest, &out)
			i += n
		case rest[0] == '(':
			open = append(open, out.Len())
			out.WriteByte('(')
			i++
		case rest[0] == ')':
			if last = 0; len(open) > 0 {
				last, open = open[len(open)-1], open[:len(open)-1]
			}
			out.WriteByte(')')
			i++
		case strings.IndexByte("*+?{", rest[0]) >= 0:
			n := quantifier(rest)
			if n == 0 { // a brace that is one
				last = out.Len()
				out.WriteByte(rest[0])
				i++
				continue
			}
			out.WriteString(rest[:n])
			if i += n; i < len(text) && text[i] == '+' {
				so := out.String()
				out.Reset()
				out.WriteString(so[:last] + "(?>" + so[last:] + ")")
				i++
			}
		default:
			last = out.Len()
			out.WriteByte(rest[0])
			i++
		}
	}
	return out.String()
}

// quantifier is how long the one is that a text begins with; 0: it is none.
func quantifier(text string) int {
	if text[0] != '{' {
		return 1
	}
	end := strings.IndexByte(text, '}')
	if end < 2 || strings.Trim(text[1:end], "0123456789,") != "" || text[1] == ',' {
		return 0
	}
	return end + 1
}

// class writes the class that a text begins with, and returns how long it is.
func class(text string, out *strings.Builder) int {
	i := 1
	out.WriteByte('[')
	if strings.HasPrefix(text[i:], "^") {
		out.WriteByte('^')
		i++
	}
	for first := true; i < len(text); first = false {
		rest := text[i:]
		switch {
		case rest[0] == ']' && !first:
			out.WriteByte(']')
			return i + 1
		case rest[0] == ']': // as the first it stands for itself
			out.WriteString(`\]`)
			i++
		case strings.HasPrefix(rest, "[:"):
			name, _, ok := strings.Cut(rest[2:], ":]")
			if set := classes[name]; ok && set != "" {
				out.WriteString(set)
				i += len(name) + 4
				continue
			}
			out.WriteString(`\[`)
			i++
		case rest[0] == '[':
			out.WriteString(`\[`)
			i++
		case strings.HasPrefix(rest, `\h`):
			out.WriteString(` \t`)
			i += 2
		case rest[0] == '\\' && len(rest) > 1:
			out.WriteString(rest[:2])
			i += 2
		default:
			out.WriteByte(rest[0])
			i++
		}
	}
	return i
}

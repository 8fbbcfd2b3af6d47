package shell

import (
	"bytes"
	"errors"
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/intake/markup"
	"sternledger/internal/redact"
)

// The name space of CLIXML ([MS-PSRP] 2.2.5).
var xmlMark = []byte("http://schemas.microsoft.com/powershell/")

func isXML(k *kind, text []byte) bool {
	if !bytes.Contains(text, xmlMark) {
		return false
	}
	seen := map[string]bool{}
	for _, m := range xmlName.FindAllSubmatch(text, -1) {
		seen[strings.ToLower(string(m[1]))] = true
	}
	// Of a policy's many properties the file's head may hold but the first.
	return tells(k.telling, func(name string) bool { return seen[name] }) || tells(k.partly, func(name string) bool { return seen[name] })
}

var xmlName = regexp.MustCompile(` N="([A-Za-z]+)"`)

// xmlEscape is how CLIXML writes a character that XML cannot hold.
var xmlEscape = regexp.MustCompile(`_x([0-9A-Fa-f]{4})_`)

func unescaped(text string) string {
	return xmlEscape.ReplaceAllStringFunc(text, func(m string) string {
		n, _ := strconv.ParseUint(m[2:6], 16, 16)
		return string(rune(n))
	})
}

// collectionKinds are the elements in which a collection's values stand.
var collectionKinds = map[string]bool{"LST": true, "IE": true, "STK": true, "QUE": true}

// readXML reads what Export-Clixml writes: objects with typed properties.
func readXML(r *reader) ([]object, error) {
	x := &typed{reader: r}
	err := markup.Walk(r.text, &markup.Visitor{Open: x.open, Close: x.close, Attr: x.attribute})
	if broken := (*markup.Error)(nil); errors.As(err, &broken) {
		return nil, r.wrong(broken.Line, "XML that cannot be read: "+err.Error(), "objects as Export-Clixml writes them", "export it again")
	}
	return x.objects, err
}

// typed collects the objects of a document.
type typed struct {
	*reader
	objects []object
	value   property // the object that is a property's value
	depth   int      // how deep it stands; 0: none is open
}

func (x *typed) open(stack []markup.Element) {
	e, n := &stack[len(stack)-1], len(stack)
	switch {
	case e.Name == "Obj" && n == 2:
		x.objects = append(x.objects, object{line: e.Line})
	case e.Name == "Obj" && x.depth == 0 && e.Of("N") != "" && len(x.objects) > 0:
		x.value, x.depth = property{name: e.Of("N"), line: e.Line}, n
	case collectionKinds[e.Name] && x.depth > 0 && n == x.depth+1:
		x.value.isList = true
	}
}

// attributes are those that Export-Clixml writes, with what each can be; the name of a
// property is a name.
var attributes = map[string]*regexp.Regexp{"Version": version, "RefId": version, "I": version, "S": regexp.MustCompile(`^[A-Za-z]{1,20}$`)}

var version = regexp.MustCompile(`^[0-9.]{1,12}$`)

func (x *typed) attribute(name, value string) (as string, read bool) {
	if name == "N" {
		return "", redact.PlainName(value)
	}
	is := attributes[name]
	return "", is != nil && is.MatchString(value)
}

// typeName is the name of a type, as Export-Clixml lists an object's.
var typeName = regexp.MustCompile(`^[A-Za-z][\w.+` + "`" + `\[\]]*$`)

func (x *typed) close(stack []markup.Element, text string) (as string, read bool) {
	e, n := &stack[len(stack)-1], len(stack)
	name, value := e.Of("N"), unescaped(text)
	switch {
	case e.Name == "T":
		return "", typeName.MatchString(text)
	case len(x.objects) == 0:
		return "", false
	case x.depth > 0:
		name = x.value.name
		switch {
		case n == x.depth:
			if collections[strings.ToLower(name)] && !x.value.isList {
				x.value.isList, x.value.cut = true, true
			}
			x.objects[len(x.objects)-1].add(x.value)
			x.depth = 0
		case x.value.isList && n == x.depth+2 && collectionKinds[stack[n-2].Name]:
			x.value.list = append(x.value.list, value)
		case e.Name == "ToString" && n == x.depth+1:
			x.value.text = x.shown(name, value)
		}
	case name != "" && e.Leaf:
		p := property{name: name, line: e.Line}
		if e.Name == "TS" {
			p.text = x.shown(name, value) // a duration, as XML Schema writes it
		} else if e.Name != "Nil" {
			p.setText(x.shown(name, value))
		}
		x.objects[len(x.objects)-1].add(p)
	case e.Name == "ToString":
		name = x.kind.telling[0][0] // what an object prints of itself: its name
	}
	return name, x.kind.reads(strings.ToLower(name), strings.TrimSpace(value))
}

package fieldmap

import (
	"reflect"
	"regexp"
	"strings"

	"sternledger/internal/redact"
)

// vocabulary are the names that some map reads: fields of JSON and columns of
// CSV. What stands under others is not kept.
type vocabulary map[string]bool

// wordsOf collects the names in all paths of maps.
func wordsOf(all []*Map) vocabulary {
	words := vocabulary{}
	for _, m := range all {
		words.take(reflect.ValueOf(m), nil)
	}
	return words
}

var (
	pathType = reflect.TypeFor[Path]()
	stepName = regexp.MustCompile(`(?:\.|\[\s*)(?:'([^']+)'|"([^"]+)"|([A-Za-z_][A-Za-z0-9_-]*))`)
)

// take collects the names below a value; spelled, if not nil, gets their spelling.
func (w vocabulary) take(v reflect.Value, spelled map[string]string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			w.take(v.Elem(), spelled)
		}
	case reflect.Slice:
		for i := range v.Len() {
			w.take(v.Index(i), spelled)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			w.take(v.MapIndex(key), spelled)
		}
	case reflect.Struct:
		if v.Type() == pathType {
			w.path(v.FieldByName("text").FieldByName("Value").String(), spelled)
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() || v.Field(i).Kind() == reflect.Struct {
				w.take(v.Field(i), spelled)
			}
		}
	}
}

func (w vocabulary) path(text string, spelled map[string]string) {
	add := func(name string) {
		low := strings.ToLower(name)
		w[low] = true
		if spelled != nil && spelled[low] == "" {
			spelled[low] = name
		}
	}
	if text == "" {
		return
	}
	if text[0] != '$' {
		add(text)
		return
	}
	for _, m := range stepName.FindAllStringSubmatch(text, -1) {
		add(m[1] + m[2] + m[3])
	}
}

// alwaysSecret are names under which interfaces give secrets away, though a map
// reads something of the same name elsewhere.
var alwaysSecret = map[string]bool{
	"password": true, "passwd": true, "secret": true, "secrettext": true, "clientsecret": true, "client_secret": true,
	"accesstoken": true, "access_token": true,
	"refreshtoken": true, "refresh_token": true, "idtoken": true, "id_token": true, "token": true, "privatekey": true,
	"private_key": true, "apikey": true, "api_key": true,
	"secretaccesskey": true, "sessiontoken": true, "hash": true, "passwordhash": true, "password_hash": true, "hashedpassword": true,
	"salt": true, "answer": true, "sharedsecret": true,
}

// secret reports whether what stands under a name is one, whatever it says.
func (w vocabulary) secret(above, name string) bool {
	above, name = strings.ToLower(above), strings.ToLower(name)
	return name == "value" && (redact.Name(above) && !w[above] || above == "password" || above == "hash") || alwaysSecret[name]
}

// reads reports whether some map reads a name.
func (w vocabulary) reads(above, name string) bool {
	return (w == nil || w[strings.ToLower(name)]) && !w.secret(above, name)
}

// keep says what is kept of a text or number under a name; above is the name
// over it.
func (w vocabulary) keep(above, name, value string, all bool) (kept string, struck bool) {
	if w.secret(above, name) && value != "" && !redact.IsMark(value) {
		return redact.Struck, true
	}
	return redact.Keep(strings.ToLower(name), value, w.reads(above, name), all)
}

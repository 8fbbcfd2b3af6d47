package template

import (
	"strings"
	"testing"

	"sternledger/internal/core/setting"
)

// What a key writes reads back as the same, in its unit and with its specials.
func TestKeysReadWhatTheyWrite(t *testing.T) {
	const day = 24 * 60 * 60
	for i := range keys {
		k := &keys[i]
		s := setting.Get(k.id)
		var values []setting.Value
		for _, word := range s.Choices {
			values = append(values, setting.Word(word))
		}
		for _, sp := range s.Specials {
			values = append(values, setting.Of(sp.Special))
		}
		if len(s.Choices) == 0 {
			values = append(values, setting.Number(3), setting.Number(2*day), setting.Number(30*day))
		}
		read := 0
		for _, v := range values {
			text := k.write(v)
			if text == "" {
				continue // the key cannot hold it
			}
			if k.section == "registry values" {
				text = strings.TrimPrefix(text, "4,")
			}
			got, err := k.read(text)
			if s.Kind == setting.Count && err != nil {
				continue // more than such a number can be
			}
			if read++; err != nil || got != v {
				t.Errorf("%s: %s is written %q, and read as %s (%v)", k.name, s.Text(v), text, s.Text(got), err)
			}
		}
		if read == 0 {
			t.Errorf("%s writes nothing", k.name)
		}
	}
}

package intake

import (
	"encoding/base64"
	"fmt"
	"io"
)

// WriteLine writes an attribute with its value as LDIF has it (RFC 2849): in base64
// where the value is no SAFE-STRING. A failed write shows when the writer is flushed.
func WriteLine(w io.Writer, name, value string) {
	if safe(value) {
		fmt.Fprintf(w, "%s: %s\n", name, value)
		return
	}
	fmt.Fprintf(w, "%s:: %s\n", name, base64.StdEncoding.EncodeToString([]byte(value)))
}

func safe(value string) bool {
	for i := range len(value) {
		c := value[i]
		if c == 0 || c == '\n' || c == '\r' || c >= 0x80 || i == 0 && (c == ' ' || c == ':' || c == '<') {
			return false
		}
	}
	return value == "" || value[len(value)-1] != ' '
}

package fieldmap

import (
	"encoding/json"
	"testing"

	"sternledger/internal/core/setting"
)

// Several settings in one text of an export are all changed, and back in the opposite
// order.
func TestAmendOneField(t *testing.T) {
	const realm = `{"realm": "tides", "bruteForceProtected": true,
 "passwordPolicy": "length(12) and digits(1) and upperCase(2)"}`
	for _, m := range shipped(t) {
		if m.ID.Value != "identity-server" {
			continue
		}
		a, err := m.Amend("realm.json", []byte(realm), []Edit{{"min-length", "passwordPolicy (length)", 2, "12", setting.Number(15)},
			{"require-digit", "passwordPolicy (digits)", 2, "1", setting.Number(0)}, {"history", "passwordPolicy (passwordHistory)", 1, "",
				setting.Number(24)}})
		if err != nil {
			t.Fatal(err)
		}
		const want = "length(15) and digits(0) and upperCase(2)"
		body, _ := a.Do[0].Body.(map[string]any)
		if len(a.Do) != 1 || a.Do[0].Path != "/admin/realms/tides" || body["passwordPolicy"] != want || len(a.Left) != 1 ||
			a.Left[0].Setting != "history" {
			text, _ := json.Marshal(a)
			t.Fatalf("%s", text)
		}
		undo := a.Undo[0].Patch
		if len(undo) != 4 || undo[0].Value != want || undo[3].Value != "length(12) and digits(1) and upperCase(2)" ||
			undo[3].Path != "/passwordPolicy" {
			t.Errorf("%v", undo)
		}
		return
	}
	t.Error("no map of an identity server")
}

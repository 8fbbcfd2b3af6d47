package policylist

import (
	"bytes"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// What the console lists is read in its languages; of what it does not know nothing is guessed.
func TestLists(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"English": {"Policy\tSecurity Setting\r\nEnforce password history\t24 passwords remembered\r\nMaximum password age\t365 days\r\n" +
			"Minimum password age\t0 days\r\nMinimum password length\t14 characters\r\nPassword must meet complexity requirements\tEnabled\r\n" +
			"Store passwords using reversible encryption\tDisabled\r\n",
			"history=24 max-age=31536000 min-age=at-once min-length=14 complexity=on reversible=off"},
		"a lock, by commas": {"Policy,Security Setting\nAccount lockout duration,0\nAccount lockout threshold,5 invalid logon attempts\n" +
			"Reset account lockout counter after,15 minutes\nAllow Administrator account lockout,Enabled\n",
			"lockout-duration=until-admin lockout-threshold=5 lockout-window=900 lockout-administrator=on"},
		"nothing locks": {"Account lockout duration\tNot Applicable\nAccount lockout threshold\t0 invalid logon attempts\n" +
			"Reset account lockout counter after\tNot Applicable\n", "lockout-threshold=never lockout-duration= lockout-window="},
		"German": {"Richtlinie\tSicherheitseinstellung\nKennwortchronik erzwingen\t24 gespeicherte Kennwörter\nMaximales Kennwortalter\t0\n" +
			"Minimale Kennwortlänge\t14 Zeichen\nKennwort muss Komplexitätsvoraussetzungen entsprechen\tAktiviert\n",
			"history=24 max-age=never min-length=14 complexity=on"},
		"French": {"Stratégie\tParamètre de sécurité\nConserver l’historique des mots de passe\t24 mots de passe mémorisés\n" +
			"Longueur minimale du mot de passe\t14 caractère(s)\nSeuil de verrouillage du compte\t5 tentatives d'ouvertures de session non valides\n",
			"history=24 min-length=14 lockout-threshold=5"},
	} {
		if !detect("weigh4-secpol.txt", []byte(c.text)) {
			t.Errorf("%s is not known", name)
			continue
		}
		b := estate.NewBuilder()
		b.StartFile("weigh4-secpol.txt")
		var kept bytes.Buffer
		if err := Format.Read(&intake.Source{Path: "weigh4-secpol.txt", In: strings.NewReader(c.text + "Planted policy\tH0rn-blower\n"), Keep: &kept,
			Differs: func() {}}, b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		if a.Name != "weigh4" || strings.Contains(kept.String(), "H0rn") {
			t.Errorf("%s: %s keeps %s", name, a.Name, kept.String())
		}
		for _, pair := range strings.Fields(c.want) {
			id, want, _ := strings.Cut(pair, "=")
			text, _ := a.Head.Settings[setting.ID(id)].Value.MarshalText()
			if got := string(text); got != want && !(want == "" && !a.Head.Settings[setting.ID(id)].Value.IsSet()) {
				t.Errorf("%s: %s is %s, want %s", name, id, got, want)
			}
		}
	}
	for name, text := range map[string]string{"another language": "Política\tConfiguração\nAplicar histórico de senhas\t24\n",
		"too few": "Minimum password length\t14 characters\n", "nothing": ""} {
		if detect("x", []byte(text)) {
			t.Errorf("%s is taken", name)
		}
	}
	odd := "Enforce password history\t24\nMinimum password length\tvierzehn\nMaximum password age\t1 days\n"
	err := Format.Read(&intake.Source{Path: "x", In: strings.NewReader(odd), Keep: &bytes.Buffer{}, Differs: func() {}}, estate.NewBuilder())
	if err == nil || !strings.Contains(err.Error(), "x:2") {
		t.Errorf("%v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("Policy\tSecurity Setting\nEnforce password history\t24 passwords remembered\nMaximum password age\t0 days\n"))
	f.Add([]byte("Account lockout duration,0\nAccount lockout threshold,5\nAllow Administrator account lockout,Enabled\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b := estate.NewBuilder()
		b.StartFile("x")
		if Format.Read(&intake.Source{Path: "x", In: bytes.NewReader(data), Keep: &bytes.Buffer{}, Differs: func() {}}, b) != nil {
			return
		}
		for _, a := range b.Finish() {
			for id, f := range a.Head.Settings {
				if !f.Value.IsSet() && f.Problem == "" {
					t.Errorf("%s is taken and not set", id)
				}
			}
		}
	})
}

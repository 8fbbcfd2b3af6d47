// Package policylist reads what the console of a Windows machine's local security policy
// exports as a list: a policy a line, its name and what is in force, in the machine's language,
// parted by a tab or a comma. The names are those that the console shows.
package policylist

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format is such a list.
var Format = intake.Format{Name: "policy list of a machine (text)", Detect: detect, Read: whole.Read, Speaks: intake.MachineOf}

const (
	minute = 60
	day    = 24 * 60 * minute
)

// policy is one that the console lists: what it sets, under which names, the unit of its
// number, and what 0 means.
type policy struct {
	id    setting.ID
	names []string // English, German, French, Spanish, in lower case
	unit  int64    // 0: it is on or off
	zero  setting.Value
}

var policies = []policy{
	{setting.History, []string{"enforce password history", "kennwortchronik erzwingen", "conserver l'historique des mots de passe",
		"exigir historial de contraseñas"}, 1, setting.Value{}},
	{setting.MaxAge, []string{"maximum password age", "maximales kennwortalter", "durée de vie maximale du mot de passe",
		"vigencia máxima de la contraseña"}, day, setting.Of(setting.Never)},
	{setting.MinAge, []string{"minimum password age", "minimales kennwortalter", "durée de vie minimale du mot de passe",
		"vigencia mínima de la contraseña"}, day, setting.Of(setting.AtOnce)},
	{setting.MinLength, []string{"minimum password length", "minimale kennwortlänge", "longueur minimale du mot de passe",
		"longitud mínima de la contraseña"}, 1, setting.Value{}},
	{setting.Complexity, []string{"password must meet complexity requirements", "kennwort muss komplexitätsvoraussetzungen entsprechen",
		"le mot de passe doit respecter des exigences de complexité", "la contraseña debe cumplir los requisitos de complejidad"}, 0, setting.Value{}},
	{setting.Reversible, []string{"store passwords using reversible encryption", "kennwörter mit umkehrbarer verschlüsselung speichern",
		"enregistrer les mots de passe en utilisant un chiffrement réversible", "almacenar contraseñas con cifrado reversible"}, 0, setting.Value{}},
	{setting.LockoutDuration, []string{"account lockout duration", "kontosperrdauer", "kontosperrungsdauer", "durée de verrouillage des comptes",
		"duración del bloqueo de cuenta"}, minute, setting.Of(setting.UntilAdmin)},
	{setting.LockoutThreshold, []string{"account lockout threshold", "kontensperrungsschwelle", "kontosperrungsschwelle",
		"seuil de verrouillage du compte", "seuil de verrouillage de comptes", "umbral de bloqueo de cuenta"}, 1, setting.Of(setting.Never)},
	{setting.LockoutWindow, []string{"reset account lockout counter after", "zurücksetzungsdauer des kontosperrungszählers",
		"réinitialiser le compteur de verrouillages du compte après", "restablecer el bloqueo de cuenta después de"}, minute,
		setting.Of(setting.AtOnce)},
	{setting.LockoutAdministrator, []string{"allow administrator account lockout", "kontosperrung für administratoren zulassen"}, 0, setting.Value{}},
}

// switches are the words for on and off.
var switches = map[string]setting.Value{"enabled": setting.On, "disabled": setting.Off, "aktiviert": setting.On, "deaktiviert": setting.Off,
	"activé": setting.On, "désactivé": setting.Off, "habilitada": setting.On, "deshabilitada": setting.Off}

// unset are the words for what is not set, or does not apply since nothing locks.
var unset = []string{"not defined", "not applicable", "nicht definiert", "nicht zutreffend", "nicht verfügbar", "non défini", "non applicable",
	"no está definido", "no aplicable"}

// row is a line of the list.
var row = regexp.MustCompile(`^"?([^"\t,]+?)"?\s*[\t,]\s*"?([^"\t]+?)"?[\t,\s]*$`)

// number is a number and its unit, in whatever language.
var number = regexp.MustCompile(`^(\d{1,6})(?: [\p{L}\p{M}'().-]+)*$`)

// parted are a policy and what is in force, of a line that lists one that is read.
func parted(line string) (*policy, string) {
	m := row.FindStringSubmatch(strings.TrimSpace(line))
	if m == nil {
		return nil, ""
	}
	name := strings.ToLower(strings.ReplaceAll(m[1], "’", "'"))
	i := slices.IndexFunc(policies, func(p policy) bool { return slices.Contains(p.names, name) })
	if i < 0 {
		return nil, ""
	}
	return &policies[i], m[2]
}

// value reads what is in force; set is false where nothing is.
func (p *policy) value(text string) (v setting.Value, set bool, err error) {
	low := strings.ToLower(text)
	m := number.FindStringSubmatch(low)
	switch v, is := switches[low]; {
	case slices.Contains(unset, low):
		return v, false, nil
	case p.unit == 0 && is:
		return v, true, nil
	case p.unit > 0 && m != nil:
		n, err := strconv.ParseInt(m[1], 10, 64)
		if n == 0 && p.zero.IsSet() {
			return p.zero, true, err
		}
		return setting.Number(n * p.unit), true, err
	}
	return v, false, fmt.Errorf("%s does not say a number, or on and off, in a language that is known", p.id)
}

func detect(_ string, head []byte) bool {
	n := 0
	for line := range strings.Lines(string(intake.Opening(head))) {
		if p, _ := parted(line); p != nil {
			n++
		}
	}
	const enough = 3
	return n >= enough
}

var whole = intake.Whole{Most: 1 << 20, Expected: "a list of policies that the console exported", Next: "export it again", Take: take}

func take(t *intake.Text, into *estate.Builder) error {
	at := estate.Place{Name: intake.MachineOf(t.Path), Kind: estate.Machine}
	a := into.At(at)
	a.Platform = setting.WindowsMachine
	for l := range t.Lines() {
		p, text := parted(l.Text)
		if p == nil {
			continue
		}
		if a.Head == nil {
			a.Head = &estate.Policy{Name: "local", Origin: intake.FileName(t.Path), Standing: estate.Enforced, Platform: setting.WindowsMachine,
				Settings: estate.Settings{}, Cite: into.Cite(l.Number, "", "")}
		}
		v, set, err := p.value(text)
		switch {
		case err != nil:
			return t.Wrong(l.Number, "what is in force of "+string(p.id)+" is not read", "a number with its unit, enabled or disabled, in English, German, French or Spanish",
				"print it on the machine: secedit /export /cfg MACHINE.inf")
		case !set:
			t.Took(l)
			continue
		}
		t.Took(l)
		into.Set(a.Head.Settings, setting.WindowsMachine, p.id, v, into.Cite(l.Number, string(p.id), strings.TrimSpace(l.Text)))
	}
	if a.Head == nil {
		return t.Wrong(0, "no policy that is known", "the account policies of the local security policy", "export their list again")
	}
	return nil
}

package benchmark

import (
	"fmt"
	"strings"

	"sternledger/internal/core/setting"
	"sternledger/internal/intake/template"
)

// forever is what stands for no end in the policies of accounts that Windows tells
// programs (USER_MODALS_INFO); some documents write it as it looks with a sign.
var forever = []string{"4294967295", "-1"}

// policies are the entities of tests on account policies: times in seconds.
var policies = map[string]written{
	"max_passwd_age": {id: setting.MaxAge, unit: 1, form: setting.Scaled(1, map[setting.Special]string{setting.Never: forever[0]}),
		also: map[setting.Special][]string{setting.Never: {forever[1], "0"}}},
	"min_passwd_age":        {id: setting.MinAge, unit: 1, form: setting.Scaled(1, setting.Zero)},
	"min_passwd_len":        {id: setting.MinLength, unit: 1, form: setting.Plain},
	"password_hist_len":     {id: setting.History, unit: 1, form: setting.Plain},
	"password_complexity":   {id: setting.Complexity, unit: 1, form: setting.OneZero},
	"reversible_encryption": {id: setting.Reversible, unit: 1, form: setting.OneZero},
	"force_logoff":          {id: setting.LogoffAtHoursEnd, unit: 1, form: setting.Words("0", forever[0])},
	"lockout_duration": {id: setting.LockoutDuration, unit: 1, form: setting.Plain,
		also: map[setting.Special][]string{setting.UntilAdmin: forever}},
	"lockout_observation_window": {id: setting.LockoutWindow, unit: 1, form: setting.Scaled(1, map[setting.Special]string{setting.AtOnce: "0"})},
	"lockout_threshold":          {id: setting.LockoutThreshold, unit: 1, form: setting.Plain},
}

// policyTest is a test on the policy for passwords or for lockout, which always exists.
func (e *evaluation) policyTest(o *oval, t *node, states []*node) (formula, error) {
	e.windows = true
	there, _, err := exists(t)
	if err != nil {
		return nil, err
	}
	if !there {
		return never, nil
	}
	if len(states) == 0 {
		return nil, nil
	}
	return e.byStates(t, states, func(n *node) (formula, error) {
		w, ok := policies[n.name]
		if !ok {
			return nil, fmt.Errorf("it asks for %s, which no setting is", n.name)
		}
		a, err := e.expected(o, n)
		if err != nil {
			return nil, err
		}
		return w.leaf(a)
	})
}

// aboutTheSystem are keys of the registry that only tell what runs there.
var aboutTheSystem = []string{`software\microsoft\windows nt\currentversion`, `system\currentcontrolset\control\productoptions`}

// registryTest is a test on a value of the registry.
func (e *evaluation) registryTest(o *oval, t, object *node, states []*node) (formula, error) {
	key := func(name string) (string, error) {
		a, err := e.expected(o, object.first(name))
		if err != nil {
			return "", err
		}
		if len(a.values) != 1 || a.operation == "pattern match" && strings.ContainsAny(strings.NewReplacer(`\\`, "", `^`, "", `$`,
			"").Replace(a.values[0]), `.*+?()[]{}|\`) ||
			a.operation != "pattern match" && !strings.HasSuffix(a.operation, "equals") {
			return "", fmt.Errorf("the %s that it asks for is several, or a pattern", name)
		}
		if a.operation == "pattern match" {
			return strings.NewReplacer(`\\`, `\`, `^`, "", `$`, "").Replace(a.values[0]), nil
		}
		return a.values[0], nil
	}
	hive, err := key("hive")
	if err != nil {
		return nil, err
	}
	at, err := key("key")
	if err != nil {
		return nil, err
	}
	name, err := key("name")
	if err != nil {
		return nil, err
	}
	at = strings.TrimRight(at, `\`)
	low := strings.ToLower(at)
	for _, about := range aboutTheSystem {
		if low == about {
			return nil, errCondition
		}
	}
	id, form, ok := template.Registry(at, name)
	if !ok || !strings.EqualFold(hive, "HKEY_LOCAL_MACHINE") {
		return nil, fmt.Errorf(`it asks for %s\%s of the registry, which no setting is read from`, at, name)
	}
	e.relevant, e.windows = true, true
	there, absent, err := exists(t)
	switch {
	case err != nil:
		return nil, err
	case !there:
		return nil, fmt.Errorf("it asks that %s is not there at all; what holds then is not the value that it would have", name)
	case absent:
		e.remark(name + " may be absent by the document; where it is, the verdict is missing")
	}
	if len(states) == 0 {
		return nil, fmt.Errorf("it asks only that %s is there, whatever its value", name)
	}
	s := setting.Get(id)
	w := written{id: id, unit: 1, form: func(v setting.Value) string { return strings.TrimPrefix(form(v), "4,") }}
	if s.Kind == setting.Duration {
		w.unit = 24 * 60 * 60
	}
	return e.byStates(t, states, func(n *node) (formula, error) {
		switch n.name {
		case "hive", "key", "name", "type":
			return nil, nil // as the object has them
		case "value":
		default:
			return nil, fmt.Errorf("it asks for the %s of a value of the registry", n.name)
		}
		a, err := e.expected(o, n)
		if err != nil {
			return nil, err
		}
		return w.leaf(a)
	})
}

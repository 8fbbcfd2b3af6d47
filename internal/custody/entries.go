package custody

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/ledger"
)

// EntryFilter picks entries; empty fields pick all.
type EntryFilter struct {
	Kind  string
	By    string
	Since string // day
	Last  int    // so many of the newest; 0: all
}

// entryKinds tell in a few words what an entry is about, by its kind.
var entryKinds = map[string]func(body map[string]any) string{
	beginKind: func(b map[string]any) string { return fmt.Sprint(b["title"]) },
	GatherKind: func(b map[string]any) string {
		files, _ := b["files"].([]any)
		subjects, _ := b["subjects"].([]any)
		return fmt.Sprintf("%s, with facts about %s", so(len(files), "file"), so(len(subjects), "place or template", "places and templates"))
	},
	WeighKind: func(b map[string]any) string {
		var against []string
		list, _ := b["baselines"].([]any)
		for _, x := range list {
			if m, ok := x.(map[string]any); ok {
				against = append(against, fmt.Sprint(m["id"]))
			}
		}
		text := strings.Join(against[:min(len(against), 2)], ", ")
		if more := len(against) - 2; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		found, _ := b["findings"].(float64)
		return fmt.Sprintf("weighing %v: %s, against %s", b["weighing"], so(int(found), "finding"), text)
	},
	WaiveKind: func(b map[string]any) string {
		list, _ := b["findings"].([]any)
		return fmt.Sprintf("%s, until %v: %v", so(len(list), "finding"), b["until"], b["reason"])
	},
	AsideKind: func(b map[string]any) string {
		names, _ := b["names"].([]any)
		places, _ := b["places"].([]any)
		what, word := so(len(names), "file"), "use"
		if len(places) > 0 {
			what, word = so(len(places), "place"), "service"
		}
		if b["taken_back"] == true {
			return fmt.Sprintf("%s taken into %s again: %v", what, word, b["reason"])
		}
		return fmt.Sprintf("%s taken out of %s: %v", what, word, b["reason"])
	},
	AmendKind: func(b map[string]any) string {
		list, _ := b["amendments"].([]any)
		return fmt.Sprintf("change files from weighing %v, in %v: %s", b["weighing"], b["to"], so(len(list), "change"))
	},
	discardKind: func(b map[string]any) string {
		names, _ := b["names"].([]any)
		rest, _ := b["weighings"].([]any)
		return fmt.Sprintf("%s removed for good, with %s: %v", so(len(names), "file"), so(len(rest), "weighing"), b["reason"])
	},
	retireKind:   func(b map[string]any) string { return fmt.Sprintf("files destroyed: %v: %v", b["files"], b["reason"]) },
	WithdrawKind: func(b map[string]any) string { return fmt.Sprintf("waivers of entry %v: %v", b["waiver"], b["reason"]) },
}

// so writes that many of something; several is the plural where it is no "s" behind one.
func so(n int, one string, several ...string) string {
	switch {
	case n == 1:
		return "1 " + one
	case len(several) > 0:
		return fmt.Sprintf("%d %s", n, several[0])
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// About tells in a few words what an entry is about.
func About(e *ledger.Entry) string {
	var body map[string]any
	tell := entryKinds[e.Kind]
	if tell == nil || json.Unmarshal([]byte(e.Body), &body) != nil {
		return ""
	}
	return tell(body)
}

// Entries returns the entries of the ledger that a filter picks.
func (e *Engagement) Entries(f EntryFilter) ([]ledger.Entry, error) {
	kinds := slices.Sorted(maps.Keys(entryKinds))
	if f.Kind != "" && !slices.Contains(kinds, f.Kind) {
		return nil, fmt.Errorf("--kind %q: there is none; %s", f.Kind, strictyaml.Hint(f.Kind, kinds))
	}
	if _, err := time.Parse(time.DateOnly, f.Since); f.Since != "" && err != nil {
		return nil, fmt.Errorf("--since %q: expected a day such as %s", f.Since, e.Now().UTC().Format(time.DateOnly))
	}
	all, err := e.Ledger.Entries()
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(x ledger.Entry) bool {
		return f.Kind != "" && x.Kind != f.Kind || f.By != "" && !strings.EqualFold(x.Actor, f.By) || x.At < f.Since
	})
	if f.Last > 0 && len(all) > f.Last {
		all = all[len(all)-f.Last:]
	}
	return all, nil
}

// NewEntriesDocument describes entries.
func NewEntriesDocument(all []ledger.Entry) contract.EntriesDocument {
	d := contract.EntriesDocument{Schema: "sternledger/entries/1", Entries: []contract.EntryDocument{}}
	for i := range all {
		x := &all[i]
		d.Entries = append(d.Entries, contract.EntryDocument{Entry: x.Seq, At: x.At, By: x.Actor, Kind: x.Kind, About: About(x),
			Body: json.RawMessage(x.Body), Previous: x.Previous, Hash: x.Hash})
	}
	return d
}

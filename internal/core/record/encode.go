package record

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/weigh"
)

// ErrNewer says that a record is of a format that this version does not know.
var ErrNewer = errors.New("the record was written by a newer program")

// The form of a record as it is kept: JSON in which what points at another thing
// has its place in that thing's list. -1 stands for nothing. What verdicts, findings
// and scopes say beside that is in their own types, by their tags: a field that one of
// them gets is kept, and one that this version does not know is passed over.
type (
	kept struct {
		Format    int                  `json:"format"`
		Program   Program              `json:"program"`
		Number    int64                `json:"number"`
		At        string               `json:"at"`
		Title     string               `json:"title"`
		Auditor   string               `json:"auditor"`
		Places    []keptPlace          `json:"places"`
		Policies  []*estate.Policy     `json:"policies"`
		Listed    int                  `json:"listed"` // so many of the scopes are the record's
		Scopes    []keptScope          `json:"scopes"`
		Baselines []*baseline.Baseline `json:"baselines"`
		Demands   []*baseline.Demand   `json:"demands"` // that verdicts name
		Verdicts  []keptVerdict        `json:"verdicts"`
		Findings  []keptFinding        `json:"findings"`
		Idle      []keptNamed          `json:"idle"`
		SetAside  []keptNamed          `json:"set_aside"`
		Decisions []*weigh.Decision    `json:"decisions"`
		Waivers   []check.Waiver       `json:"waivers"`
		Unweighed []keptUnweighed      `json:"unweighed"`
		Forecasts []keptForecast       `json:"forecasts"`
		Rolls     []keptRoll           `json:"rolls"`
		Files     map[string]string    `json:"files"`
		Written   map[string]string    `json:"written,omitempty"`
		Ended     []OutOfService       `json:"out_of_service,omitempty"`
		Setters   []govern.Setter      `json:"setters,omitempty"`
		Known     bool                 `json:"setters_known,omitempty"`
		Unseen    []keptUnseen         `json:"unseen,omitempty"`
		People    []keptPeople         `json:"population,omitempty"`
		Assumed   map[string]float64   `json:"assumed,omitempty"`
		First     []First              `json:"first,omitempty"`
	}
	keptPeople struct {
		exposure.Cohort
		Scope  int `json:"scope"`
		Beyond int `json:"beyond"`
	}
	keptUnseen struct {
		Place estate.Place `json:"place"`
		Name  string       `json:"name"`
	}
	keptPlace struct {
		*estate.Authority
		Twin     bool `json:"twin,omitempty"`
		Unsynced bool `json:"unsynced,omitempty"`
	}
	keptScope struct {
		govern.Scope
		Place     int `json:"place"`
		Policy    int `json:"policy"`
		Elsewhere int `json:"elsewhere"`
	}
	keptVerdict struct {
		weigh.Verdict
		Scope    int `json:"scope"`
		Baseline int `json:"baseline"`
		Demand   int `json:"demand"`
	}
	keptFinding struct {
		check.Finding
		Waiver int `json:"waiver"`
		Scope  int `json:"scope"`
		Place  int `json:"place"`
	}
	keptNamed struct {
		Scope    int `json:"scope"`
		Baseline int `json:"baseline"`
		Demand   int `json:"demand"`
		Decision int `json:"decision"`
	}
	keptUnweighed struct {
		Place   int      `json:"place"`
		Fitting []string `json:"fitting"`
	}
	keptForecast struct {
		Scope    int    `json:"scope"`
		Accounts *int64 `json:"accounts"`
		Figures
	}
	keptRoll struct {
		Place     estate.Place   `json:"place"`
		Standings []keptStanding `json:"standings"`
		Rows      []byte         `json:"rows"` // 1 + the standing of each, as uvarints, deflated
	}
	keptStanding struct {
		Scope  int         `json:"scope"`
		Rule   govern.Rule `json:"rule"`
		Origin string      `json:"origin"`
		Via    string      `json:"via"`
	}
)

// places gives each thing that is pointed at its place in a list.
type places[T any] struct {
	at  map[*T]int
	all []*T
}

func (p *places[T]) of(x *T) int {
	if x == nil {
		return -1
	}
	if i, ok := p.at[x]; ok {
		return i
	}
	if p.at == nil {
		p.at = map[*T]int{}
	}
	p.at[x] = len(p.all)
	p.all = append(p.all, x)
	return len(p.all) - 1
}

// pick returns the thing at a place; nil for -1.
func pick[T any](all []*T, i int) (*T, error) {
	switch {
	case i == -1:
		return nil, nil
	case i < 0 || i >= len(all):
		return nil, fmt.Errorf("the record points at number %d of %d", i, len(all))
	}
	return all[i], nil
}

// encoder holds the lists while a record is written.
type encoder struct {
	places    places[estate.Authority]
	policies  places[estate.Policy]
	scopes    places[govern.Scope]
	baselines places[baseline.Baseline]
	demands   places[baseline.Demand]
	decisions places[weigh.Decision]
	packer    *flate.Writer // of rolls: making one costs more than most of them hold
}

// Encode writes the record in the form in which it is kept: one JSON text.
func (r *Record) Encode() ([]byte, error) {
	packer, err := flate.NewWriter(io.Discard, flate.BestSpeed)
	if err != nil {
		return nil, err
	}
	e := encoder{packer: packer}
	k := kept{Format: Format, Program: r.Program, Number: r.Number, At: r.Made, Title: r.Title, Auditor: r.Auditor,
		Waivers: r.Waivers, Files: r.Files, Written: r.Written, Ended: r.OutOfService, Listed: len(r.Scopes), Setters: r.Setters, Known: r.SettersKnown, Assumed: r.Assumed, First: r.First}
	for _, at := range slices.SortedFunc(maps.Keys(r.Unseen), estate.Place.Compare) {
		k.Unseen = append(k.Unseen, keptUnseen{at, r.Unseen[at]})
	}
	for _, a := range r.Places {
		e.places.of(a)
	}
	for _, s := range r.Scopes {
		e.scopes.of(s)
	}
	for _, b := range r.Baselines {
		e.baselines.of(b)
	}
	waiver := map[*check.Waiver]int{nil: -1}
	for i := range r.Waivers {
		waiver[&r.Waivers[i]] = i
	}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		k.Verdicts = append(k.Verdicts, keptVerdict{*v, e.scopes.of(v.Scope), e.baselines.of(v.Baseline), e.demands.of(v.Demand)})
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		w, ok := waiver[f.Waiver]
		if !ok {
			return nil, fmt.Errorf("the finding %s has a waiver that the record does not", f.Fingerprint)
		}
		k.Findings = append(k.Findings, keptFinding{*f, w, e.scopes.of(f.Scope), e.places.of(f.Authority)})
	}
	for _, x := range r.Idle {
		k.Idle = append(k.Idle, keptNamed{e.scopes.of(x.Scope), e.baselines.of(x.Baseline), e.demands.of(x.Demand), -1})
	}
	for _, x := range r.SetAside {
		k.SetAside = append(k.SetAside, keptNamed{e.scopes.of(x.Scope), e.baselines.of(x.Baseline), e.demands.of(x.Demand),
			e.decisions.of(x.Decision)})
	}
	for _, c := range r.Population {
		k.People = append(k.People, keptPeople{c, e.scopes.of(c.Scope), e.scopes.of(c.Beyond)})
	}
	for _, u := range r.Unweighed {
		k.Unweighed = append(k.Unweighed, keptUnweighed{e.places.of(u.Authority), u.Fitting})
	}
	for _, f := range r.Forecasts {
		k.Forecasts = append(k.Forecasts, keptForecast{e.scopes.of(f.Scope), f.Accounts, f.Figures})
	}
	for _, roll := range r.Rolls {
		x, err := e.roll(roll)
		if err != nil {
			return nil, err
		}
		k.Rolls = append(k.Rolls, x)
	}
	for i := 0; i < len(e.scopes.all); i++ {
		k.Scopes = append(k.Scopes, e.scope(e.scopes.all[i]))
	}
	for _, a := range e.places.all {
		k.Places = append(k.Places, keptPlace{a, a.Twin, a.Unsynced})
	}
	k.Policies, k.Baselines, k.Demands, k.Decisions = e.policies.all, e.baselines.all, e.demands.all, e.decisions.all
	return json.Marshal(k)
}

func (e *encoder) scope(s *govern.Scope) keptScope {
	return keptScope{*s, e.places.of(s.Authority), e.policies.of(s.Policy), e.places.of(s.Elsewhere)}
}

func (e *encoder) roll(r *Roll) (keptRoll, error) {
	k := keptRoll{Place: r.Place, Standings: []keptStanding{}}
	for _, s := range r.Standings {
		k.Standings = append(k.Standings, keptStanding{e.scopes.of(s.Scope), s.Rule, s.Origin, s.Via})
	}
	var packed bytes.Buffer
	e.packer.Reset(&packed)
	plain := make([]byte, 0, len(r.rows))
	for _, i := range r.rows {
		plain = binary.AppendUvarint(plain, uint64(i))
	}
	_, err := e.packer.Write(plain)
	err = errors.Join(err, e.packer.Close())
	k.Rows = packed.Bytes()
	return k, err
}

// Decode reads a record that any earlier version wrote.
func Decode(data []byte) (*Record, error) {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, err
	}
	if k.Format > Format {
		return nil, fmt.Errorf("%w: its format is %d, this program knows up to %d", ErrNewer, k.Format, Format)
	}
	if k.Format < 1 {
		return nil, errors.New("the record does not say of which format it is")
	}
	d := decoder{kept: &k, opener: flate.NewReader(bytes.NewReader(nil))}
	return d.record()
}

// decoder holds the lists while a record is read. Its first error stays.
type decoder struct {
	*kept
	places []*estate.Authority
	scopes []*govern.Scope
	opener io.ReadCloser // of rolls
	err    error
}

// at is pick, which notes the error.
func at[T any](d *decoder, all []*T, i int) *T {
	x, err := pick(all, i)
	if d.err == nil {
		d.err = err
	}
	return x
}

func (d *decoder) record() (*Record, error) {
	k := d.kept
	r := &Record{Program: k.Program, Number: k.Number, Made: k.At, Title: k.Title, Auditor: k.Auditor, Baselines: k.Baselines,
		Files: k.Files, Written: k.Written, OutOfService: k.Ended, Result: &weigh.Result{Waivers: k.Waivers}, Setters: k.Setters, SettersKnown: k.Known, Unseen: map[estate.Place]string{}}
	r.Assumed, r.First = k.Assumed, k.First
	for _, u := range k.Unseen {
		r.Unseen[u.Place] = u.Name
	}
	for _, p := range k.Places {
		if p.Authority == nil {
			return nil, errors.New("the record has a place that is none")
		}
		p.Authority.Twin, p.Authority.Unsynced, p.Authority.Objects = p.Twin, p.Unsynced, &estate.Objects{}
		d.places = append(d.places, p.Authority)
	}
	r.Places = d.places
	for i := range k.Scopes {
		d.scopes = append(d.scopes, d.scope(&k.Scopes[i]))
	}
	if k.Listed < 0 || k.Listed > len(d.scopes) {
		return nil, errors.New("the record lists more scopes than it holds")
	}
	r.Scopes = d.scopes[:k.Listed]
	for i := range k.Verdicts {
		v := &k.Verdicts[i]
		v.Verdict.Scope, v.Verdict.Baseline, v.Verdict.Demand = at(d, d.scopes, v.Scope), at(d, k.Baselines, v.Baseline), at(d, k.Demands, v.Demand)
		r.Verdicts = append(r.Verdicts, v.Verdict)
	}
	waivers := make([]*check.Waiver, len(r.Waivers))
	for i := range r.Waivers {
		waivers[i] = &r.Waivers[i]
	}
	for _, c := range k.People {
		c.Cohort.Scope, c.Cohort.Beyond = at(d, d.scopes, c.Scope), at(d, d.scopes, c.Beyond)
		if c.Cohort.Scope == nil && d.err == nil {
			d.err = errors.New("the record counts accounts of no scope")
		}
		r.Population = append(r.Population, c.Cohort)
	}
	for i := range k.Findings {
		f := &k.Findings[i]
		f.Finding.Waiver, f.Finding.Scope, f.Finding.Authority = at(d, waivers, f.Waiver), at(d, d.scopes, f.Scope), at(d, d.places, f.Place)
		r.Findings = append(r.Findings, f.Finding)
	}
	for _, x := range k.Idle {
		r.Idle = append(r.Idle, weigh.Idle{Scope: at(d, d.scopes, x.Scope), Named: d.named(x)})
	}
	for _, x := range k.SetAside {
		r.SetAside = append(r.SetAside, weigh.Aside{Scope: at(d, d.scopes, x.Scope), Named: d.named(x), Decision: at(d, k.Decisions, x.Decision)})
	}
	for _, u := range k.Unweighed {
		r.Unweighed = append(r.Unweighed, check.Unweighed{Authority: at(d, d.places, u.Place), Fitting: u.Fitting})
	}
	for _, f := range k.Forecasts {
		r.Forecasts = append(r.Forecasts, Forecast{at(d, d.scopes, f.Scope), f.Accounts, f.Figures})
	}
	for i := range k.Rolls {
		r.Rolls = append(r.Rolls, d.roll(&k.Rolls[i]))
	}
	return r, d.err
}

func (d *decoder) named(x keptNamed) baseline.Named {
	return baseline.Named{Baseline: at(d, d.kept.Baselines, x.Baseline), Demand: at(d, d.Demands, x.Demand)}
}

func (d *decoder) scope(k *keptScope) *govern.Scope {
	s := &k.Scope
	s.Authority, s.Policy, s.Elsewhere = at(d, d.places, k.Place), at(d, d.Policies, k.Policy), at(d, d.places, k.Elsewhere)
	if s.Authority == nil && d.err == nil {
		d.err = errors.New("the record has a scope of no place")
	}
	return s
}

func (d *decoder) roll(k *keptRoll) *Roll {
	r := &Roll{Place: k.Place}
	for _, s := range k.Standings {
		x := Standing{at(d, d.scopes, s.Scope), s.Rule, s.Origin, s.Via}
		if x.Scope == nil && d.err == nil {
			d.err = fmt.Errorf("the roll of %s has a standing in no scope", k.Place)
		}
		r.Standings = append(r.Standings, x)
	}
	packed := bytes.NewReader(k.Rows)
	plain, err := []byte(nil), d.opener.(flate.Resetter).Reset(packed, nil)
	if err == nil {
		plain, err = io.ReadAll(d.opener)
	}
	if err != nil && d.err == nil {
		d.err = fmt.Errorf("the roll of %s: %w", k.Place, err)
	}
	for len(plain) > 0 {
		i, n := binary.Uvarint(plain)
		if n <= 0 || i > uint64(len(r.Standings)) {
			d.err = fmt.Errorf("the roll of %s is damaged", k.Place)
			break
		}
		r.rows, plain = append(r.rows, uint32(i)), plain[n:]
	}
	return r
}

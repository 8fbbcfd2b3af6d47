package contract

import "sternledger/internal/core/exposure"

// ExposureAssumptionsDocument lists what chances and worths rest on.
type ExposureAssumptionsDocument struct {
	Schema      string                       `json:"schema"`
	Assumptions []ExposureAssumptionDocument `json:"assumptions"`
}

// ExposureAssumptionDocument is one assumption. It can be set to anything from least to most.
type ExposureAssumptionDocument struct {
	Name    string        `json:"name"`
	Value   float64       `json:"value"`
	Usual   float64       `json:"usual"`
	Least   float64       `json:"least"`
	Most    float64       `json:"most"`
	Unit    string        `json:"unit"`
	Meaning string        `json:"meaning"`
	Source  string        `json:"source"`
	Sure    exposure.Sure `json:"sure"`
}

// NewExposureAssumptions describes assumptions.
func NewExposureAssumptions(a *exposure.Assumptions) ExposureAssumptionsDocument {
	d := ExposureAssumptionsDocument{Schema: "sternledger/exposure/1"}
	for i, x := range exposure.Table {
		d.Assumptions = append(d.Assumptions, ExposureAssumptionDocument{x.Name, a[i], x.Value, x.Least, x.Most, x.Unit, x.Meaning, x.Source, x.Sure})
	}
	return d
}

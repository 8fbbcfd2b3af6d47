package custody

import (
	"cmp"
	"io/fs"
	"slices"

	"sternledger/fieldmaps"
	"sternledger/internal/intake/fieldmap"
)

// FieldMapsDir is the folder of an engagement's own field maps.
const FieldMapsDir = "fieldmaps"

// ShippedFieldMap returns a field map of the program by its id.
func ShippedFieldMap(id string) (*fieldmap.Map, error) {
	data, err := fieldmaps.Files.ReadFile(id + ".yaml")
	if err != nil {
		return nil, err
	}
	return fieldmap.Parse(id+".yaml", data)
}

// FieldMaps returns the shipped field maps and the engagement's own, by id. An
// own one takes the place of a shipped one of the same id.
func (e *Engagement) FieldMaps() ([]*fieldmap.Map, error) {
	all := map[string]*fieldmap.Map{}
	add := func(name string, data []byte, err error) error {
		if err != nil {
			return err
		}
		m, err := fieldmap.Parse(name, data)
		if err == nil {
			all[m.ID.Value] = m
		}
		return err
	}
	shipped, err := fs.Glob(fieldmaps.Files, "*.yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range shipped {
		data, err := fieldmaps.Files.ReadFile(name)
		if err := add(name, data, err); err != nil {
			return nil, err
		}
	}
	own, err := e.Folder.List(FieldMapsDir, ".yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range own {
		data, err := e.Folder.ReadFile(name, mostConfig)
		if err := add(e.Folder.Path(name), data, err); err != nil {
			return nil, err
		}
	}
	var sorted []*fieldmap.Map
	for _, m := range all {
		sorted = append(sorted, m)
	}
	slices.SortFunc(sorted, func(x, y *fieldmap.Map) int { return cmp.Compare(x.ID.Value, y.ID.Value) })
	return sorted, nil
}

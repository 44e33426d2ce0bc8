package planfile

import (
	"embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"patientheron/core/plan"
	"patientheron/core/workload"
)

//go:embed presets/*.yaml
var presets embed.FS

// Preset is a plan that ships with the product.
type Preset struct {
	Key     string    `json:"key" doc:"What commands call it"`
	Purpose string    `json:"purpose" doc:"The use that it stands for, in a few words"`
	Plan    plan.Plan `json:"plan"`
	Text    string    `json:"text" doc:"The plan file itself, to edit"`
}

// purposes say in the trade's words which use each preset stands for.
var purposes = map[string]string{
	"camera-traps":   "video surveillance",
	"catalogue":      "key-value store (LSM tree)",
	"guest-disks":    "virtual machines",
	"ledger":         "OLTP database",
	"listening-post": "media streaming",
	"logbook":        "database log, synchronous writes",
	"morning-rush":   "desktops that boot at once (VDI)",
	"moving-day":     "data migration, file by file",
	"night-shift":    "backup and restore",
	"post-room":      "mail server",
	"shared-folders": "office file server",
	"show-the-shape": "characterization by block size and depth",
	"writing-desk":   "saving files on a file server",
}

// Presets lists all presets by their key.
func Presets() ([]Preset, error) {
	files, err := presets.ReadDir("presets")
	if err != nil {
		return nil, fmt.Errorf("list the presets: %w", err)
	}
	list := make([]Preset, len(files))
	for i, f := range files {
		text, err := presets.ReadFile(path.Join("presets", f.Name()))
		if err != nil {
			return nil, fmt.Errorf("read preset %s: %w", f.Name(), err)
		}
		key := strings.TrimSuffix(f.Name(), ".yaml")
		list[i] = Preset{Key: key, Purpose: purposes[key], Text: string(text)}
		if list[i].Plan, err = Read(text); err != nil {
			return nil, fmt.Errorf("read preset %s: %w", f.Name(), err)
		}
	}
	return list, nil
}

// FindPreset finds a preset by its key.
func FindPreset(key string) (Preset, error) {
	list, err := Presets()
	if err != nil {
		return Preset{}, err
	}
	i := slices.IndexFunc(list, func(p Preset) bool { return p.Key == key })
	if i < 0 {
		keys := make([]string, len(list))
		for i, p := range list {
			keys[i] = p.Key
		}
		return Preset{}, fmt.Errorf("%w: there is no preset %q; there are %s", plan.ErrInvalid, key, strings.Join(keys, ", "))
	}
	return list[i], nil
}

// Override sets fields of the load of every stage of a plan, as flags beside
// a preset do.
func Override(p plan.Plan, fields []plan.Setting) (plan.Plan, error) {
	p.Stages = slices.Clone(p.Stages)
	for i := range p.Stages {
		for _, s := range fields {
			field, err := workload.Lookup(s.Field)
			if err != nil {
				return p, err
			}
			if err := field.Set(&p.Stages[i].Load, s.Value); err != nil {
				return p, err
			}
		}
	}
	return p, nil
}

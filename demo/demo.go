// Package demo is the scenario that ships with the product: Sedgewater Field
// Station, a made-up coastal research station whose keeper of machines has to
// choose shared storage. It holds plain files that a user could write.
package demo

import (
	"embed"
	"fmt"
	"io/fs"

	"patientheron/core/plan"
	"patientheron/planfile"
)

//go:embed plans/*.yaml
var plans embed.FS

// Plan reads one of the scenario's plans by the name of its file.
func Plan(name string) (plan.Plan, error) {
	text, err := fs.ReadFile(plans, "plans/"+name+".yaml")
	if err != nil {
		return plan.Plan{}, fmt.Errorf("read demo plan %s: %w", name, err)
	}
	p, err := planfile.Read(text)
	if err != nil {
		return p, fmt.Errorf("read demo plan %s: %w", name, err)
	}
	return p, nil
}

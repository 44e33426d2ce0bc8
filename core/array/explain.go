package array

import (
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Explanation is what a description comes to, in words and ceilings.
type Explanation struct {
	Name   string              `json:"name"`
	Usable quantity.Bytes      `json:"usableBytes" doc:"Capacity for data, without what chunks leave over at its end"`
	Size   quantity.Bytes      `json:"sizeBytes" doc:"What hosts see of the volume"`
	Price  float64             `json:"price,omitempty" doc:"In an invented currency"`
	Words  []string            `json:"words" doc:"What it is and what it survives, in sentences"`
	Taken  []string            `json:"assumed,omitempty" doc:"What was taken for what the file does not say"`
	Costs  string              `json:"costs" doc:"What simulating it takes, in a sentence"`
	Uses   []setup.UseCeilings `json:"uses"`
}

// Explain says in words and ceilings what d describes.
func (d Description) Explain() Explanation {
	e := Explanation{Name: d.Name, Usable: asSold(d.Usable()), Size: asSold(d.Size()), Price: d.TotalPrice(), Words: d.Words(), Taken: d.Assumed(), Costs: d.Costs(), Uses: d.Setup().Explained()}
	return e
}

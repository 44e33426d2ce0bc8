package main

import (
	"context"
	"os"
	"time"

	"patientheron/core/choose"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/storage/simulated"
)

// choosing times a search for what to buy: the demo's, with more parts, so that there are at
// least five thousand designs, and when there is a first answer.
func choosing() error {
	sheet, err := os.ReadFile("demo/needs/afternoon.yaml")
	if err != nil {
		return err
	}
	n, err := needfile.Read(sheet)
	if err != nil {
		return err
	}
	list, err := os.ReadFile("demo/parts/dealer.yaml")
	if err != nil {
		return err
	}
	parts, err := partsfile.Read(list)
	if err != nil {
		return err
	}
	parts.Chunks = append(parts.Chunks, 32<<10, 128<<10, 512<<10)
	n.Budget = 0
	began, first := time.Now(), time.Duration(0)
	search := choose.Search{Need: n, Parts: parts, Measure: simulated.Measure, Progress: func(p choose.HowFar) {
		if first == 0 && p.Meeting > 0 {
			first = time.Since(began)
		}
	}}
	found, err := search.Run(context.Background())
	if err != nil {
		return err
	}
	row("a search for what to buy among so many designs, on all cores", "5,000 under 600 s", "%d, %d simulated, %.0f s", found.Designs, found.Measured, time.Since(began).Seconds())
	row("the same: until there is a first answer", "under 20 s", "%.1f s", first.Seconds())
	return nil
}

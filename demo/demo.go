// Package demo is the scenario that ships with the product: Sedgewater Field
// Station, a made-up coastal research station whose keeper of machines has to
// choose shared storage. It holds plain files that a user could write: the
// setups under consideration as array files, the station's uses as plans, and what they
// demand as a need sheet.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"patientheron/core/plan"
	"patientheron/format/planfile"
)

//go:embed plans/*.yaml arrays/*.yaml needs/*.yaml
var files embed.FS

// Uses are the plans of the station's uses, in the order of its day.
var Uses = []string{"hydrophones", "camera-archive", "samples-ledger", "virtual-machines", "nightly-backup"}

// Setups are the arrays under consideration. Each differs from the one it is
// best compared with by one thing.
var Setups = []string{
	"plain-parity", "read-cache", "write-back", "with-tier", "mirror-stripe", "one-member-slow", "degraded",
	"four-ssds", "second-link", "jumbo-frames", "jumbo-one-end", "mainland-copy",
}

// Sweep is the plan that sweeps the first setup itself.
const Sweep = "how-many-disks"

// Swept names the run of the sweep on a setup.
func Swept(setup string) string { return setup + ", swept" }

// LiveOn is the setup on which a run goes on at the pace of the wall.
const LiveOn = "with-tier"

// Live is the plan of that run: the virtual machines, for long enough to be watched.
func Live() (plan.Plan, error) {
	p, err := Plan("virtual-machines")
	if err != nil {
		return p, err
	}
	p.Name, p.Why = "The virtual machines, live", "What does a run look like while it goes on?"
	p.Stages[0].Load.For, p.Stages[0].Repeats = 120, 1
	return p, nil
}

// Files is the plan of the files that a summer leaves, and FilesOn the setups that carry
// them.
const Files = "summer-files"

// FilesOn are the setups on which the summer's files are copied up and down.
var FilesOn = []string{"plain-parity", "write-back", "with-tier", "four-ssds"}

// Race is the plan under which the setups RaceOn race each other.
const Race = "first-home"

// RaceOn are the setups that race to have a morning's files stored.
var RaceOn = []string{"plain-parity", "write-back", "four-ssds"}

// Racing names the run of a setup that races.
func Racing(setup string) string { return setup + ", racing" }

// Mainland is the plan of the experiment on the unit that is served over a link with a
// delay, MainlandSetup the setup behind it, and MainlandKeys what the host offers for its
// sessions: what the standard takes where nothing is said.
const (
	Mainland      = "mainland-link"
	MainlandSetup = "four-ssds"
	MainlandKeys  = "?InitialR2T=Yes&FirstBurstLength=65536&MaxBurstLength=262144&MaxOutstandingR2T=1&MaxRecvDataSegmentLength=262144"
	MainlandDelay = 0.001 // seconds each way
)

// Catalogue is the plan of a key-value store, and CatalogueOn the setups that carry it.
const Catalogue = "specimen-catalogue"

// CatalogueOn are the setups on which the catalogue of specimens is kept.
var CatalogueOn = []string{"plain-parity", "write-back", "with-tier", "four-ssds"}

// Cataloguing names the run of the catalogue on a setup.
func Cataloguing(setup string) string { return setup + ", catalogue" }

// OfFiles names the run of the summer's files on a setup.
func OfFiles(setup string) string { return setup + ", files" }

// Comparison is a question that setups answer, against one of them.
type Comparison struct {
	Name       string
	Baseline   string
	Candidates []string
}

// Comparisons are the station's questions. The first baseline is measured
// twice: compared with itself it must come out the same.
var Comparisons = []Comparison{
	{"What does a cache or a tier bring?", "plain-parity", []string{"read-cache", "write-back", "with-tier"}},
	{"Other ways with the same disks", "plain-parity", []string{"mirror-stripe", "one-member-slow", "degraded"}},
	{"Is it the cable?", "four-ssds", []string{"second-link", "jumbo-frames", "jumbo-one-end", "mainland-copy"}},
	{"How do the files of a summer fare?", OfFiles("plain-parity"), named(FilesOn[1:], OfFiles)},
	{"Who has the morning's files home first?", Racing("plain-parity"), named(RaceOn[1:], Racing)},
	{"What does the catalogue need?", Cataloguing("plain-parity"), named(CatalogueOn[1:], Cataloguing)},
	{"The same twice", "plain-parity", []string{Again}},
}

// named names the runs on setups.
func named(setups []string, name func(setup string) string) (names []string) {
	for _, setup := range setups {
		names = append(names, name(setup))
	}
	return names
}

// Again names the second run of the first setup.
const Again = "plain-parity, again"

// Plan reads one of the scenario's plans by the name of its file.
func Plan(name string) (plan.Plan, error) {
	text, err := fs.ReadFile(files, "plans/"+name+".yaml")
	if err != nil {
		return plan.Plan{}, fmt.Errorf("read demo plan %s: %w", name, err)
	}
	p, err := planfile.Read(text)
	if err != nil {
		return p, fmt.Errorf("read demo plan %s: %w", name, err)
	}
	return p, nil
}

// Needs are the station's need sheets: what each use of a day needs, which the runs of a
// day judge, and what an afternoon's uses need at once, which is measured on AtOnceOn.
const (
	DayNeed       = "station"
	AfternoonNeed = "afternoon"
)

// AtOnceOn are the setups on which an afternoon's uses are measured at once.
var AtOnceOn = []string{"plain-parity", "read-cache", "write-back", "with-tier", "mirror-stripe", "four-ssds"}

// Twin is the name of the twin of TwinOf, a setup that is not what it was sold as. It is fitted
// to what TwinPlan measured, with TwinGuess, the array file of what was sold; with TwinChange it
// predicts what TwinPredicted will come to on TwinThen.
const (
	Twin          = "The second-hand unit's twin"
	TwinOf        = "second-hand"
	TwinPlan      = "getting-to-know"
	TwinGuess     = "mirror-stripe"
	TwinPredicted = "with-ten-disks"
	TwinThen      = "second-hand-ten"
)

// TwinChange is what is to be another way, and TwinFree what is fitted.
var (
	TwinChange = plan.Setting{Field: "members.count", Value: "10"}
	TwinFree   = []string{"link.rate", "link.roundTrip", "members[0].seekAverage"}
)

// Setup is the text of the array file of a setup.
func Setup(name string) (text []byte, err error) {
	if text, err = fs.ReadFile(files, "arrays/"+name+".yaml"); err != nil {
		return nil, fmt.Errorf("read demo setup %s: %w", name, err)
	}
	return text, nil
}

// Need is the text of a need sheet by the name of its file.
func Need(name string) (text string, err error) {
	sheet, err := fs.ReadFile(files, "needs/"+name+".yaml")
	if err != nil {
		return "", fmt.Errorf("read the demo's need %s: %w", name, err)
	}
	return string(sheet), nil
}

// Day is all uses of the station one after the other.
func Day() (plan.Plan, error) {
	day := plan.Plan{Name: "A day at the station", Why: "How does this setup carry all that the station does?"}
	for _, use := range Uses {
		p, err := Plan(use)
		if err != nil {
			return day, err
		}
		for _, stage := range p.Stages {
			stage.Settle.Pause = 900 // what one use left in a cache shall not burden the next
			day.Stages = append(day.Stages, stage)
		}
	}
	return day, nil
}

// WriteSetup writes the array file of a setup into a folder and gives its
// path.
func WriteSetup(folder, name string) (string, error) {
	text, err := Setup(name)
	if err != nil {
		return "", err
	}
	path := filepath.Join(folder, name+".yaml")
	if err := os.WriteFile(path, text, 0o644); err != nil {
		return "", fmt.Errorf("write demo setup %s: %w", name, err)
	}
	return path, nil
}

// Package resource holds the records of Patient Heron as they are stored,
// travel over the API and are printed as JSON: volumes, saved workloads, runs
// and their measurements.
//
// They are plain values without behaviour beyond describing themselves. All
// numbers are in base units: bytes, seconds, per second, shares of one.
package resource

import (
	"slices"
	"time"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Volume is storage that can be measured.
type Volume struct {
	ID      int64        `json:"id"`
	Name    string       `json:"name" doc:"Short name, unique"`
	Locator string       `json:"locator" doc:"Where I/O goes: a folder, a file, a block device, array:FILE of a simulated array, or null:SIZE"`
	Kind    string       `json:"kind" enum:"null,folder,file,device,array"`
	Facts   *setup.Facts `json:"facts,omitempty" doc:"What was found there when it was last looked at; absent when it could not be looked at"`
	Trouble string       `json:"trouble,omitempty" doc:"Why it could not be looked at"`
	Consent *Consent     `json:"consent,omitempty" doc:"Agreement that what an existing file or device holds may be lost"`
	Created time.Time    `json:"created"`
}

// Consent is the user's agreement to lose what a volume holds. It names what
// it is about, so that it cannot apply to another thing that later appears
// under the same path.
type Consent struct {
	Size      quantity.Bytes `json:"sizeBytes" doc:"Size of the file or device, as the user stated it"`
	Serial    string         `json:"serial,omitempty" doc:"Serial number of the device, where it has one"`
	Signature string         `json:"signature,omitempty" doc:"What was found on it, such as 'ext4', when the user agreed to lose that too"`
	Given     time.Time      `json:"given"`
}

// Workload is a saved workload.
type Workload struct {
	ID      int64         `json:"id"`
	Name    string        `json:"name" doc:"Unique"`
	Load    workload.Spec `json:"load"`
	Created time.Time     `json:"created"`
}

// Status is where a run or a measurement stands.
type Status string

// The statuses. Queued, Preparing, Settling and Running are under way; the
// others are final.
const (
	Queued      Status = "queued"
	Preparing   Status = "preparing"
	Settling    Status = "settling"
	Running     Status = "running"
	Finished    Status = "finished"
	Stopped     Status = "stopped"     // the user stopped it
	Failed      Status = "failed"      // the reason says why
	Interrupted Status = "interrupted" // the service ended under it
)

// Final reports whether nothing will change any more.
func (s Status) Final() bool {
	return s == Finished || s == Stopped || s == Failed || s == Interrupted
}

// Run is one execution of a plan on a volume.
type Run struct {
	ID       int64         `json:"id"`
	Name     string        `json:"name"`
	VolumeID int64         `json:"volumeId"`
	Volume   Volume        `json:"volume" doc:"The volume as it was when the run began"`
	Plan     plan.Plan     `json:"plan"`
	Estimate plan.Estimate `json:"estimate" doc:"What the plan was expected to take"`
	Pace     float64       `json:"pace,omitempty" doc:"Of a simulated array: so many times as fast as the wall's clock, to be watched; 0 is as fast as it can"`
	Status   Status        `json:"status" enum:"queued,preparing,settling,running,finished,stopped,failed,interrupted"`
	Reason   string        `json:"reason,omitempty" doc:"Why it did not finish, and what to do"`
	Progress Progress      `json:"progress"`
	Host     string        `json:"host,omitempty" doc:"Name of the host that made it"`
	Version  string        `json:"version,omitempty" doc:"Version of Patient Heron that made it"`
	Created  time.Time     `json:"created"`
	Started  *time.Time    `json:"started,omitempty"`
	Ended    *time.Time    `json:"ended,omitempty"`
}

// Progress is how far a run is.
type Progress struct {
	Step     int            `json:"step" doc:"Number of the measurement under way, from 1; 0 before the first"`
	Steps    int            `json:"steps" doc:"Measurements the plan asks for"`
	Prepared quantity.Bytes `json:"preparedBytes,omitempty" doc:"While preparing: bytes of the test file written"`
	Prepare  quantity.Bytes `json:"prepareBytes,omitempty" doc:"While preparing: bytes to write"`
}

// Measurement is one workload at one point of the sweep, one repeat.
type Measurement struct {
	ID       int64            `json:"id"`
	RunID    int64            `json:"runId"`
	Position int              `json:"position" doc:"Number within the run, from 1"`
	Stage    int              `json:"stage" doc:"Number of the stage, from 1"`
	Name     string           `json:"name" doc:"Name of the stage"`
	Fill     bool             `json:"fill,omitempty" doc:"It only prepared the volume and is no result"`
	Point    []plan.Setting   `json:"point,omitempty" doc:"The fields the stage sweeps, at their values"`
	Repeat   int              `json:"repeat"`
	Repeats  int              `json:"repeats"`
	Load     workload.Spec    `json:"load"`
	Status   Status           `json:"status" enum:"queued,preparing,settling,running,finished,stopped,failed,interrupted"`
	Reason   string           `json:"reason,omitempty"`
	Summary  *measure.Summary `json:"summary,omitempty" doc:"Absent until it ended, and when it could not start"`
	Findings []judge.Finding  `json:"findings,omitempty" doc:"What to believe of it; judged when the measurement ended"`
	Started  time.Time        `json:"started"`
	Ended    *time.Time       `json:"ended,omitempty"`
}

// Unreliable reports whether a finding says not to trust a figure: "reads",
// "writes", or "total", which is no better than its parts.
func (m Measurement) Unreliable(figure string) bool {
	return slices.ContainsFunc(m.Findings, func(f judge.Finding) bool {
		return f.Weight == judge.Unreliable && (f.Figure == figure || f.Figure == "all" || figure == "total")
	})
}

// Title names the measurement within its run.
func (m Measurement) Title() string {
	title := m.Name
	if len(m.Point) > 0 {
		title += " at " + plan.Describe(m.Point)
	}
	return title
}

// RunDetail is a run with its measurements.
type RunDetail struct {
	Run
	Measurements []Measurement `json:"measurements"`
}

// Series is the intervals of a measurement.
type Series struct {
	MeasurementID int64              `json:"measurementId"`
	Intervals     []measure.Interval `json:"intervals"`
}

// Distribution is that of a measurement's latencies.
type Distribution struct {
	MeasurementID int64         `json:"measurementId"`
	Reads         []measure.Bar `json:"reads" doc:"Buckets that hold something, from short to long"`
	Writes        []measure.Bar `json:"writes"`
	EncodedReads  string        `json:"encodedReads,omitempty" doc:"All of it, in the open compressed V2 format of HdrHistogram (base64), in nanoseconds"`
	EncodedWrites string        `json:"encodedWrites,omitempty"`
}

// Point is one interval of one measurement, as the live feed sends it.
type Point struct {
	MeasurementID int64            `json:"measurementId"`
	Interval      measure.Interval `json:"interval"`
}

// About is what a service says of itself.
type About struct {
	Product string    `json:"product"`
	Version string    `json:"version"`
	Host    string    `json:"host"`
	Started time.Time `json:"started"`
	Waiting int       `json:"waiting" doc:"Runs that wait for their turn; one runs at a time"`
}

// Export is a whole run in one document.
type Export struct {
	Format       string           `json:"format" doc:"Always 'patient-heron-run/1'"`
	Run          Run              `json:"run"`
	Measurements []ExportedResult `json:"measurements"`
}

// ExportedResult is one measurement with all that was recorded of it.
type ExportedResult struct {
	Measurement
	Series  []measure.Interval `json:"series"`
	Latency Distribution       `json:"latency"`
}

// ExportFormat names the version of the export document.
const ExportFormat = "patient-heron-run/1"

// Package resource holds the records of Patient Heron as they are stored,
// travel over the API and are printed as JSON: volumes, runs
// and their measurements.
//
// They are plain values without behaviour beyond describing themselves. All
// numbers are in base units: bytes, seconds, per second, shares of one.
package resource

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientheron/core/answer"
	"patientheron/core/choose"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/need"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/race"
	"patientheron/core/setup"
	"patientheron/core/tune"
	"patientheron/core/twin"
	"patientheron/core/workload"
)

// Volume is storage that can be measured.
type Volume struct {
	ID      int64         `json:"id"`
	Name    string        `json:"name" doc:"Short name, unique"`
	Locator string        `json:"locator" doc:"Where I/O goes: a folder, a file, a block device, array:FILE for a simulated array, iscsi://PORTAL/TARGET/LUN, or null:SIZE"`
	Kind    string        `json:"kind" doc:"What the locator leads to, such as folder, device, array, LUN"`
	Traits  *setup.Traits `json:"traits,omitempty" doc:"What there is to know of the kind; absent in what a run keeps of its volume"`
	Writes  string        `json:"writes,omitempty" doc:"Where what a load writes goes, in words"`
	Facts   *setup.Facts  `json:"facts,omitempty" doc:"What was found there when it was last looked at; absent when it could not be looked at"`
	Trouble string        `json:"trouble,omitempty" doc:"Why it could not be looked at"`
	Consent *Consent      `json:"consent,omitempty" doc:"Agreement that what an existing file or device holds may be lost"`
	Created time.Time     `json:"created"`
}

// Consent is the user's agreement to lose what a volume holds. It names what
// it is about, so that it cannot apply to another thing that later appears
// under the same path.
type Consent struct {
	Size   quantity.Bytes `json:"sizeBytes" doc:"Size of the file or device, as the user stated it"`
	Serial string         `json:"serial,omitempty" doc:"Serial number of the device, where it has one"`
	Holds  string         `json:"signature,omitempty" doc:"What was found on it, such as 'xfs', when the user agreed to lose that too"`
	Given  time.Time      `json:"given"`

	Identity *setup.Identity `json:"identity,omitempty" doc:"What it is about: as found when it was given, or after the last run that wrote under it"`
	Lapsed   string          `json:"lapsed,omitempty" doc:"Why it no longer holds; give it anew to write again"`
}

// Unreadable names a record that is kept and cannot be read, beside those that
// can.
type Unreadable struct {
	Kind   string `json:"kind" doc:"Such as 'run'"`
	ID     int64  `json:"id,omitempty"`
	Reason string `json:"reason"`
}

// LeftBehind is a test file that a run left when the service ended under it.
type LeftBehind struct {
	ID      int64          `json:"id"`
	Path    string         `json:"path"`
	Nonce   string         `json:"-"` // that a folder bears; "" for a file
	Size    quantity.Bytes `json:"sizeBytes"`
	Trouble string         `json:"trouble,omitempty" doc:"Why it could not be looked at, or was not removed"`
	Created time.Time      `json:"created"`
}

// Status is where a run or a measurement stands.
type Status string

// The statuses. Finished and those after it are final.
const (
	Queued      Status = "queued"
	Preparing   Status = "preparing"
	Settling    Status = "settling"
	Waiting     Status = "waiting" // for its turn among the runs that are made together
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
	ID        int64         `json:"id"`
	Name      string        `json:"name"`
	VolumeID  int64         `json:"volumeId"`
	Volume    Volume        `json:"volume" doc:"The volume as it was when the run began"`
	Plan      plan.Plan     `json:"plan"`
	Joint     *Joint        `json:"joint,omitempty" doc:"Set when other volumes are measured under the same plan together with this one"`
	Estimate  plan.Estimate `json:"estimate" doc:"What the plan was expected to take"`
	Pace      float64       `json:"pace,omitempty" doc:"Of a simulated array: so many times as fast as the wall's clock, to be watched; 0 is as fast as it can"`
	Status    Status        `json:"status" enum:"queued,preparing,settling,waiting,running,finished,stopped,failed,interrupted"`
	Reason    string        `json:"reason,omitempty" doc:"Why it did not finish, and what to do"`
	Progress  Progress      `json:"progress"`
	Setup     setup.Setup   `json:"setup" doc:"The setup of the volume when the run started"`
	Checks    []setup.Check `json:"checks,omitempty" doc:"What was looked at before it began, and what came of it"`
	Overrides []string      `json:"overrides,omitempty" doc:"Names of failed checks that the user chose to pass over"`
	Host      string        `json:"host,omitempty" doc:"Name of the host that made it"`
	Version   string        `json:"version,omitempty" doc:"Version of Patient Heron that made it"`
	Created   time.Time     `json:"created"`
	Started   *time.Time    `json:"started,omitempty"`
	Ended     *time.Time    `json:"ended,omitempty"`
}

// Joint is the runs of several volumes that are made together, in turn or as a race.
type Joint struct {
	Runs []int64     `json:"runs" doc:"All of them, in the order of their volumes, this run among them"`
	As   plan.Beside `json:"as" enum:"in turn,race"`
}

// Beside says in words with which runs a run was made; "" for none.
func (r Run) Beside() string {
	if r.Joint == nil {
		return ""
	}
	var others []string
	for _, id := range r.Joint.Runs {
		if id != r.ID {
			others = append(others, fmt.Sprintf("run %d", id))
		}
	}
	words := "Made in turn with "
	if r.Joint.As == plan.Race {
		words = "A race with "
	}
	return words + strings.Join(others, " and ")
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
	ID              int64            `json:"id"`
	RunID           int64            `json:"runId"`
	Position        int              `json:"position" doc:"Number within the run, from 1"`
	Stage           int              `json:"stage" doc:"Number of the stage, from 1"`
	Name            string           `json:"name" doc:"Name of the stage"`
	Preconditioning bool             `json:"preconditioning,omitempty" doc:"It only prepared the volume and is no result"`
	Point           []plan.Setting   `json:"point,omitempty" doc:"The fields the stage sweeps, at their values"`
	Repeat          int              `json:"repeat"`
	Repeats         int              `json:"repeats"`
	Load            workload.Spec    `json:"load"`
	Status          Status           `json:"status" enum:"queued,preparing,settling,waiting,running,finished,stopped,failed,interrupted"`
	Reason          string           `json:"reason,omitempty"`
	Summary         *measure.Summary `json:"summary,omitempty" doc:"Absent until it ended, and when it could not start"`
	Findings        []judge.Finding  `json:"findings,omitempty" doc:"What to believe of it; judged when the measurement ended"`
	Started         time.Time        `json:"started"`
	Ended           *time.Time       `json:"ended,omitempty"`
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
	Markers      []Marker      `json:"markers"`
	Variants     []Variant     `json:"variants,omitempty" doc:"Setups of the array at the points where a sweep changed it"`
	Unreadable   []Unreadable  `json:"unreadable,omitempty" doc:"Measurements that are kept and cannot be read"`
}

// Variant is the setup of a simulated array with some keys of its file at other values.
type Variant struct {
	Changed []plan.Setting `json:"changed"`
	Setup   setup.Setup    `json:"setup"`
}

// SetupOf is the setup that a measurement was made on.
func (d RunDetail) SetupOf(m Measurement) setup.Setup {
	changed := plan.VolumeOf(m.Point)
	for _, v := range d.Variants {
		if len(changed) > 0 && slices.Equal(v.Changed, changed) {
			return v.Setup
		}
	}
	return d.Setup
}

// Marker is a named moment on a run's time axis.
type Marker struct {
	ID            int64            `json:"id"`
	RunID         int64            `json:"runId"`
	MeasurementID int64            `json:"measurementId" doc:"Measurement that was under way"`
	At            quantity.Seconds `json:"atSeconds" doc:"Since that measurement began"`
	Name          string           `json:"name" doc:"What happened then"`
	Created       time.Time        `json:"created"`
	Went          *judge.Halves    `json:"went,omitempty" doc:"The measurement before and after it, once the run has ended"`
}

// Look is what was found before measuring: what stands behind a volume, what
// each hop can carry, and what to mind.
type Look struct {
	Locator string              `json:"locator"`
	Kind    string              `json:"kind"`
	Traits  setup.Traits        `json:"traits" doc:"What there is to know of the kind"`
	Facts   *setup.Facts        `json:"facts,omitempty"`
	Setup   setup.Setup         `json:"setup" doc:"Read, with what the user told in its place"`
	Chain   []setup.Layer       `json:"chain" doc:"From the volume down to the media, as far as this host can see"`
	Checks  []setup.Check       `json:"checks"`
	Probe   *setup.Probe        `json:"probe,omitempty"`
	Uses    []setup.UseCeilings `json:"uses" doc:"What each hop can pass, for four kinds of load"`
	Took    quantity.Seconds    `json:"tookSeconds"`
	At      time.Time           `json:"at"`
}

// SetupVersion is what was known of a volume's setup from some time on.
type SetupVersion struct {
	VolumeID int64            `json:"volumeId"`
	Version  int              `json:"version" doc:"From 1"`
	Setup    setup.Setup      `json:"setup"`
	Changed  setup.Difference `json:"changed" doc:"Against the version before"`
	Created  time.Time        `json:"created"`
}

// Reach is how far a measurement came against the ceilings of its setup.
type Reach struct {
	MeasurementID int64             `json:"measurementId"`
	Ceilings      setup.UseCeilings `json:"ceilings"`
	Reached       float64           `json:"reached,omitempty" doc:"Its rate as a share of the lowest ceiling; absent when none is known"`
}

// Group names a side of a comparison: one run, or several of one setup.
type Group struct {
	Name string  `json:"name,omitempty" maxLength:"80" pattern:"^[^\\p{Cc}\\p{Cf}]*$" doc:"By default made from volume and run"`
	Runs []int64 `json:"runs" minItems:"1" maxItems:"100"`

	Marker string `json:"marker,omitempty" maxLength:"120" doc:"Of its measurements only what came before or after the marker of this name"`
	Half   Half   `json:"half,omitempty" enum:"before,after" doc:"Which of both"`
}

// Half is a part of a measurement that has a marker.
type Half string

// The halves.
const (
	Before Half = "before"
	After  Half = "after"
)

// Apart reports whether two groups of the same runs are different halves of their measurements.
func (g Group) Apart(other Group) bool {
	return g.Half != "" && other.Half != "" && g.Half != other.Half
}

// InWords names the runs: "run 12", or "runs 12+14".
func (g Group) InWords() string {
	texts := make([]string, len(g.Runs))
	for i, id := range g.Runs {
		texts[i] = strconv.FormatInt(id, 10)
	}
	if len(texts) == 1 {
		return "run " + texts[0]
	}
	return "runs " + strings.Join(texts, "+")
}

// Comparison is a baseline with its candidates, as it is kept. What comes of
// it is worked out anew from the runs whenever it is asked for.
type Comparison struct {
	ID         int64            `json:"id,omitempty" doc:"0 while it is not kept"`
	Name       string           `json:"name"`
	Baseline   Group            `json:"baseline"`
	Candidates []Group          `json:"candidates"`
	Noise      quantity.Share   `json:"noise"`
	Weights    []compare.Weight `json:"weights,omitempty" doc:"What an index counts how much"`
	Asked      Asked            `json:"asked" doc:"What else is asked"`
	Created    time.Time        `json:"created"`
}

// Asked is what a comparison is asked besides.
type Asked struct {
	As     []compare.As     `json:"as,omitempty" maxItems:"16" doc:"Pairs of stages with different names that are compared with each other. Their loads may differ"`
	Within quantity.Seconds `json:"p99Seconds,omitempty" minimum:"0" maximum:"3600" doc:"What p99 latency has to stay within for a load to count as kept"`
}

// Compared is a comparison with what comes of it.
type Compared struct {
	Comparison
	Result  compare.Result      `json:"result"`
	Answers []answer.Conclusion `json:"answers" doc:"What the measurements of all sides answer together"`
	Figures []figure.Figure     `json:"figures" doc:"All figures, in the order in which they are shown"`
}

// NeedSheet is a need sheet as it is kept. What comes of it is worked out anew whenever it is
// asked for.
type NeedSheet struct {
	ID      int64     `json:"id,omitempty" doc:"0 while it is not kept"`
	Name    string    `json:"name"`
	Text    string    `json:"text" doc:"The sheet as its user wrote it"`
	Created time.Time `json:"created"`
	Changed time.Time `json:"changed"`
}

// Judgement is how setups stand to one need.
type Judgement struct {
	NeedID int64  `json:"needId,omitempty" doc:"0 where the sheet is not kept"`
	Error  string `json:"error,omitempty" doc:"Why a kept sheet could not be read; nothing is judged then"`

	Untouched []string `json:"untouched,omitempty" doc:"Where all volumes were asked about: those of which nothing was measured that the uses ask for"`
	need.Judged
}

// Verdicts are how setups stand to several needs.
type Verdicts struct {
	Judged  []Judgement     `json:"judged"`
	Figures []figure.Figure `json:"figures" doc:"All figures, in the order in which they are shown"`
	Left    []string        `json:"leftOut,omitempty" doc:"Setups that could not be judged, and why"`
}

// Aside is how far a piece of work is that the service does aside: one at a time, while no run
// measures.
type Aside struct {
	ID      int64     `json:"id"`
	Status  Status    `json:"status" enum:"running,finished,stopped,failed"`
	Reason  string    `json:"reason,omitempty" doc:"Why it failed or was stopped"`
	Waiting bool      `json:"waiting,omitempty" doc:"It waits until a run has ended, so that it falsifies no figure"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
}

// Search is a search for what to buy.
type Search struct {
	Aside
	Need     string         `json:"need"`
	Parts    string         `json:"parts"`
	Progress choose.HowFar  `json:"progress"`
	Chosen   *choose.Chosen `json:"chosen,omitempty" doc:"What it came to; absent in lists"`
}

// Fitting is a twin that is being fitted. When that is done the twin is kept.
type Fitting struct {
	Aside
	Name     string       `json:"name" doc:"Of the twin"`
	VolumeID int64        `json:"volumeId"`
	Progress twin.HowNear `json:"progress"`
	TwinID   int64        `json:"twinId,omitempty" doc:"The twin, when it is finished"`
}

// Twin is a simulated array that was fitted to what was measured of a real one.
type Twin struct {
	ID          int64        `json:"id"`
	Name        string       `json:"name"`
	VolumeID    int64        `json:"volumeId" doc:"The volume it is a twin of"`
	Volume      string       `json:"volume" doc:"Its name"`
	Runs        []int64      `json:"runs" doc:"What it was fitted to"`
	Text        string       `json:"text" doc:"Its array file"`
	Created     time.Time    `json:"created"`
	Fitted      *twin.Fitted `json:"fitted,omitempty" doc:"What is known of it; absent in lists"`
	Off         float64      `json:"off" doc:"How far it is off under the loads that it was fitted to, as a share"`
	Unseen      *float64     `json:"unseen,omitempty" doc:"The same under loads that it was not shown"`
	Predictions []Prediction `json:"predictions,omitempty" doc:"What was predicted with it, newest first; absent in lists"`
}

// Prediction is what a twin predicted, beside what was measured since.
type Prediction struct {
	ID         int64             `json:"id"`
	Changes    []plan.Setting    `json:"changes" doc:"Keys of the array file that stood for what was to be another way"`
	VolumeID   int64             `json:"volumeId" doc:"The volume whose measurements it is confronted with"`
	Volume     string            `json:"volume"`
	Created    time.Time         `json:"created"`
	Predicted  []twin.Predicted  `json:"predicted"`
	Confronted []twin.Confronted `json:"confronted" doc:"Each figure with what was measured on the volume after it was predicted"`
	Words      string            `json:"words" doc:"What came of it, in a sentence"`
}

// Shape is what the sweeps and repeats of a run show.
type Shape struct {
	Points []compare.Alone `json:"points" doc:"Each point with all its repeats together"`
	Lines  []compare.Line  `json:"lines" doc:"How rate and latency go with what was swept"`
	Tuned  []StageTuned    `json:"tuned,omitempty" doc:"Which parameters matter, of each stage that was an experiment"`

	Answers []answer.Conclusion `json:"answers" doc:"What the measurements of a sweep answer together"`
}

// Races are the measurements that several volumes made at the same moments.
type Races struct {
	Joint Joint       `json:"joint"`
	Races []NamedRace `json:"races" doc:"In the order in which they were begun; the one under way is the last"`
}

// NamedRace is one race, and what was raced in.
type NamedRace struct {
	Position int            `json:"position" doc:"Number of the measurement within each run"`
	Title    string         `json:"title"`
	Point    []plan.Setting `json:"point,omitempty"`
	Repeat   int            `json:"repeat"`
	Repeats  int            `json:"repeats"`
	race.Race
}

// Adjustment is a parameter that an experiment can try at other values.
type Adjustment struct {
	plan.Axis
	Now string `json:"now" doc:"Its value in the baseline"`
	Of  string `json:"of" doc:"What it is about, in words"`
}

// StageTuned is what a stage that was an experiment came to, or shows so far.
type StageTuned struct {
	Stage string `json:"stage"`
	tune.Answer
	Record string `json:"record" doc:"The same as plain text, with the settings for either side"`
}

// Trial is the measurement as one of an experiment about a figure.
func (m Measurement) Trial(f figure.Figure) tune.Trial {
	failed := m.Reason
	if failed == "" && m.Status != Finished {
		failed = "it is " + string(m.Status)
	}
	if m.Status == Finished {
		failed = ""
	}
	t := tune.TrialOf(m.Point, m.Repeat, f, m.Summary, failed)
	t.Doubt = m.Unreliable("total")
	return t
}

// TunedOf is what the stages of a run that were experiments show. Kept is the locator of the
// volume with settings in place of its own; nil where that is not asked for.
func TunedOf(r Run, measurements []Measurement, kept func([]plan.Setting) string) (tuned []StageTuned, err error) {
	for number, stage := range r.Plan.Stages {
		if stage.Tune == nil {
			continue
		}
		steps, err := (plan.Plan{Stages: r.Plan.Stages[number : number+1]}).Steps()
		if err != nil {
			return nil, err
		}
		var trials []tune.Trial
		for _, m := range measurements {
			if m.Stage == number+1 && m.Status.Final() && m.Status != Stopped && m.Status != Interrupted {
				trials = append(trials, m.Trial(stage.Tune.FigureOf(stage.Load)))
			}
		}
		of := StageTuned{Stage: steps[0].Name, Answer: tune.Analyse(steps[0], trials)}
		heading := tune.Heading{Run: r.ID, Volume: r.Volume.Name, Locator: r.Volume.Locator, Load: stage.Load.Describe(), When: r.Created.Format("2 January 2006")}
		if settings := plan.VolumeOf(of.Keep); len(settings) > 0 && kept != nil {
			heading.Kept = kept(settings)
		}
		of.Record = of.Answer.Record(heading)
		tuned = append(tuned, of)
	}
	return tuned, nil
}

// Series is the intervals of a measurement.
type Series struct {
	MeasurementID int64              `json:"measurementId"`
	Intervals     []measure.Interval `json:"intervals"`
	Total         int                `json:"total" doc:"How many there are in all"`
	NextFrom      int                `json:"nextFrom,omitempty" doc:"Where the next page begins; absent on the last"`
	Thinned       bool               `json:"thinned,omitempty" doc:"Some were left out: what is here are the lowest, the highest and the slowest of each stretch"`
	Unreadable    int                `json:"unreadable,omitempty" doc:"Kept, but cannot be read"`
}

// Distribution is that of a measurement's latencies.
type Distribution struct {
	MeasurementID int64                          `json:"measurementId"`
	Classes       map[measure.Class]ClassLatency `json:"classes" doc:"By class of operation: reads, writes, flushes, trims; those of which something completed"`
}

// ClassLatency is the latencies of one class of operation.
type ClassLatency struct {
	Bars    []measure.Bar `json:"bars" doc:"Buckets that hold something, from short to long"`
	Encoded string        `json:"encoded" doc:"All of it, in the open compressed V2 format of HdrHistogram (base64), in nanoseconds"`
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
	Waiting int       `json:"waiting" doc:"Runs that wait for their turn: on real storage one runs at a time, on simulated arrays one a core"`
	Trouble string    `json:"trouble,omitempty" doc:"What keeps runs from going on, and what to do"`
}

// Export is a whole run in one document.
type Export struct {
	Format       string           `json:"format" doc:"Always 'patient-heron-run/2'"`
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
const ExportFormat = "patient-heron-run/2"

package resource

import (
	"patientheron/core/compare"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// What callers send. The limits in the tags are the contract's: the service refuses
// what lies outside them before anything looks at it.

// NewVolume is what registering a volume takes.
type NewVolume struct {
	Name    string          `json:"name,omitempty" maxLength:"80" pattern:"^[\\p{L}\\p{N}][\\p{L}\\p{N} ._-]*$" doc:"Short name; by default made from the locator"`
	Locator string          `json:"locator" minLength:"1" maxLength:"4096" doc:"A folder, a file, a block device (absolute path), array:FILE, or null:SIZE"`
	Consent *ConsentToWrite `json:"consent,omitempty" doc:"Agreement that what an existing file or device holds may be lost"`
}

// ConsentToWrite states what the user agrees to lose. It must match what is
// found, so that a slip of the hand does not reach another disk.
type ConsentToWrite struct {
	Size   quantity.Bytes `json:"sizeBytes" minimum:"1" doc:"Exact size of the file or device"`
	Serial string         `json:"serial,omitempty" doc:"Serial number of the device, if it has one"`
	Holds  string         `json:"signature,omitempty" doc:"What is on it, as a refusal named it, if that may be lost too"`
}

// NewRun is what starting a run takes.
type NewRun struct {
	Name     string    `json:"name,omitempty" maxLength:"120" pattern:"^[^\\p{Cc}\\p{Cf}]*$" doc:"By default made from the plan"`
	VolumeID int64     `json:"volumeId" minimum:"1"`
	Beside   []int64   `json:"besideIds,omitempty" maxItems:"8" doc:"Volumes that are measured together with it under the same plan, each in a run of its own, in turn or as a race: as the plan says"`
	Plan     plan.Plan `json:"plan"`
	Override []string  `json:"override,omitempty" maxItems:"40" doc:"Names of checks that shall not stop the run when they fail; recorded with it"`
	Pace     float64   `json:"pace,omitempty" minimum:"0" maximum:"1000000" doc:"Of a simulated array: so many times as fast as the wall's clock, to be watched; 0 is as fast as it can"`
}

// ToldFact is one fact that a user tells. An empty value takes it back.
type ToldFact struct {
	Key      string `json:"key" maxLength:"120"`
	Value    string `json:"value" maxLength:"400"`
	Measured bool   `json:"measured,omitempty" doc:"It comes from a measurement, such as that of a member alone"`
}

// ToldSetup is what a user tells of a volume's setup.
type ToldSetup struct {
	Facts   []ToldFact `json:"facts,omitempty" maxItems:"500" doc:"Facts to add, replace or take back"`
	Text    string     `json:"text,omitempty" maxLength:"262144" doc:"A setup file instead"`
	Replace bool       `json:"replace,omitempty" doc:"Forget what was told or measured before"`
	Version *int       `json:"version,omitempty" minimum:"0" doc:"The version this is meant to follow: when another was kept meanwhile, nothing is changed (409)"`
}

// NewComparison is what comparing takes.
type NewComparison struct {
	Name       string           `json:"name,omitempty" maxLength:"120" pattern:"^[^\\p{Cc}\\p{Cf}]*$" doc:"Under which it is kept"`
	Baseline   Group            `json:"baseline"`
	Candidates []Group          `json:"candidates" minItems:"1" maxItems:"8"`
	Noise      quantity.Share   `json:"noise,omitempty" minimum:"0" maximum:"1" doc:"Smallest difference that matters; 0 means 5 %"`
	Weights    []compare.Weight `json:"weights,omitempty" maxItems:"64" doc:"How much each stage counts in an index; those without a weight do not count"`
	Asked      Asked            `json:"asked,omitempty" doc:"What else is asked"`
	Keep       bool             `json:"keep,omitempty" doc:"Keep it under its name"`
}

// NewNeed is what keeping a need sheet takes.
type NewNeed struct {
	Text string `json:"text" minLength:"1" maxLength:"262144" doc:"A need sheet (docs/needs.md)"`
}

// NewNeeded is what it takes to find out what has to be measured to judge a volume by a need.
type NewNeeded struct {
	Text     string            `json:"text" minLength:"1" maxLength:"262144" doc:"A need sheet"`
	Repeats  int               `json:"repeats" minimum:"1" maximum:"100" doc:"How often each use is measured"`
	All      bool              `json:"all,omitempty" doc:"Uses that were measured as well"`
	Degraded bool              `json:"degraded,omitempty" doc:"While a member of a simulated array is missing, and while another is filled in its place, instead of whole"`
	Rebuild  quantity.ByteRate `json:"rebuildBytesPerSecond,omitempty" minimum:"0" doc:"Rate at which that one is filled; 0 for 100 MB/s"`
}

// NewVerdicts is what judging setups takes.
type NewVerdicts struct {
	Text    string  `json:"text,omitempty" maxLength:"262144" doc:"A need sheet"`
	Needs   []int64 `json:"needIds,omitempty" maxItems:"64" doc:"Kept need sheets; where there is no text either, all of them"`
	Setups  []Group `json:"setups,omitempty" maxItems:"48" doc:"Setups by their runs"`
	Volumes []int64 `json:"volumeIds,omitempty" maxItems:"48" doc:"Setups by their volume: with all runs of the setup that was measured last. Where there are no setups either, all volumes that were measured"`
}

// NewSearch is what looking for what to buy takes.
type NewSearch struct {
	Need   string `json:"need,omitempty" maxLength:"262144" doc:"A need sheet"`
	NeedID int64  `json:"needId,omitempty" minimum:"0" doc:"A kept need sheet instead"`
	Parts  string `json:"parts" minLength:"1" maxLength:"262144" doc:"A list of parts (docs/choose.md)"`
	Seed   uint64 `json:"seed,omitempty" maximum:"9007199254740991"`
	Short  int    `json:"short,omitempty" minimum:"0" maximum:"50" doc:"Designs that meet the need to show; 0 means 5"`
}

// NewTwin is what fitting a twin takes.
type NewTwin struct {
	Name     string   `json:"name" minLength:"1" maxLength:"80" pattern:"^[^\\p{Cc}\\p{Cf}]*$" doc:"Under which it is kept"`
	VolumeID int64    `json:"volumeId" minimum:"1" doc:"The volume it is to be a twin of"`
	Runs     []int64  `json:"runs,omitempty" maxItems:"100" doc:"Runs of that volume to fit it to; none for all of the setup that was measured last"`
	Guess    string   `json:"guess,omitempty" maxLength:"262144" doc:"An array file (docs/arrays.md) that describes the volume as far as it is known; none for what the facts of its setup tell, or for the array file that it is"`
	Free     []string `json:"free,omitempty" maxItems:"12" doc:"Keys of the array file to fit; none for all rates and times of what the guess has"`
	Seed     uint64   `json:"seed,omitempty" maximum:"9007199254740991"`
}

// NewPrediction is what predicting takes.
type NewPrediction struct {
	Changes  []plan.Setting `json:"changes,omitempty" maxItems:"32" doc:"Keys of the array file at other values, for what is to be another way"`
	VolumeID int64          `json:"volumeId,omitempty" minimum:"0" doc:"The volume whose measurements it is to be confronted with; 0 for that of the twin"`
	Plan     plan.Plan      `json:"plan" doc:"The loads; how often they are repeated does not matter"`
}

// NewEfficiency is what setting an array against its members takes.
type NewEfficiency struct {
	Array   MeasuredSetup   `json:"array"`
	Members []MeasuredSetup `json:"members" minItems:"2" maxItems:"64" doc:"Each measured alone; what they did in races that all of them were in is what they do at once"`
}

// MeasuredSetup is a setup by what was measured of it.
type MeasuredSetup struct {
	VolumeID int64   `json:"volumeId,omitempty" minimum:"0" doc:"All runs of the setup of this volume that was measured last"`
	Runs     []int64 `json:"runs,omitempty" maxItems:"100" doc:"Or these runs"`
}

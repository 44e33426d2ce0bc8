package planfile

import (
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/strictyaml"
)

const ledger = `name: Samples ledger
why: "How fast?"
stages:
  - name: precondition
    precondition: {passes: 2, order: random, block: 64KiB}
    load: {span: 1GiB}
  - name: small transactions
    load:
      block: "4KiB:3,64KiB:1"
      reads: 70%
      order: skewed
      hot: 80%/20%
      for: 60s
    sweep:
      - {field: depth, values: [1..8, 32]}
      - {field: workers, values: 2}
    shuffle: true
    repeats: 3
    settle: {pause: 2s, quiet: 30s}
`

func TestReadGivesEveryValue(t *testing.T) {
	p, err := Read([]byte(ledger))
	if err != nil {
		t.Fatal(err)
	}
	first, small := p.Stages[0], p.Stages[1]
	if p.Name != "Samples ledger" || p.Why != "How fast?" || *first.Precondition != (plan.Precondition{Passes: 2, Order: "random", Block: 64 * quantity.KiB}) {
		t.Errorf("%+v", p)
	}
	if small.Load.Reads != 0.7 || len(small.Load.Blocks) != 2 || small.Load.HotSpan != 0.2 || small.Load.For != 60 {
		t.Errorf("load %+v", small.Load)
	}
	if !small.Shuffle || small.Repeats != 3 || small.Settle.Quiet != 30 || !reflect.DeepEqual(small.Sweep[0].Values, []string{"1..8", "32"}) {
		t.Errorf("stage %+v", small)
	}
	again, err := Read([]byte(Write(p)))
	if err != nil || !reflect.DeepEqual(p, again) {
		t.Errorf("written and read back: %v\n%s", err, Write(p))
	}
}

// What stands beside the stages and within loads of files comes back as it was written.
func TestFilesOfAFolderInARace(t *testing.T) {
	const text = "beside: race\nstages:\n  - load: {from: /srv/films, task: put, passes: 1}\n"
	p, err := Read([]byte(text))
	if err != nil || p.Beside != plan.Race || files.FromFolder(p.Stages[0].Load) != "/srv/films" {
		t.Fatalf("%+v (%v)", p, err)
	}
	again, err := Read([]byte(Write(p)))
	if err != nil || !reflect.DeepEqual(p, again) {
		t.Errorf("written and read back: %v\n%s", err, Write(p))
	}
	for text, says := range map[string]string{
		"beside: alone\nstages:\n  - load: {}\n":                      "line 1, column 9",
		"stages:\n  - load: {from: films, task: put}\n":               "not a whole path",
		"stages:\n  - load: {from: /srv/films, task: \"put,save\"}\n": "use task put",
	} {
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestMistakesHaveALineAndAColumn(t *testing.T) {
	for name, c := range map[string]struct {
		text         string
		line, column int
		words        string
	}{
		"unknown key":        {"name: x\nstage: []\n", 2, 1, `no key "stage"`},
		"unknown load field": {"stages:\n  - load:\n      blok: 4KiB\n", 3, 7, `no key "blok"`},
		"bad value":          {"stages:\n  - load:\n      depth: many\n", 3, 14, "not a whole number"},
		"impossible value":   {"stages:\n  - load:\n      depth: 0\n", 3, 14, "keeps from 1 to 4096"},
		"impossible pair":    {"stages:\n  - load: {order: random, stride: 1MiB}\n", 2, 35, "use order strided"},
		"impossible sweep":   {"stages:\n  - load: {}\n    sweep: [{field: depth, values: [1, 0]}]\n", 3, 36, "keeps from 1 to 4096"},
		"unknown sweep":      {"stages:\n  - load: {}\n    sweep: [{field: colour, values: [1]}]\n", 3, 21, "no field"},
		"twice":              {"name: x\nname: y\nstages: [{load: {}}]\n", 2, 1, ""},
		"list wanted":        {"stages: none\n", 1, 9, "is a list"},
		"mapping wanted":     {"stages:\n  - just words\n", 2, 5, "is a mapping"},
		"not YAML":           {"stages: [\n", 1, 9, "not YAML"},
		"empty":              {"", 1, 1, "empty"},
		"two documents":      {"stages: [{load: {}}]\n---\nname: x\n", 0, 0, "second document"},
	} {
		_, err := Read([]byte(c.text))
		var wrong *Error
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if c.line != 0 && (wrong.Line != c.line || wrong.Column < 1 || (c.column != 0 && wrong.Column != c.column)) {
			t.Errorf("%s: at line %d, column %d, want %d, %d: %v", name, wrong.Line, wrong.Column, c.line, c.column, err)
		}
		if !errors.Is(err, strictyaml.ErrInvalid) && !errors.Is(err, plan.ErrInvalid) && !errors.Is(err, workload.ErrInvalid) {
			t.Errorf("%s: the cause is lost: %v", name, err)
		}
	}
}

func TestPresetsArePossibleAndExplained(t *testing.T) {
	list, err := Presets()
	if err != nil {
		t.Fatal(err)
	}
	if len(list) != 13 {
		t.Errorf("%d presets", len(list))
	}
	for _, p := range list {
		if p.Plan.Name == "" || !strings.HasSuffix(p.Plan.Why, "?") {
			t.Errorf("%s: named %q, explained as %q", p.Key, p.Plan.Name, p.Plan.Why)
		}
		again, err := Read([]byte(Write(p.Plan)))
		if err != nil || !same(t, again, p.Plan) {
			t.Errorf("%s does not survive writing: %v\n%s", p.Key, err, Write(p.Plan))
		}
	}
	if _, err := FindPreset("nothing"); !errors.Is(err, plan.ErrInvalid) {
		t.Errorf("an unknown preset: %v", err)
	}
	p, err := FindPreset("ledger")
	if err != nil {
		t.Fatal(err)
	}
	short, err := Override(p.Plan, []plan.Setting{{Field: "for", Value: "1s"}, {Field: "span", Value: "16MiB"}})
	if err != nil || short.Stages[1].Load.For != 1 || p.Plan.Stages[1].Load.For == 1 {
		t.Errorf("overridden: %v, %+v", err, short.Stages[1].Load)
	}
}

func TestExperimentsSurviveWriting(t *testing.T) {
	p, err := Read([]byte(`stages:
  - load: {block: 64KiB, for: 5s}
    tune:
      figure: p99
      budget: 20m
      parameters:
        - {field: depth, values: 4..16}
        - {field: MaxBurstLength, values: [65536, 1048576], now: "262144"}
        - {field: ImmediateData, values: ["No"]}
        - {field: layout.chunk, values: [64KiB]}
`))
	if err != nil {
		t.Fatal(err)
	}
	tune := p.Stages[0].Tune
	if tune.Figure != "p99" || tune.Budget != 1200 || len(tune.Parameters) != 4 || tune.Parameters[1].Now != "262144" || tune.Parameters[2].Values[0] != "No" {
		t.Errorf("read as %+v", tune)
	}
	again, err := Read([]byte(Write(p)))
	if err != nil || !same(t, again, p) {
		t.Errorf("written as %s: %v", Write(p), err)
	}
	for text, want := range map[string]string{
		"stages: [{tune: {}}]": "there are no parameters to try",
		"stages: [{tune: {parameters: [{field: depth, values: [2]}, {field: depth, values: [4]}]}}]":               "depth stands twice",
		"stages: [{tune: {parameters: [{field: dept, values: [2]}]}}]":                                             "dept",
		"stages: [{tune: {parameters: [{field: Depth, values: [2]}]}}]":                                            "Depth",
		"stages: [{tune: {rounds: 2, parameters: [{field: depth, values: [2]}]}}]":                                 "2 rounds",
		"stages: [{tune: {figure: speed, parameters: [{field: depth, values: [2]}]}}]":                             "speed",
		"stages: [{tune: {budget: 10s, parameters: [{field: depth, values: [2]}]}}]":                               "three rounds of each half take about",
		"stages: [{tune: {parameters: [{field: depth, values: [0]}]}}]":                                            "depth",
		"stages: [{sweep: [{field: depth, values: [2]}], tune: {parameters: [{field: depth, values: [2]}]}}]":      "has no sweep",
		"stages: [{repeats: 4, tune: {parameters: [{field: depth, values: [2]}]}}]":                                "rounds instead of repeats",
		"stages: [{load: {for: 0, amount: 1GiB}, tune: {budget: 10m, parameters: [{field: depth, values: [2]}]}}]": "give the rounds instead",
	} {
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// same compares plans as they are kept: what was worked out of their files does not count.
func same(t *testing.T, a, b plan.Plan) bool {
	t.Helper()
	one, err := json.Marshal(a)
	if err != nil {
		t.Fatal(err)
	}
	other, err := json.Marshal(b)
	if err != nil {
		t.Fatal(err)
	}
	return string(one) == string(other)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(ledger))
	f.Add([]byte("stages: [{load: {block: 4KiB, reads: 50%}}]"))
	f.Add([]byte("stages: &a [*a]"))
	f.Add([]byte("files: {classes: {name: a, number: 3, size: {median: 1MiB, spread: 2}}}\nstages: [{load: {task: save, passes: 2}}, {load: {task: \"put:1,fetch:2\"}}]"))
	f.Add([]byte("stages: [{load: {feedRate: 2MB/s, buffer: 2s}, fit: {from: 2, to: 50, late: 1%}, repeats: 2}, {load: {feeds: 3, frames: hd1080/20@25}}]"))
	f.Add([]byte("stages: [{load: {files: 10 x 4KiB + 2 x 1MiB, flush: end}, sweep: [{field: task, values: [put, fetch]}]}]"))
	f.Add([]byte("stages: [{load: {block: 64KiB}, tune: {rounds: 4, figure: p99, parameters: [{field: depth, values: [4, 16]}, {field: ImmediateData, values: \"No\", now: \"Yes\"}]}}]"))
	f.Add([]byte("? [a]\n: b"))
	f.Add([]byte("stages:\n- load: !!binary aGk=\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Read(text)
		if err != nil {
			return
		}
		if again, err := Read([]byte(Write(p))); err != nil {
			t.Errorf("%q was read, but written as %q it is not: %v", text, Write(p), err)
		} else if len(again.Stages) != len(p.Stages) {
			t.Errorf("%q lost stages", text)
		}
	})
}

// Several loads at once are read, written and read again; each mistake has its place.
func TestLoadsAtOnceSurviveWriting(t *testing.T) {
	const text = `name: An afternoon
stages:
  - name: afternoon
    load:
      warmUp: 1s
      for: 5s
      together:
        - {name: hydrophones, feeds: 24, feedRate: 1.5MB/s, reads: 0%, buffer: 2s, span: 960GiB}
        - {name: "look: ups", block: "4KiB:6,16KiB:2", order: skewed, hot: 90%/10%, depth: 16, workers: 2, span: 32GiB}
        - {name: ledger, stores: 1, requests: "put:1,get:3", value: 400B, span: 8GiB}
        - {name: notes, files: 200 x 4KiB, task: save, depth: 4}
        - name: archive
          task: put
          files:
            classes:
              - {name: "scans: large", number: 40, size: {from: 5MiB, to: 9MiB}}
              - {name: pages, number: 90, size: 80KiB}
    repeats: 3
`
	p, err := Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	load := p.Stages[0].Load
	if load.Kind != workload.TogetherKind || len(load.Together) != 5 || len(files.Of(load.Together[4]).Set.Classes) != 2 || load.Together[1].Workers != 2 || load.For != 5 {
		t.Errorf("%+v", load)
	}
	for _, one := range []plan.Plan{p, {Name: p.Name, Stages: []plan.Stage{{Name: "afternoon", Load: load.Completed(), Repeats: 3}}}} {
		again, err := Read([]byte(Write(one)))
		if err != nil {
			t.Fatalf("%v: %s", err, Write(one))
		}
		if got, want := again.Stages[0].Load.Key(), load.Key(); got != want {
			t.Errorf("%s\nis not %s", got, want)
		}
	}
	for name, c := range map[string]struct {
		old, new string
		line     int
		words    string
	}{
		"a field of one":   {"warmUp: 1s", "depth: 4", 5, "say it there"},
		"an unknown field": {"buffer: 2s", "buffet: 2s", 8, "buffet"},
		"one name twice":   {"ledger", "hydrophones", 7, "two of the loads"},
		"no region":        {", span: 8GiB", ", span: 0", 7, "span"},
		"removing alone":   {"task: save", "task: remove", 7, "ends when all files are gone"},
		"a real folder":    {"files: 200 x 4KiB, task: save", "from: /srv/notes, task: put", 7, "describe the folder"},
	} {
		_, err := Read([]byte(strings.Replace(text, c.old, c.new, 1)))
		var at *Error
		if !errors.As(err, &at) || at.Line < c.line || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Keys of earlier versions are told their present names, where they stand.
func TestKeysOfBefore(t *testing.T) {
	for text, want := range map[string]string{
		"stages:\n  - fill: {passes: 1}\n    load: {span: 1GiB}\n":    `line 2, column 5: "fill" is called "precondition" now`,
		"stages:\n  - load: {leadIn: 2s}\n":                           `"leadIn" is called "warmUp" now`,
		"stages:\n  - load: {stores: 1, growth: 4, span: 1GiB}\n":     `"growth" is called "levelRatio" now`,
		"stages:\n  - load: {stores: 1, log: gathered, span: 1GiB}\n": `"gathered" is none of`,
	} {
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v does not say %q", err, want)
		}
	}
}

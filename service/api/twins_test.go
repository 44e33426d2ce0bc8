package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

const twinDisks = "members: {count: 2, medium: hard disk, capacity: 1TB}\nlayout: {level: raid0}\n"

// A fit is started, followed and stopped over the API, one at a time and none beside a search;
// what is refused says why, and leaves nothing behind.
func TestTwinsOverTheAPI(t *testing.T) {
	server := served(t)
	send := sender(t, server)
	into := func(record any, status int, method, path string, body any) {
		t.Helper()
		got, text := send(method, path, body)
		if got != status {
			t.Fatalf("%s %s: %d %s", method, path, got, text)
		}
		if record != nil {
			if err := json.Unmarshal([]byte(text), record); err != nil {
				t.Fatal(err)
			}
		}
	}
	refused := func(status int, words, method, path string, body any) {
		t.Helper()
		if got, text := send(method, path, body); got != status || !strings.Contains(text, words) {
			t.Errorf("%s %s: %d %s, not %q", method, path, got, text, words)
		}
	}
	// What is measured is simulated itself, so that the same is told each time.
	var array KeptArray
	into(&array, 200, http.MethodPut, "/arrays/real", ArrayText{Text: strings.Replace(twinDisks, "1TB", "1TB, overhead: 0.7ms", 1)})
	var volumes []resource.Volume
	for _, locator := range []string{t.TempDir(), array.Locator, "null:1GiB"} {
		var v resource.Volume
		into(&v, 201, http.MethodPost, "/volumes", resource.NewVolume{Locator: locator})
		volumes = append(volumes, v)
	}
	load := workload.Default()
	load.For, load.WarmUp, load.Span = 5, 1, 100<<30
	brief := load
	brief.For, brief.WarmUp, brief.Span = 0.1, 0, 1<<20
	run := func(v resource.Volume, load workload.Spec) {
		t.Helper()
		var begun resource.Run
		into(&begun, 201, http.MethodPost, "/runs", resource.NewRun{VolumeID: v.ID, Plan: plan.Plan{Stages: []plan.Stage{{Load: load}}}, Override: []string{"room"}})
		for deadline := time.Now().Add(3 * time.Minute); !begun.Status.Final(); time.Sleep(20 * time.Millisecond) {
			into(&begun, 200, http.MethodGet, fmt.Sprintf("/runs/%d", begun.ID), nil)
			if time.Now().After(deadline) {
				t.Fatal("the run does not end")
			}
		}
	}
	name := "mine"
	asked := resource.NewTwin{Name: name, VolumeID: volumes[1].ID, Guess: twinDisks, Free: []string{"members[0].overhead"}}
	refused(422, "nothing was measured", http.MethodPost, "/twins", asked)
	run(volumes[1], load)
	run(volumes[2], brief)

	without := asked
	without.Guess, without.VolumeID = "", volumes[2].ID
	refused(422, "tell media[0].kind", http.MethodPost, "/twins", without)
	refused(422, "tell media[0].kind", http.MethodPost, "/twins/guess", map[string]any{"volumeId": volumes[2].ID})
	wrong := asked
	wrong.Guess = strings.Replace(twinDisks, "raid0", "raid6", 1)
	refused(422, "needs at least 4", http.MethodPost, "/twins", wrong)
	wrong = asked
	wrong.Free = []string{"members[0].count"}
	refused(422, "cannot be fitted", http.MethodPost, "/twins", wrong)
	wrong = asked
	wrong.VolumeID, wrong.Runs = volumes[0].ID, []int64{1}
	refused(422, "which is another volume", http.MethodPost, "/twins", wrong)
	wrong = asked
	wrong.Runs = []int64{77}
	refused(404, "run 77", http.MethodPost, "/twins", wrong)

	ended := func(id int64) (f resource.Fitting) {
		t.Helper()
		for deadline := time.Now().Add(5 * time.Minute); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
			into(&f, 200, http.MethodGet, fmt.Sprintf("/fits/%d", id), nil)
			if f.Status.Final() {
				return f
			}
		}
		t.Fatalf("fit %d does not end: %+v", id, f)
		return f
	}
	var begun resource.Fitting
	into(&begun, 201, http.MethodPost, "/twins", asked)
	if again, text := send(http.MethodPost, "/twins", resource.NewTwin{Name: "second", VolumeID: volumes[1].ID, Guess: twinDisks}); again != 409 && again != 201 {
		t.Errorf("a second one: %d %s", again, text)
	}
	f := ended(begun.ID)
	if f.Status != resource.Finished || f.TwinID == 0 || f.Progress.Tried == 0 {
		t.Fatalf("%+v", f)
	}
	refused(409, "taken", http.MethodPost, "/twins", asked)
	var kept resource.Twin
	into(&kept, 200, http.MethodGet, fmt.Sprintf("/twins/%d", f.TwinID), nil)
	if kept.Fitted == nil || len(kept.Fitted.Parameters) != 1 || kept.Off != kept.Fitted.Off || !strings.Contains(kept.Text, `name: "mine"`) && !strings.Contains(kept.Text, "name: mine") {
		t.Errorf("%+v", kept)
	}
	predictions := fmt.Sprintf("/twins/%d/predictions", kept.ID)
	predict := resource.NewPrediction{Plan: plan.Plan{Stages: []plan.Stage{{Load: load}}}}
	wrongly := predict
	wrongly.Changes = []plan.Setting{{Field: "members.count", Value: "none"}, {Field: "layout.level", Value: "raid6"}}
	refused(422, "needs at least 4", http.MethodPost, predictions, wrongly)
	wrongly = predict
	wrongly.VolumeID = 55
	refused(404, "volume 55", http.MethodPost, predictions, wrongly)
	refused(404, "twin 99", http.MethodPost, "/twins/99/predictions", predict)
	var made resource.Prediction
	into(&made, 201, http.MethodPost, predictions, predict)
	if len(made.Confronted) != 1 || made.Confronted[0].Measured != nil {
		t.Errorf("what was measured before is no proof: %+v", made)
	}
	run(volumes[1], load)
	into(&kept, 200, http.MethodGet, fmt.Sprintf("/twins/%d", f.TwinID), nil)
	if c := kept.Predictions[0].Confronted[0]; c.Measured == nil || c.Count != 1 {
		t.Errorf("%+v", c)
	}
	into(nil, 204, http.MethodDelete, "/runs/1", nil) // what it was fitted to goes; the twin stays
	into(&kept, 200, http.MethodGet, fmt.Sprintf("/twins/%d", f.TwinID), nil)
	into(nil, 204, http.MethodDelete, fmt.Sprintf("%s/%d", predictions, made.ID), nil)
	refused(404, "prediction", http.MethodDelete, fmt.Sprintf("%s/%d", predictions, made.ID), nil)
	into(nil, 204, http.MethodDelete, fmt.Sprintf("/twins/%d", kept.ID), nil)
	refused(404, "twin", http.MethodGet, fmt.Sprintf("/twins/%d", kept.ID), nil)
	refused(404, "fit 99", http.MethodPost, "/fits/99/stop", nil)

	// A search has all cores: no twin is fitted beside it, and nothing is kept of one that is
	// stopped.
	long := strings.Replace(searchSheet, "for: 0.5s", "for: 1h", 1)
	for id := begun.ID + 1; ; id++ {
		if got, _ := send(http.MethodGet, fmt.Sprintf("/fits/%d", id), nil); got != 200 {
			break
		}
		ended(id)
	}
	into(nil, 201, http.MethodPost, "/searches", resource.NewSearch{Need: long, Parts: searchParts})
	refused(409, "a search or a fit is under way", http.MethodPost, "/twins", resource.NewTwin{Name: "third", VolumeID: volumes[1].ID, Guess: twinDisks})
	into(nil, 204, http.MethodPost, "/searches/1/stop", nil)
}

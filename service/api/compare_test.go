package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"patientheron/core/compare"
	"patientheron/service/store"
)

// finishedRun measures the null volume and gives the run's id.
func finishedRun(t *testing.T, call func(method, path, body string) (int, string)) int {
	t.Helper()
	_, _ = call(http.MethodPost, "/volumes", `{"name": "nothing", "locator": "null:1GiB"}`)
	status, text := call(http.MethodPost, "/runs", `{"volumeId": 1, "plan": {"stages": [{"name": "reads", "repeats": 3, "load": {"blocks": [{"sizeBytes": 4096, "weight": 1}], "readShare": 1, "order": "random", "depth": 4, "workers": 1, "spanBytes": 1048576, "forSeconds": 0.1, "intervalSeconds": 0.1}}]}}`)
	var run struct {
		ID     int
		Status string
	}
	if err := json.Unmarshal([]byte(text), &run); status != http.StatusCreated || err != nil {
		t.Fatalf("%d: %s", status, text)
	}
	for deadline := time.Now().Add(2 * time.Minute); run.Status != "finished" && time.Now().Before(deadline); {
		_, text = call(http.MethodGet, fmt.Sprintf("/runs/%d", run.ID), "")
		if err := json.Unmarshal([]byte(text), &run); err != nil || run.Status == "failed" {
			t.Fatal(text)
		}
	}
	return run.ID
}

func TestComparingOverTheAPI(t *testing.T) {
	server := served(t)
	send := func(method, path, body string) (int, string) {
		t.Helper()
		answer, text := call(t, server, method, prefix+path, body, with(token)...)
		return answer.StatusCode, text
	}
	a, b := finishedRun(t, send), finishedRun(t, send)
	request := func(base, candidate int, more string) string {
		return fmt.Sprintf(`{"baseline": {"runs": [%d]}, "candidates": [{"runs": [%d]}]%s}`, base, candidate, more)
	}
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		words              string
	}{
		"two runs":              {http.MethodPost, "/comparisons", request(a, b, ""), 200, `"verdict"`},
		"kept":                  {http.MethodPost, "/comparisons", request(a, b, `, "keep": true, "name": "once"`), 200, `"name":"once"`},
		"with itself":           {http.MethodPost, "/comparisons", request(a, a, ""), 422, "compare it with another run"},
		"no such baseline":      {http.MethodPost, "/comparisons", request(77, b, ""), 404, "the baseline: run 77"},
		"no such candidate":     {http.MethodPost, "/comparisons", request(a, 77, ""), 404, "a candidate: run 77"},
		"nine candidates":       {http.MethodPost, "/comparisons", `{"baseline": {"runs": [1]}, "candidates": [` + strings.Repeat(`{"runs": [2]},`, 8) + `{"runs": [2]}]}`, 422, "candidates"},
		"no run at all":         {http.MethodPost, "/comparisons", `{"baseline": {"runs": []}, "candidates": [{"runs": [1]}]}`, 422, "runs"},
		"a report":              {http.MethodPost, "/comparisons/report", request(a, b, ""), 200, "Gains and losses"},
		"a report of a run":     {http.MethodGet, fmt.Sprintf("/runs/%d/report", a), "", 200, "How to repeat it"},
		"a report of nothing":   {http.MethodGet, "/comparisons/55/report", "", 404, "comparison 55"},
		"the shape of a run":    {http.MethodGet, fmt.Sprintf("/runs/%d/shape", a), "", 200, `"points"`},
		"a p99 of no number":    {http.MethodGet, fmt.Sprintf("/runs/%d/shape?p99=NaN", a), "", 422, "finite"},
		"a p99 without end":     {http.MethodGet, fmt.Sprintf("/runs/%d/shape?p99=Inf", a), "", 422, "finite"},
		"its reach":             {http.MethodGet, fmt.Sprintf("/runs/%d/reach", a), "", 200, `"reached"`},
		"a marker after it":     {http.MethodPost, fmt.Sprintf("/runs/%d/markers", a), `{"name": "x"}`, 409, "not measuring"},
		"a marker without name": {http.MethodPost, fmt.Sprintf("/runs/%d/markers", a), `{"name": ""}`, 422, "too short"},
		"a fault after it":      {http.MethodPost, fmt.Sprintf("/runs/%d/faults", a), `{"fault": "{kind: power cut}"}`, 409, "not measuring"},
		"a fault of no run":     {http.MethodPost, "/runs/77/faults", `{"fault": "{kind: power cut}"}`, 404, "run 77"},
		"no such marker":        {http.MethodGet, fmt.Sprintf("/runs/%d/markers/9", a), "", 404, "marker 9"},
	} {
		if status, text := send(c.method, c.path, c.body); status != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %.400s", name, status, text)
		}
	}
	if status, text := send(http.MethodPost, "/comparisons", request(a, b, `, "keep": true, "name": "once"`)); status != 409 || !strings.Contains(text, "choose another name") {
		t.Errorf("the same name: %d %s", status, text)
	}
	if status, text := send(http.MethodGet, "/comparisons", ""); status != 200 || strings.Count(text, `"once"`) != 1 {
		t.Errorf("kept: %d %s", status, text)
	}
}

func TestLookingOverTheAPI(t *testing.T) {
	server := served(t)
	send := func(method, path, body string) (int, string) {
		t.Helper()
		answer, text := call(t, server, method, prefix+path, body, with(token)...)
		return answer.StatusCode, text
	}
	array := filepath.Join(t.TempDir(), "plain.yaml")
	if err := os.WriteFile(array, []byte("members: {count: 4, medium: ssd, capacity: 1TB}\nlayout: {level: raid10}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if status, text := send(http.MethodPost, "/volumes", fmt.Sprintf(`{"name": "plain", "locator": "array:%s"}`, array)); status != http.StatusCreated {
		t.Fatal(text)
	}
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		words              string
	}{
		"an array":          {http.MethodGet, "/volumes/1/look", "", 200, `"raid10"`},
		"anything":          {http.MethodGet, "/look?locator=" + t.TempDir(), "", 200, `"chain"`},
		"a span":            {http.MethodGet, "/volumes/1/look?span=1048576&writes=true", "", 200, "span-beyond-memory"},
		"no locator":        {http.MethodGet, "/look", "", 422, "locator"},
		"no such volume":    {http.MethodGet, "/volumes/9/look", "", 404, "volume 9"},
		"what can be told":  {http.MethodGet, "/setup-fields", "", 200, "media[].count"},
		"told":              {http.MethodPut, "/volumes/1/setup", `{"facts": [{"key": "cost.price", "value": "4700"}]}`, 200, `"4700"`},
		"told as a file":    {http.MethodPut, "/volumes/1/setup", `{"text": "power: {protected: yes}"}`, 200, "power.protected"},
		"a wrong file":      {http.MethodPut, "/volumes/1/setup", `{"text": "power:\n  colour: red"}`, 422, "line 2"},
		"a wrong fact":      {http.MethodPut, "/volumes/1/setup", `{"facts": [{"key": "layout.level", "value": "raid7"}]}`, 422, "raid7"},
		"impossible":        {http.MethodPut, "/volumes/1/setup", `{"facts": [{"key": "media[0].count", "value": "3"}]}`, 422, "at least 4"},
		"no volume to tell": {http.MethodPut, "/volumes/9/setup", `{}`, 404, "volume 9"},
		"versions of none":  {http.MethodGet, "/volumes/9/setups", "", 404, "volume 9"},
		"an address, wrong": {http.MethodGet, "/look?locator=" + t.TempDir() + "&address=nowhere", "", 200, "not an address"},
	} {
		if status, text := send(c.method, c.path, c.body); status != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %.600s", name, status, text)
		}
	}
	if status, text := send(http.MethodGet, "/volumes/1/setups", ""); status != 200 || !strings.Contains(text, `"version":2`) {
		t.Errorf("versions: %d %s", status, text)
	}
}

// What an earlier heron measured and kept is judged today as it was then: the
// figures were worked out by the heron of that time.
func TestGoldenStoreIsJudgedAsBefore(t *testing.T) {
	golden, err := os.ReadFile("../store/testdata/schema-2.sqlite")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "heron.sqlite")
	if err := os.WriteFile(path, golden, 0o600); err != nil {
		t.Fatal(err)
	}
	kept, err := store.Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	s := &Service{Store: kept, Log: slog.New(slog.DiscardHandler)}
	question, err := kept.Comparison(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	compared, err := s.workOut(t.Context(), question)
	if err != nil || len(compared.Result.Points) != 1 {
		t.Fatalf("%+v, %v", compared, err)
	}
	want := map[string]struct {
		verdict string
		ratio   float64
		mean    float64
	}{"throughput": {"not shown", 1.2112652907705503, 2129692.4444444445}, "p50": {"not shown", 0.7838871161677087, 0.011438761666666667}, "p90": {"same", 0.9942419329538366, 0.03131528433333333}}
	for _, row := range compared.Result.Points[0].Rows {
		w, known := want[row.Figure]
		if !known {
			continue
		}
		delete(want, row.Figure)
		got := row.Candidates[0]
		if string(got.Verdict) != w.verdict || math.Abs(got.Value/w.ratio-1) > 1e-12 || math.Abs(row.Baseline.Mean.Mean/w.mean-1) > 1e-12 {
			t.Errorf("%s: %s, %v of %v; want %+v", row.Figure, got.Verdict, got.Value, row.Baseline.Mean.Mean, w)
		}
	}
	if len(want) > 0 {
		t.Errorf("not compared: %v", want)
	}
	// Counted several times, a run says nothing more.
	question.Candidates[0].Runs = []int64{3, 3, 3}
	if _, err := s.workOut(t.Context(), question); !errors.Is(err, compare.ErrInvalid) || !strings.Contains(err.Error(), "twice") {
		t.Errorf("a run counted three times: %v", err)
	}
}

package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// bodied are the calls that take a body, but for those that touch this host.
var bodied = []struct{ method, path string }{
	{http.MethodPost, "/session"}, {http.MethodPost, "/loads"}, {http.MethodPost, "/plans"}, {http.MethodPost, "/estimates"},
	{http.MethodPost, "/comparisons"}, {http.MethodPost, "/comparisons/report"}, {http.MethodPost, "/runs"}, {http.MethodPost, "/runs/1/stop"},
	{http.MethodPost, "/runs/1/markers"}, {http.MethodPut, "/volumes/1/setup"}, {http.MethodPut, "/volumes/1/consent"}, {http.MethodPost, "/volumes"},
}

// Whatever a body holds, a call answers, and blames its caller and not itself.
func FuzzBodies(f *testing.F) {
	const load = `{"blocks":[{"sizeBytes":4096,"weight":1}],"readShare":1,"order":"random","depth":4,"workers":1,"spanBytes":1048576,"forSeconds":0.1,"intervalSeconds":0.1}`
	for i, body := range []string{
		`{"token":"x"}`, `{"fields":{"block":"4KiB:3,64KiB:1","hot":"80%/20%"}}`, `{"text":"stages: [{load: {depth: 4}, sweep: [{field: depth, values: [1, 2]}]}]"}`,
		`{"stages":[{"load":` + load + `,"repeats":3,"sweep":[{"field":"depth","values":["1","2"]}]}]}`, `{"baseline":{"runs":[1]},"candidates":[{"runs":[2]}],"noise":0.05}`, `{"baseline":{"runs":[1]},"candidates":[{"runs":[1]}]}`,
		`{"volumeId":1,"plan":{"stages":[{"load":` + load + `}]},"override":["room"],"pace":1}`, `{"afterMeasurement":true}`, `{"name":"now"}`,
		`{"facts":[{"key":"layout.level","value":"raid5"}],"version":0}`, `{"sizeBytes":1}`, `{"locator":"null:1GiB","name":"x"}`,
	} {
		f.Add(uint8(i), body)
	}
	handler := handlerOf(f)
	send := func(method, path, body string) *httptest.ResponseRecorder {
		request := httptest.NewRequest(method, "http://localhost"+prefix+path, strings.NewReader(body))
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", "application/json")
		answer := httptest.NewRecorder()
		handler.ServeHTTP(answer, request)
		return answer
	}
	send(http.MethodPost, "/volumes", `{"name":"nothing","locator":"null:1GiB"}`)
	f.Fuzz(func(t *testing.T, which uint8, body string) {
		call := bodied[int(which)%len(bodied)]
		if call.path == "/volumes" && !strings.Contains(body, "null:") || strings.Contains(body, "/") {
			return // paths of this host are not for guessing at
		}
		answer := send(call.method, call.path, body)
		if answer.Code >= 500 {
			t.Errorf("%s %s with %q: %d %s", call.method, call.path, body, answer.Code, answer.Body)
		}
		var run struct{ ID int64 }
		if call.path == "/runs" && json.Unmarshal(answer.Body.Bytes(), &run) == nil && run.ID > 0 {
			send(http.MethodPost, fmt.Sprintf("/runs/%d/stop", run.ID), "{}") // it may ask for a day
		}
	})
}

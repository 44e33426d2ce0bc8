package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"patientheron/service/store"
)

// What is sent twice with one key takes effect once, and is answered alike: one after the other,
// at the same moment, and after the service ended in between.
func TestACallWithAKeyTakesEffectOnce(t *testing.T) {
	folder := t.TempDir()
	server := servedIn(t, folder)
	with := func(key string) []string {
		return []string{"Authorization", "Bearer " + token, keyHeader, key}
	}
	volumes := func() (list VolumeList) {
		_, text := call(t, server, "GET", prefix+"/volumes", "", with("")...)
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			t.Fatal(err)
		}
		return list
	}
	first, text := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:1GiB","name":"one"}`, with(`"a key"`)...)
	again, same := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:1GiB","name":"one"}`, with("a key")...)
	if first.StatusCode != http.StatusCreated || again.StatusCode != http.StatusCreated || text != same || volumes().Total != 1 {
		t.Errorf("%d %s and %d %s; %d volumes", first.StatusCode, text, again.StatusCode, same, volumes().Total)
	}
	for name, c := range map[string]struct{ path, body string }{"another body": {"/volumes", `{"locator":"null:2GiB"}`}, "another call": {"/estimates", `{"locator":"null:1GiB","name":"one"}`}} {
		answer, text := call(t, server, "POST", prefix+c.path, c.body, with("a key")...)
		if p := problemIn(t, name, answer, text); answer.StatusCode != http.StatusConflict || !strings.HasSuffix(p.Type, "/same-key") {
			t.Errorf("%s: %s", name, text)
		}
	}
	// A call that failed took no effect: its key is free.
	for _, c := range []struct {
		locator string
		status  int
	}{{"nowhere", 422}, {"nowhere", 422}, {"null:3GiB", 201}} {
		if answer, text := call(t, server, "POST", prefix+"/volumes", fmt.Sprintf(`{"locator":%q}`, c.locator), with("of mistakes")...); answer.StatusCode != c.status {
			t.Errorf("%s: %d %s", c.locator, answer.StatusCode, text)
		}
	}
	// At the same moment.
	before := volumes().Total
	var together sync.WaitGroup
	var mutex sync.Mutex
	statuses := map[int]int{}
	for range 20 {
		together.Go(func() {
			answer, _ := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:7GiB","name":"seven"}`, with("seven")...)
			mutex.Lock()
			statuses[answer.StatusCode]++
			mutex.Unlock()
		})
	}
	together.Wait()
	if after := volumes().Total; after != before+1 || statuses[201] == 0 || statuses[201]+statuses[409] != 20 {
		t.Errorf("20 at once: %v, %d volumes more", statuses, after-before)
	}
	// Another service, later, on the same records; and one that ended before it answered.
	kept, err := store.Open(t.Context(), folder+"/heron.sqlite")
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	if _, known, err := kept.BeginCall(t.Context(), store.Call{Key: "cut off", Asked: "something"}, time.Now().Add(-time.Hour)); known || err != nil {
		t.Fatal(known, err)
	}
	server = servedIn(t, folder)
	if answer, text := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:1GiB","name":"one"}`, with("a key")...); answer.StatusCode != http.StatusCreated || text != same {
		t.Errorf("after a restart: %d %s", answer.StatusCode, text)
	}
	if answer, text := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:9GiB"}`, with("cut off")...); answer.StatusCode != http.StatusConflict {
		t.Errorf("never answered: %d %s", answer.StatusCode, text)
	}
	// A day later the key is anybody's.
	if _, known, err := kept.BeginCall(t.Context(), store.Call{Key: "a key", Asked: "something"}, time.Now().Add(time.Hour)); known || err != nil {
		t.Errorf("after a day: %v, %v", known, err)
	}
	if answer, text := call(t, server, "POST", prefix+"/volumes", `{"locator":"null:1GiB"}`, with(strings.Repeat("k", 201))...); answer.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a long key: %d %s", answer.StatusCode, text)
	}
}

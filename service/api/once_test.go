package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"patientheron/core/setup"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/null"
	"patientheron/storage/volume"
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
	for name, c := range map[string]struct{ path, body string }{"another body": {"/volumes", `{"locator":"null:2GiB"}`}, "another call": {"/needs", `{"locator":"null:1GiB","name":"one"}`}} {
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
	if after := volumes().Total; after != before+1 || statuses[201] != 20 {
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

// leaving is a kind of volume at the sight of which the caller leaves.
type leaving struct {
	null.Opener
	leave func()
}

func (leaving) Parse(name string) (volume.Locator, error) {
	return volume.Locator{Scheme: "leaving", Kind: "leaving", Name: name}, nil
}

func (leaving) Traits(string) volume.Traits { return volume.Traits{} }

func (l leaving) Look(ctx context.Context, _ volume.Locator) (setup.Facts, error) {
	l.leave()
	select { // what would be broken off is, meanwhile
	case <-ctx.Done():
	case <-time.After(50 * time.Millisecond):
	}
	return setup.Facts{Size: 1}, ctx.Err()
}

// What takes a key is carried out to its end when its caller leaves in the middle, and he is told
// when he asks again.
func TestACallWithAKeyOutlivesItsCaller(t *testing.T) {
	ctx, leave := context.WithCancel(t.Context())
	storage.Register("leaving", func(storage.Bounds) volume.Opener { return leaving{leave: leave} })
	handler := handlerOf(t)
	send := func(ctx context.Context) *httptest.ResponseRecorder {
		request := httptest.NewRequestWithContext(ctx, "POST", "http://localhost"+prefix+"/volumes", strings.NewReader(`{"locator":"leaving:now","name":"once"}`))
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set(keyHeader, "left alone")
		answer := httptest.NewRecorder()
		handler.ServeHTTP(answer, request)
		return answer
	}
	send(ctx)
	if ctx.Err() == nil {
		t.Fatal("the caller did not leave")
	}
	if again := send(t.Context()); again.Code != http.StatusCreated || !strings.Contains(again.Body.String(), `"once"`) {
		t.Errorf("asked again: %d %s", again.Code, again.Body)
	}
}

// A page of runs ends where it has to, whether all of them can be read or not.
func TestPagesOfRunsAreWhole(t *testing.T) {
	for _, bad := range [][]int64{nil, {9}, {1}, {5, 6, 7}, {8, 9}, {1, 2, 3, 4, 5, 6, 7, 8, 9}} {
		for limit := 1; limit < 12; limit++ {
			var seen []int64
			for after := int64(10); ; {
				var runs []resource.Run
				var unreadable []resource.Unreadable
				for id, n := after-1, 0; id > 0 && n < limit+1; id, n = id-1, n+1 { // as the store reads them
					if slices.Contains(bad, id) {
						unreadable = append(unreadable, resource.Unreadable{ID: id})
					} else {
						runs = append(runs, resource.Run{ID: id})
					}
				}
				part, listed := pageOfRuns(runs, unreadable, limit)
				for _, r := range part {
					seen = append(seen, r.ID)
				}
				for _, u := range listed.Unreadable {
					seen = append(seen, u.ID)
				}
				if len(part)+len(listed.Unreadable) > limit {
					t.Fatalf("%d and %d on a page of %d", len(part), len(listed.Unreadable), limit)
				}
				if after = listed.Next; after == 0 {
					break
				}
			}
			slices.Sort(seen)
			if !slices.Equal(seen, []int64{1, 2, 3, 4, 5, 6, 7, 8, 9}) {
				t.Errorf("%v unreadable, pages of %d: %v", bad, limit, seen)
			}
		}
	}
}

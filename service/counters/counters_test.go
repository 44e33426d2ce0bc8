package counters

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/measure"
)

// told serves texts, one after the other, the last again and again.
func told(t *testing.T, texts ...string) *Source {
	t.Helper()
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, texts[min(int(asked.Add(1)), len(texts))-1])
	}))
	t.Cleanup(s.Close)
	source, err := Open(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(source.Close)
	return source
}

// A text with all that the format has: help, types, escapes, timestamps, values that are no
// numbers, distributions, comments, and lines without a type.
const everything = `# HELP disk_busy_seconds_total Time in which a disk \\ worked.
# TYPE disk_busy_seconds_total counter
disk_busy_seconds_total{disk="sd\"a\"",bay="1"} 12.5 1395066363000
disk_busy_seconds_total{disk="sdb"} 1e+01
# A comment.
# TYPE dirty_bytes gauge
dirty_bytes 4096
# TYPE filled_ratio gauge
filled_ratio 0.25
# TYPE temperature gauge
temperature NaN
handled_total 17
loose 3
# TYPE latency histogram
latency_bucket{le="0.1"} 3
latency_bucket{le="+Inf"} 4
latency_sum 0.5
latency_count 4
# TYPE go_goroutines gauge
go_goroutines 9
`

func TestWhatIsTold(t *testing.T) {
	values, err := parse(strings.NewReader(everything))
	if err != nil {
		t.Fatal(err)
	}
	want := []value{
		{"dirty", "bytes", false, 4096},
		{`disk busy (disk sd"a", bay 1)`, "share", true, 12.5},
		{"disk busy (disk sdb)", "share", true, 10},
		{"filled", "share", false, 0.25},
		{"handled", "operations", true, 17},
		{"loose", "operations", false, 3},
	}
	if len(values) != len(want) {
		t.Fatalf("%+v", values)
	}
	for i, v := range values {
		if v != want[i] {
			t.Errorf("%+v, want %+v", v, want[i])
		}
	}
	var many strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&many, "many{n=\"%d\"} %d\n", i, i)
	}
	if values, err = parse(strings.NewReader(many.String())); err != nil || len(values) != mostCounters {
		t.Errorf("%d of a thousand (%v)", len(values), err)
	}
}

func TestSinceTellsWhatWasDone(t *testing.T) {
	line := func(busy, moved, level float64) string {
		return fmt.Sprintf("# TYPE busy_seconds_total counter\nbusy_seconds_total %g\n# TYPE moved_bytes_total counter\nmoved_bytes_total %g\n# TYPE level gauge\nlevel %g\n", busy, moved, level)
	}
	s := told(t, line(10, 1000, 1), line(11, 5000, 7), line(0.5, 6000, 8))
	read := func() {
		t.Helper()
		if n, err := s.Read(t.Context()); err != nil || n != 3 {
			t.Fatalf("%d counters (%v)", n, err)
		}
	}
	read()
	if got := s.Since(); got != nil {
		t.Errorf("the first call tells %+v", got)
	}
	if got := s.Since(); got != nil {
		t.Errorf("without anything new it tells %+v", got)
	}
	s.before.at = s.before.at.Add(-4 * time.Second)
	s.latest.at = s.before.at
	read()
	s.latest.at = s.before.at.Add(4 * time.Second)
	want := []measure.Counter{{Name: "busy", Unit: "share", Value: 0.25, Over: measure.Means, Of: 4}, {Name: "level", Unit: "operations", Value: 7}, {Name: "moved", Unit: "bytes", Value: 4000, Over: measure.Sums}}
	got := s.Since()
	if len(got) != 3 {
		t.Fatalf("%+v", got)
	}
	for i := range got {
		if got[i] != want[i] {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
	read() // busy began anew
	if got := s.Since(); len(got) != 2 || got[0].Name != "level" || got[1].Value != 1000 {
		t.Errorf("after it began anew: %+v", got)
	}
}

func TestWhatCannotBeRead(t *testing.T) {
	for _, address := range []string{"", "filer.example", "ftp://filer.example/x", "http://", "http://%zz", "file:///etc/passwd"} {
		if _, err := Open(address); !errors.Is(err, ErrAddress) {
			t.Errorf("%q: %v", address, err)
		}
	}
	for name, answer := range map[string]func(http.ResponseWriter){
		"no counters": func(w http.ResponseWriter) { fmt.Fprint(w, "<html>Sign in</html>") },
		"an error":    func(w http.ResponseWriter) { w.WriteHeader(http.StatusInternalServerError) },
		"sent away": func(w http.ResponseWriter) {
			w.Header().Set("Location", "http://127.0.0.1:1/")
			w.WriteHeader(http.StatusFound)
		},
		"without end": func(w http.ResponseWriter) {
			for range 6 {
				fmt.Fprint(w, strings.Repeat("a", 1<<20))
			}
		},
		"half of line": func(w http.ResponseWriter) { fmt.Fprint(w, "busy_seconds_total{disk=") },
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { answer(w) }))
		source, err := Open(s.URL)
		if err != nil {
			t.Fatal(err)
		}
		n, err := source.Read(t.Context())
		if err != nil && strings.Contains(err.Error(), "Sign in") {
			t.Errorf("%s: it repeats what stands there: %v", name, err)
		}
		if err == nil || n != 0 || source.Trouble() == nil || source.Since() != nil {
			t.Errorf("%s: %d counters (%v)", name, n, err)
		}
		source.Close()
		s.Close()
	}
}

// It ends when it is told to, whatever the other side does.
func TestFollowingEnds(t *testing.T) {
	hang := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	defer s.Close()
	defer close(hang)
	source, err := Open(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { source.Follow(ctx, time.Millisecond); close(ended) }()
	time.Sleep(20 * time.Millisecond)
	cancel()
	<-ended
}

func FuzzParse(f *testing.F) {
	f.Add(everything)
	f.Add("a{b=\"c\"} 1\na{b=\"c\"} 2\n")
	f.Fuzz(func(t *testing.T, text string) {
		values, err := parse(strings.NewReader(text))
		if err != nil && len(values) > 0 || len(values) > mostCounters {
			t.Errorf("%d values (%v)", len(values), err)
		}
	})
}

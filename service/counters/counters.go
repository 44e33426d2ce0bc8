// Package counters reads the counters that storage tells of itself, in the text format of
// Prometheus over HTTP, and works out what they did from one moment to the next, so that
// they stand on the time axis of a run.
//
//	source, err := counters.Open("http://filer.example:9264/metrics")
//	go source.Follow(ctx, time.Second)
//	source.Since() // the first call marks the start
package counters

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"patientheron/core/measure"
)

// ErrAddress is wrapped by errors about an address that cannot be one of counters.
var ErrAddress = errors.New("not an address of counters")

const (
	// patience is how long one reading may take.
	patience = 2 * time.Second
	// mostText is how much of an answer is read, and mostCounters how many counters of it
	// are followed.
	mostText     = 4 << 20
	mostCounters = 64
)

// of whoever tells the counters, and says nothing of storage.
var ofTheTeller = []string{"go_", "process_", "promhttp_", "scrape_", "python_", "jvm_"}

// Source is where counters are read. It is safe for concurrent use.
type Source struct {
	address string
	client  http.Client

	mu     sync.Mutex
	latest reading
	before reading // at the call of Since before
	failed error   // of the reading that was tried last
}

// reading is what was read at a time.
type reading struct {
	at     time.Time
	values []value
}

// value is one counter.
type value struct {
	name   string
	unit   string
	rising bool // it counts; otherwise it is a level
	value  float64
}

// Open makes a source of an address such as http://filer.example:9264/metrics. It reads
// nothing.
func Open(address string) (*Source, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%w: %q; write it like http://filer.example:9264/metrics", ErrAddress, address)
	}
	return &Source{address: address, client: http.Client{
		Timeout: patience, Transport: &http.Transport{MaxIdleConns: 1, IdleConnTimeout: time.Minute},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

// Close gives connections back.
func (s *Source) Close() { s.client.CloseIdleConnections() }

// Read reads the counters once, and gives how many there are.
func (s *Source) Read(ctx context.Context) (int, error) {
	r, err := s.read(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed = err; err == nil {
		s.latest = r
	}
	return len(r.values), err
}

func (s *Source) read(ctx context.Context) (r reading, err error) {
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address, nil)
	if err != nil {
		return r, err
	}
	ask.Header.Set("Accept", string(expfmt.NewFormat(expfmt.TypeTextPlain)))
	answer, err := s.client.Do(ask)
	if err != nil {
		return r, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return r, fmt.Errorf("%s answered %s", s.address, answer.Status)
	}
	r.at = time.Now()
	r.values, err = parse(io.LimitReader(answer.Body, mostText))
	return r, err
}

// parse reads a text of counters: those that count and those that are levels, at most
// mostCounters, in the order of their names.
func parse(text io.Reader) ([]value, error) {
	parser := expfmt.NewTextParser(model.LegacyValidation)
	families, err := parser.TextToMetricFamilies(text)
	var wrong expfmt.ParseError
	if errors.As(err, &wrong) { // what stands there is not repeated: it may be anybody's
		return nil, fmt.Errorf("it is no text of counters: line %d is not understood", wrong.Line)
	}
	if err != nil {
		return nil, errors.New("it is no text of counters")
	}
	var names []string
	for name := range families {
		if !slices.ContainsFunc(ofTheTeller, func(prefix string) bool { return strings.HasPrefix(name, prefix) }) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	var values []value
	for _, name := range names {
		family := families[name]
		for _, m := range family.GetMetric() {
			v := value{rising: family.GetType() == dto.MetricType_COUNTER || family.GetType() == dto.MetricType_UNTYPED && strings.HasSuffix(name, "_total")}
			switch {
			case m.Counter != nil:
				v.value = m.GetCounter().GetValue()
			case m.Gauge != nil:
				v.value = m.GetGauge().GetValue()
			case m.Untyped != nil:
				v.value = m.GetUntyped().GetValue()
			default:
				continue // what is distributed has no one value
			}
			if math.IsNaN(v.value) || math.IsInf(v.value, 0) {
				continue
			}
			v.name, v.unit = called(name, m.GetLabel(), v.rising)
			if values = append(values, v); len(values) == mostCounters {
				return values, nil
			}
		}
	}
	return values, nil
}

// called is what a counter is called on the time axis, and in which unit it stands: of
// seconds that count, the rate is a share.
func called(name string, labels []*dto.LabelPair, rising bool) (words, unit string) {
	base := strings.TrimSuffix(name, "_total")
	unit = "operations"
	for suffix, of := range map[string]string{"_seconds": "seconds", "_bytes": "bytes", "_ratio": "share"} {
		if plain, is := strings.CutSuffix(base, suffix); is {
			base, unit = plain, of
		}
	}
	if rising && unit == "seconds" {
		unit = "share"
	}
	base = strings.TrimPrefix(strings.TrimPrefix(base, "heron_"), "array_")
	words = strings.ReplaceAll(base, "_", " ")
	var of []string
	for _, l := range labels {
		of = append(of, l.GetName()+" "+l.GetValue())
	}
	if len(of) > 0 {
		words += " (" + strings.Join(of, ", ") + ")"
	}
	return words, unit
}

// Follow reads again and again until ctx ends.
func (s *Source) Follow(ctx context.Context, every time.Duration) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		_, _ = s.Read(ctx) // Trouble tells
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// Trouble is why the reading that was tried last failed; nil when it did not.
func (s *Source) Trouble() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.failed
}

// Since tells what the counters did between the last reading before the call before and
// the last one now: by how much those that count rose, as a share of the time where they
// count seconds; and where levels stand. It gives nothing where nothing new was read. A
// counter that fell began anew, and is left out once.
func (s *Source) Since() (list []measure.Counter) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before, now := s.before, s.latest
	if s.failed != nil || !now.at.After(before.at) {
		return nil
	}
	s.before = now
	if before.at.IsZero() {
		return nil
	}
	over := now.at.Sub(before.at).Seconds()
	known := map[string]float64{}
	for _, v := range before.values {
		known[v.name] = v.value
	}
	for _, v := range now.values {
		was, is := known[v.name]
		c := measure.Counter{Name: v.name, Unit: v.unit, Value: v.value}
		if v.rising {
			if !is || v.value < was {
				continue
			}
			c.Value, c.Over = v.value-was, measure.Sums
			if v.unit == "share" {
				c.Value, c.Over, c.Of = c.Value/over, measure.Means, over
			}
		}
		list = append(list, c)
	}
	return list
}

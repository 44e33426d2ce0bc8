package iscsi

import (
	"fmt"
	"io"
	"strconv"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"

	"patientheron/core/array"
)

// Counted is a disk that counts what happens inside it.
type Counted interface {
	// Totals are its running counters, and Caches what its caches are called.
	Totals() array.Totals
	Caches() []string
}

// kindNames are what the kinds of operation are called among the counters.
var kindNames = [kinds]string{Read: "read", Write: "write", Flush: "flush", Trim: "trim"}

// WriteCounters writes the running counters of a server and of what it serves in the text
// format of Prometheus, version 0.0.4.
func (s *Server) WriteCounters(w io.Writer) error {
	var e exposition
	s.mutex.Lock()
	e.gauge("heron_target_connections", "Connections that are open.", float64(len(s.all)))
	e.counter("heron_target_logins_total", "Sessions that were logged in.", float64(s.sessions))
	s.mutex.Unlock()
	for number, unit := range s.options.Units {
		lun := []string{"lun", strconv.Itoa(int(number))}
		for kind, name := range kindNames {
			labels := append([]string{"kind", name}, lun...)
			e.counter("heron_target_operations_total", "Operations that were handed to the disk.", float64(unit.begun[kind].Load()), labels...)
			if Kind(kind) != Flush {
				e.counter("heron_target_bytes_total", "Bytes of operations that were handed to the disk.", float64(unit.moved[kind].Load()), labels...)
			}
		}
		if counted, is := unit.disk.(Counted); is {
			e.array(counted.Totals(), counted.Caches(), lun)
		}
	}
	return e.write(w)
}

// array adds the counters of a simulated array. Times in which something was busy are in
// seconds, so that their rate is a share.
func (e *exposition) array(t array.Totals, caches, lun []string) {
	seconds := func(name, help string, nanoseconds float64, labels ...string) {
		e.counter("heron_array_"+name+"_busy_seconds_total", help, nanoseconds/1e9, append(labels, lun...)...)
	}
	count := func(name, help string, value int64, labels ...string) {
		e.counter("heron_array_"+name+"_total", help, float64(value), append(labels, lun...)...)
	}
	for i := range t.Busy {
		member := []string{"member", strconv.Itoa(i)}
		seconds("member", "Time in which a member worked.", t.Busy[i], member...)
		if t.Lines[i] > 0 {
			seconds("member_interface", "Time in which the interface of a member carried data.", t.Lines[i], member...)
		}
		if t.Programmed[i] > 0 {
			count("member_programmed_bytes", "Bytes that an SSD programmed.", t.Programmed[i], member...)
		}
	}
	for i, name := range caches {
		cache := []string{"cache", name}
		seconds("cache", "Time in which a cache worked.", t.Caches[i], cache...)
		count("cache_hits", "Reads that a cache answered.", t.Hits[i], cache...)
		count("cache_misses", "Reads that it did not.", t.Misses[i], cache...)
		count("cache_destaged_bytes", "Bytes that it wrote out.", t.Written[i], cache...)
	}
	for i, answered := range t.Fast {
		count("tier_answered", "Operations that a tier answered.", answered, "tier", strconv.Itoa(i))
	}
	if t.Fast != nil {
		count("tier_passed", "Operations that went past all tiers.", t.Slow)
		count("tier_moved_bytes", "Bytes that were moved to tiers and from them.", t.Moved)
	}
	for i, worked := range t.Controllers {
		seconds("controller", "Time in which a controller worked.", worked, "controller", strconv.Itoa(i))
	}
	for i, l := range t.Links {
		link := []string{"link", strconv.Itoa(i)}
		seconds("link_out", "Time in which a link carried data away from the array.", l[1], link...)
		seconds("link_in", "Time in which it carried data to the array.", l[0], link...)
	}
}

// exposition gathers counters by their name, in the order in which they came.
type exposition struct{ families []*dto.MetricFamily }

func (e *exposition) counter(name, help string, value float64, labels ...string) {
	e.add(dto.MetricType_COUNTER, name, help, &dto.Metric{Counter: &dto.Counter{Value: &value}}, labels)
}

func (e *exposition) gauge(name, help string, value float64, labels ...string) {
	e.add(dto.MetricType_GAUGE, name, help, &dto.Metric{Gauge: &dto.Gauge{Value: &value}}, labels)
}

// add adds a metric with its labels, names and values in turn.
func (e *exposition) add(kind dto.MetricType, name, help string, m *dto.Metric, labels []string) {
	for i := 0; i < len(labels); i += 2 {
		m.Label = append(m.Label, &dto.LabelPair{Name: &labels[i], Value: &labels[i+1]})
	}
	for _, f := range e.families {
		if f.GetName() == name {
			f.Metric = append(f.Metric, m)
			return
		}
	}
	e.families = append(e.families, &dto.MetricFamily{Name: &name, Help: &help, Type: &kind, Metric: []*dto.Metric{m}})
}

func (e *exposition) write(w io.Writer) error {
	for _, f := range e.families {
		if _, err := expfmt.MetricFamilyToText(w, f); err != nil {
			return fmt.Errorf("write counters: %w", err)
		}
	}
	return nil
}

package e2e

import (
	"strings"
	"syscall"
	"testing"
	"time"

	"patientheron/core/judge"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/test/peer"
)

// Storage that goes away for good, or says nothing any more, fails the run with what each path
// said last; the figures are of what came before, and marked.
func TestStorageThatIsLostFailsTheRun(t *testing.T) {
	t.Parallel()
	for name, goes := range map[string]func(g *peer.Tgt){
		"gone": func(g *peer.Tgt) { g.Stop() }, "hung": func(g *peer.Tgt) { g.Pause(true) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := peer.StartTgt(t, 2)
			s := serve(t, t.TempDir(), false)
			volume := s.volume("iscsi://"+g.Ports[0]+"/"+peer.Target+"/1?portal="+g.Ports[1], nil)
			id := s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.Span, w.For, w.Interval = 8<<20, 20, 0.5 })))
			goes(g)
			run := s.finished(id)
			if name == "hung" {
				g.Pause(false)
			}
			if run.Status != resource.Failed || len(run.Measurements) != 1 {
				t.Fatalf("it is %s: %s", run.Status, run.Reason)
			}
			m := run.Measurements[0]
			if m.Status != resource.Failed || m.Summary == nil || m.Summary.Total.Operations == 0 || m.Summary.Measured > 15 {
				t.Errorf("the measurement is %s with %+v", m.Status, m.Summary)
			}
			if name == "gone" && (!strings.Contains(run.Reason, g.Ports[0]) || !strings.Contains(run.Reason, g.Ports[1]) || !strings.Contains(run.Reason, "refused")) {
				t.Errorf("it is not said of each path what happened: %s", run.Reason)
			}
			marked := false
			for _, f := range m.Findings {
				marked = marked || f.Kind == "ended-by-failure" && f.Weight == judge.Unreliable
				if strings.Contains(f.Next, "workers") {
					t.Errorf("advice beside the cause: %s %s", f.Sentence, f.Next)
				}
			}
			if !marked {
				t.Errorf("the figures are not marked: %+v", m.Findings)
			}
			if _, _, err := s.cli("run", "show", "1"); err != nil {
				t.Error(err)
			}
		})
	}
}

// A service that was stopped for a while says so of what it measured meanwhile.
func TestAServiceThatWasStoppedSaysSo(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	id := s.begun(s.volume("null:1TiB", nil), onePlan(spec(func(w *workload.Spec) { w.For, w.Interval = 12, 0.5 })))
	_ = s.process.Process.Signal(syscall.SIGSTOP)
	time.Sleep(5 * time.Second) // for so long it stands still
	_ = s.process.Process.Signal(syscall.SIGCONT)
	run := s.finished(id)
	m := run.Measurements[0]
	if m.Summary.StoodStill == nil || m.Summary.StoodStill.Worst < 4 {
		t.Fatalf("%+v", m.Summary.StoodStill)
	}
	for _, f := range m.Findings {
		if f.Kind == "stood-still" && f.Weight == judge.Unreliable && strings.Contains(f.Sentence, "was not running for") {
			return
		}
	}
	t.Errorf("found %+v", m.Findings)
}

package choose

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"patientheron/core/array"
	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/need"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Search is what is looked for, and among what.
type Search struct {
	Need  need.Need
	Parts Parts
	Seed  uint64 // of what is drawn; 0 means 1
	Short int    // designs that meet the need, and so many others, in the answer; 0 means 5

	// Measure measures a fresh array under a load; about so many operations are enough, or all
	// that the load asks for where that is 0.
	Measure func(ctx context.Context, d array.Description, load workload.Spec, enough int) (measure.Summary, error)
	// Progress is told how far it is, by one goroutine at a time; nil when nobody asks.
	Progress func(HowFar)
	// Full measures every design to the end, with no race: for trying the search itself.
	Full bool
}

// HowFar is how far a search is.
type HowFar struct {
	Round    string `json:"round" doc:"What is being done"`
	Done     int    `json:"done"`
	Of       int    `json:"of"`
	Meeting  int    `json:"meeting" doc:"Designs found so far that meet the need"`
	Cheapest string `json:"cheapest,omitempty" doc:"The cheapest of them so far"`
}

// Reason is why designs are out, and how many.
type Reason struct {
	Words   string `json:"words"`
	Count   int    `json:"count"`
	Example string `json:"example" doc:"The cheapest of them"`
}

// Chosen is what a search came to.
type Chosen struct {
	Parts    string   `json:"parts" doc:"Name of the list"`
	Seed     uint64   `json:"seed"`
	Designs  int      `json:"designs" doc:"That the parts make"`
	Out      []Reason `json:"out" doc:"Designs that were discarded without a simulation, by the first reason"`
	Measured int      `json:"measured" doc:"Designs that were simulated"`
	Runs     int      `json:"runs" doc:"Simulations in all"`
	Cheaper  []Reason `json:"cheaper" doc:"Why all that is cheaper than what to take fails"`

	Judged    need.Judged `json:"judged" doc:"The designs that are left, as a need is judged"`
	Finalists []Design    `json:"finalists" doc:"Those designs, in the order of the verdicts"`
}

// What a search lets through: a design whose figures are within this share of their bounds
// when it was measured for a moment may meet them when it is measured to the end.
const (
	inTheRace = 0.5
	nearly    = 0.8
	usual     = 5 // designs in the answer
	mostShort = 50
	batch     = 8 // designs at a time, whatever the number of cores, so that the answer is always the same
	repeats   = 3
	moment    = 5_000 // operations, in the first round
	some      = 64    // designs of all prices that are looked at first, for a first answer
)

// candidate is a design in the race.
type candidate struct {
	Design
	seen     bool    // it was measured for a moment
	first    float64 // smallest headroom, then, or when measured to the end
	tightest string
	told     bool         // that it meets the need
	answer   *need.Answer // when measured to the end
	side     compare.Side
}

// search is a Search that is under way.
type search struct {
	Search
	loads    []use
	out      map[string]*Reason
	order    []string
	mutex    sync.Mutex
	progress HowFar
	runs     int
	cheapest *candidate             // that meets the need, so far
	members  map[string][]setup.Hop // by use and members
}

// use is a load that is measured for one use, or for all at once.
type use struct {
	name string
	load workload.Spec
}

// Check reports what cannot be of the need and the parts, before anything is measured.
func (s Search) Check() error { return (&search{Search: s}).prepare() }

// Run carries the search out. It ends early when ctx does. The same need, parts and seed
// give the same answer, however many cores there are.
func (s Search) Run(ctx context.Context) (Chosen, error) {
	s.Seed, s.Short = max(s.Seed, 1), cmp.Or(s.Short, usual)
	r := Chosen{Parts: s.Parts.Name, Seed: s.Seed, Out: []Reason{}, Cheaper: []Reason{}, Finalists: []Design{}}
	w := &search{Search: s, out: map[string]*Reason{}, members: map[string][]setup.Hop{}}
	if err := w.prepare(); err != nil {
		return r, err
	}
	designs, tooLarge := s.Parts.designs()
	r.Designs = len(designs) + len(tooLarge)
	for _, d := range tooLarge {
		w.discard("no enclosure has enough bays", d)
	}
	slices.SortStableFunc(designs, func(a, b Design) int { return cmp.Compare(a.Price, b.Price) })
	var left []*candidate
	for _, d := range designs {
		c := &candidate{Design: d}
		if why := w.rules(c); why != "" {
			w.discard(why, d)
			continue
		}
		left = append(left, c)
	}
	if !s.Full {
		if err := w.firstAnswer(ctx, left); err != nil {
			return r, err
		}
	}
	left = slices.DeleteFunc(left, func(c *candidate) bool {
		why := w.ceilings(c)
		if why != "" {
			w.discard(why, c.Design)
		}
		return why != ""
	})
	for _, key := range w.order {
		r.Out = append(r.Out, *w.out[key])
	}
	r.Measured = len(left)
	finalists, err := w.race(ctx, left)
	if err != nil {
		return r, err
	}
	r.Runs = w.runs
	w.answer(&r, left, finalists)
	return r, nil
}

// prepare works out what is measured of each design.
func (w *search) prepare() error {
	if err := w.Parts.Validate(); err != nil {
		return err
	}
	if err := w.Need.Validate(); err != nil {
		return err
	}
	if w.Short < 0 || w.Short > mostShort {
		return invalid("short", "%d designs; give 1 to %d, or 0 for %d", w.Short, mostShort, usual)
	}
	if w.Need.Together {
		w.loads = []use{{"", w.Need.Mixed()}}
		return nil
	}
	for i, u := range w.Need.Uses {
		if u.Load == nil {
			return &mistake.Error{Of: need.ErrInvalid, Field: fmt.Sprintf("uses[%d]", i), Reason: fmt.Sprintf("%q names a stage; a search needs its load", u.Name)}
		}
		w.loads = append(w.loads, use{u.Name, *u.Load})
	}
	return nil
}

func (w *search) discard(why string, d Design) {
	if w.out[why] == nil {
		w.out[why] = &Reason{Words: why, Example: d.Name}
		w.order = append(w.order, why)
	}
	w.out[why].Count++
}

// rules says why a design cannot meet the need, as far as that is seen at once; "" when it
// may.
func (w *search) rules(c *candidate) string {
	if w.Need.Budget > 0 && c.Price > w.Need.Budget {
		return "it costs more than the budget"
	}
	if err := c.Description.Validate(); err != nil {
		return "the parts do not fit together: " + err.Error()
	}
	known := c.setup()
	if room, _ := known.Usable(); w.Need.Capacity > 0 && room < w.Need.Room() {
		return "too little capacity"
	}
	for _, u := range w.loads {
		if reach, _ := u.load.Completed().Reach(); reach > c.Description.Size() {
			return "the loads span more than its capacity"
		}
	}
	for _, f := range w.Need.Survives {
		if known.After(f).Survives == setup.No {
			return "it does not survive " + string(f)
		}
	}
	return ""
}

// setup is what is known of a design. It is made when it is needed: of all designs it would
// take most of the memory of a search.
func (d Design) setup() setup.Setup {
	s := d.Description.Setup()
	s.Know("cost.price", d.Price, setup.Simulated, time.Time{})
	if d.controllers > 0 {
		s.Know("controller.count", d.controllers, setup.Simulated, time.Time{})
	}
	return s
}

// ceilings says which hop cannot pass what a use asks for; "" when all may. It is the rule
// that takes longest to work out.
func (w *search) ceilings(c *candidate) string {
	for _, u := range w.Need.Uses {
		if why := w.ceiling(c, u); why != "" {
			return why
		}
	}
	return ""
}

// ceiling says that a hop cannot pass what a use asks for. Caches and tiers can answer in
// the place of what is behind them.
func (w *search) ceiling(c *candidate, u need.Use) string {
	asked := w.asked(u)
	if asked == 0 {
		return ""
	}
	way, members := setup.Setup{}, setup.Setup{}
	for _, f := range c.setup().Facts {
		if strings.HasPrefix(f.Key, "media[") || strings.HasPrefix(f.Key, "layout.") {
			members.Facts = append(members.Facts, f)
		} else {
			way.Facts = append(way.Facts, f)
		}
	}
	load := u.Load.Completed()
	hops := way.Ceilings(setup.UseOf(load))
	if len(c.Description.Caches) == 0 && c.Description.Tier == nil {
		// Worked out once for all that differs in the way to them alone.
		key := u.Name + "\n" + strings.SplitN(c.Text, "\n", 5)[2] + strings.SplitN(c.Text, "\n", 5)[3]
		if _, known := w.members[key]; !known {
			w.members[key] = members.Ceilings(setup.UseOf(load))
		}
		hops = append(hops, w.members[key]...)
	}
	for _, h := range hops {
		most, kind := h.Rate, hopTooSlow
		if h.Long > 0 && h.Long < most {
			most, kind = h.Long, hopTooSlowForLong // a use goes on
		}
		if most == 0 {
			continue
		}
		for _, c := range claim.Add(nil, kind, claim.Term{Of: h.Station, Value: float64(most)}, claim.Term{Of: u.Name, Value: asked}) {
			return c.Words
		}
	}
	return ""
}

// hopTooSlow needs a hop and a use, with what the one passes and the other asks for.
var (
	hopTooSlow = claim.Declare("hop-too-slow", tooSlow, func(t []claim.Term) string {
		return fmt.Sprintf("the limit of hop %q is below the load of %q", t[0].Of, t[1].Of)
	})
	hopTooSlowForLong = claim.Declare("hop-too-slow-for-long", tooSlow, func(t []claim.Term) string {
		return fmt.Sprintf("the sustained limit of hop %q is below the load of %q", t[0].Of, t[1].Of)
	})
)

func tooSlow(t []claim.Term) bool { return t[0].Value > 0 && t[1].Value > t[0].Value*ceilingMargin }

// asked is how many operations a second a use asks for at least; 0 when it does not.
func (w *search) asked(u need.Use) (rate float64) {
	if u.Load == nil || !u.Load.Traits().Operations {
		return 0
	}
	load := u.Load.Completed()
	for _, b := range u.Bounds {
		switch {
		case b.Figure == "late" && b.Most && b.Value == 0:
			rate = max(rate, float64(load.Arriving()))
		case b.Most:
		case b.Figure == "iops":
			rate = max(rate, b.Of(u.Users)*w.Need.Factor(u))
		case b.Figure == "throughput":
			rate = max(rate, b.Of(u.Users)/load.MeanBlock()*w.Need.Factor(u))
		}
	}
	return rate
}

// ceilingMargin is how far above a ceiling what is measured may lie: formulas round.
const ceilingMargin = 1.1

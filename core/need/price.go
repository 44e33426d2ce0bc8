package need

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// Cost is what one unit of something costs with a setup.
type Cost struct {
	Of    string  `json:"of" doc:"What it is the price of, such as 'a usable TB'"`
	Price float64 `json:"price" doc:"In the unit that the setup's price is told in"`
	Low   float64 `json:"low,omitempty" doc:"Ends of the 95 % interval, where what is paid for was measured"`
	High  float64 `json:"high,omitempty"`
}

// perUnit are the figures of which a unit has a price, with the unit that is usual.
var perUnit = []struct {
	figure string
	unit   float64
	words  string
}{
	{"iops", 1000, "1,000 operations a second"},
	{"requests", 1000, "1,000 requests a second"},
	{"files", 100, "100 files a second"},
	{"throughput", 1e8, "100 MB/s"},
}

// costs says what units of what a setup has and carries cost; none where its price is not
// known. What is not to be trusted has no price.
func (w work) costs(a Answer) (costs []Cost) {
	costs = []Cost{}
	if a.Price == 0 {
		return costs
	}
	if room, _ := w.side.Setup.Usable(); room > 0 {
		costs = append(costs, Cost{Of: "a usable TB", Price: a.Price / (float64(room) / 1e12)})
	}
	for _, u := range w.need.Uses {
		samples, _ := w.samples(u)
		if len(samples) == 0 {
			continue
		}
		if streams := samples[0].Load.Traits().Streams; streams != nil && streams.Count > 0 {
			if r := w.estimator.Of(samples, figure.Of("late")); r.Values.Reason == "" && r.Values.Unreliable == "" && r.Mean.Mean == 0 {
				costs = append(costs, Cost{Of: fmt.Sprintf("a feed of %q without a late piece", u.Name), Price: a.Price / float64(streams.Count)})
			}
			continue
		}
		key := figure.Main(samples[0].Load)
		if key == "p99" || key == "throughput" && small(samples[0].Load.MeanBlock()) {
			key = "iops"
		}
		i := slices.IndexFunc(perUnit, func(p struct {
			figure string
			unit   float64
			words  string
		}) bool {
			return p.figure == key
		})
		r := w.estimator.Of(samples, figure.Of(key))
		if i < 0 || !(r.Mean.Mean > 0) || r.Values.Unreliable != "" {
			continue
		}
		c := Cost{Of: fmt.Sprintf("%s of %q", perUnit[i].words, u.Name), Price: a.Price * perUnit[i].unit / r.Mean.Mean}
		if r.Mean.Known && r.Mean.Low > 0 {
			c.Low, c.High = a.Price*perUnit[i].unit/r.Mean.High, a.Price*perUnit[i].unit/r.Mean.Low
		}
		costs = append(costs, c)
	}
	if a.Outcome == judge.Meets {
		costs = append(costs, Cost{Of: "the price of the setup", Price: a.Price})
	}
	return costs
}

// small reports blocks of which operations count rather than bytes.
func small(block float64) bool { return block <= 64<<10 }

// asMuch is which share of what another carries counts as much as that.
const asMuch = 0.99

// markFrontier marks the setups that nobody dominates: no other carries at least as much
// for at most the price, and more or for less.
func markFrontier(all []Answer) {
	for i := range all {
		a := &all[i]
		a.Frontier = a.Price > 0 && a.Carries > 0 && !slices.ContainsFunc(all, func(b Answer) bool {
			return b.Price > 0 && b.Price <= a.Price && b.Carries >= a.Carries*asMuch && (b.Price < a.Price || b.Carries > a.Carries)
		})
	}
}

// Worth is what the added money brings between two setups.
type Worth struct {
	From  string  `json:"from"`
	To    string  `json:"to"`
	Added float64 `json:"added" doc:"How much more the second costs"`
	Times float64 `json:"times" doc:"How many times as much headroom it has"`
	Low   float64 `json:"low,omitempty" doc:"Ends of the 95 % interval of that"`
	High  float64 `json:"high,omitempty"`
	Words string  `json:"words"`
}

// worth goes along the frontier from the cheapest setup on.
func worth(all []Answer) []Worth {
	list := []Worth{}
	along := slices.DeleteFunc(slices.Clone(all), func(a Answer) bool { return !a.Frontier })
	slices.SortStableFunc(along, func(a, b Answer) int { return cmp.Compare(a.Price, b.Price) })
	for i := 1; i < len(along); i++ {
		a, b := along[i-1], along[i]
		if b.Price == a.Price {
			continue
		}
		w := Worth{From: a.Name, To: b.Name, Added: b.Price - a.Price, Times: b.Carries / a.Carries}
		price := b.Price / a.Price
		// The two were measured apart, so that their doubts add up as squares.
		if half := math.Hypot(a.spread, b.spread); !math.IsInf(half, 1) {
			w.Low, w.High = w.Times/math.Exp(half), w.Times*math.Exp(half)
		}
		brings := quantity.Added(w.Times) + " of headroom"
		if w.Times >= 2 {
			brings = quantity.Digits(w.Times) + " × the headroom"
		}
		w.Words = fmt.Sprintf("%q instead of %q costs %s more (%s) for %s: %s.", b.Name, a.Name, quantity.Price(w.Added), quantity.Added(price), brings, judge.Brings(price, w.Low, w.High))
		list = append(list, w)
	}
	return list
}

package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// Line is how rate and latency go with one swept field, the others held.
type Line struct {
	Stage   string         `json:"stage"`
	Field   string         `json:"field" doc:"What goes along the line"`
	Held    []plan.Setting `json:"held,omitempty" doc:"The other swept fields, at their values"`
	Log     bool           `json:"log" doc:"The values double from one to the next, so that a logarithmic axis helps"`
	Spots   []Spot         `json:"spots"`
	Knee    int            `json:"knee" doc:"Number of the spot, from 0, with the largest throughput for its latency; -1 when there is none"`
	Keeps   int            `json:"keeps" doc:"Number of the spot, from 0, with the largest rate whose p99 stays within the wanted one; -1 when none does, or none is wanted"`
	Worth   int            `json:"worth" doc:"Number of the spot, from 0, with the largest rate for its price; -1 where prices are not known, or all are the same"`
	Scaling *judge.Scaling `json:"scaling,omitempty" doc:"How the rate grows with depth, workers, streams or parts of an array, when the law fits"`
	Claims  []claim.Claim  `json:"claims" doc:"What the line shows, each with the spots it is said of"`
	Words   string         `json:"words" doc:"All of that in a sentence"`

	paced   bool // the load itself sets the rate
	doubted bool // a rate on it is not to be trusted
	show    func(rate float64) string
}

// Spot is one value of the swept field.
type Spot struct {
	Value      string     `json:"value" doc:"As people write it"`
	At         float64    `json:"at" doc:"As a number"`
	Rate       judge.Mean `json:"rate"`
	Throughput float64    `json:"throughputBytesPerSecond"`
	Mean       float64    `json:"meanSeconds"`
	P99        float64    `json:"p99Seconds"`
	Price      float64    `json:"price,omitempty" doc:"Of the volume as it is at this value; absent where that is not known"`
	ForPrice   judge.Mean `json:"ratePerThousand" doc:"Rate for each 1,000 of price; nothing where the price is not known"`
	Brings     string     `json:"brings,omitempty" doc:"What the price added since the value before brings, in words"`
	Efficiency float64    `json:"efficiency,omitempty" doc:"What each of so many does, as a share of what each does at the first spot; absent where the field counts nothing"`
}

// Lines finds the lines along the numeric axes of a side's sweeps. Wanted is the
// p99 latency that a use can bear; 0 when that is not asked. Price is what the volume costs
// with some settings of it changed, 0 where that is not known; nil where nobody asks.
func Lines(side Side, wanted quantity.Seconds, price func(changed []plan.Setting) float64) []Line {
	lines := []Line{}
	points := Points(side)
	for _, stage := range stagesOf(points) {
		of := slices.DeleteFunc(slices.Clone(points), func(a Alone) bool { return a.Stage != stage })
		for axis := range of[0].Point {
			for _, line := range along(of, axis, price) {
				if len(line.Spots) >= 3 {
					lines = append(lines, line.finished(wanted))
				}
			}
		}
	}
	return lines
}

func stagesOf(points []Alone) (stages []string) {
	for _, p := range points {
		if len(p.Point) > 0 && !slices.Contains(stages, p.Stage) {
			stages = append(stages, p.Stage)
		}
	}
	return stages
}

// along gathers the lines of one axis: one for each combination of the others.
func along(points []Alone, axis int, price func([]plan.Setting) float64) (lines []Line) {
	var texts []string
	for _, p := range points {
		if axis < len(p.Point) {
			texts = append(texts, p.Point[axis].Value)
		}
	}
	scale, numeric := plan.ScaleOf(texts)
	if !numeric {
		return nil
	}
	places := map[string]int{}
	for _, p := range points {
		if axis >= len(p.Point) {
			continue
		}
		at, _ := scale.Read(p.Point[axis].Value)
		held := slices.Concat(p.Point[:axis], p.Point[axis+1:])
		key := plan.Describe(held)
		place, known := places[key]
		if !known {
			place = len(lines)
			places[key] = place
			lines = append(lines, Line{Stage: p.Stage, Field: p.Point[axis].Field, Held: held, paced: p.Main == "p99", show: showing(p.Main)})
		}
		spot := Spot{Value: p.Point[axis].Value, At: at}
		if price != nil {
			spot.Price = price(plan.VolumeOf(p.Point))
		}
		for _, row := range p.Rows {
			switch row.Figure {
			case "iops", "files", "requests":
				spot.Rate = row.Mean
				lines[place].doubted = lines[place].doubted || row.Unreliable != ""
			case "throughput":
				spot.Throughput = row.Mean.Mean
			case "mean", "file-mean", "put-mean", "get-mean":
				spot.Mean = cmp.Or(spot.Mean, row.Mean.Mean)
			case "p99", "file-p99", "put-p99", "get-p99":
				spot.P99 = cmp.Or(spot.P99, row.Mean.Mean)
			}
		}
		if spot.Rate.Mean > 0 {
			lines[place].Spots = append(lines[place].Spots, spot)
		}
	}
	return lines
}

// showing writes rates of what counts most of a load: whole files, requests, or operations.
func showing(main string) func(float64) string {
	if main == "files" || main == "requests" {
		return figure.Of(main).Show
	}
	return figure.Of("iops").Show
}

// concurrency are the fields along which more are at work at once.
var concurrency = []string{"depth", "workers", "streams", "stores", "clients"}

// parts are the keys of an array file that count like things which work side by side.
var parts = []string{"count", "dies", "units", "devices", "hosts"}

// counts reports a field that counts such things, as "members.count" does.
func counts(field string) bool {
	return plan.OfArray(field) && slices.Contains(parts, field[strings.LastIndex(field, ".")+1:])
}

// alikeLatency is how much longer than at the first spot a latency may be to be the same, and
// lower how far below the highest a rate has to be to count as lower, where intervals do not
// tell.
const (
	alikeLatency = 1.05
	lower        = 0.95
)

// slower is the spot with the highest rate when the last is shown to be below it; -1 when it is
// not. Spots that are level go no way.
func slower(spots []Spot) int {
	best, last := 0, spots[len(spots)-1]
	for i, s := range spots {
		if s.Rate.Mean > spots[best].Rate.Mean {
			best = i
		}
	}
	r := last.Rate.Over(spots[best].Rate)
	if best == len(spots)-1 || r.Mean > lower || r.Known && r.High >= 1 {
		return -1
	}
	return best
}

// Title names the line: what goes along it, and where the other fields are held.
func (l Line) Title() string {
	title := l.Stage + " by " + l.Field
	if len(l.Held) > 0 {
		title += " at " + plan.Describe(l.Held)
	}
	return title
}

// flat is the last spot up to which the latency is that of the first: what takes time
// there is not waiting for one's turn. It is 0 when it grows at once.
func flat(spots []judge.Spot) (last int) {
	for i, s := range spots {
		if s.Latency > spots[0].Latency*alikeLatency {
			break
		}
		last = i
	}
	return last
}

// finished orders the spots and says what they show.
func (l Line) finished(wanted quantity.Seconds) Line {
	slices.SortStableFunc(l.Spots, func(a, b Spot) int { return cmp.Compare(a.At, b.At) })
	l.Log = true
	spots := make([]judge.Spot, len(l.Spots))
	for i, s := range l.Spots {
		spots[i] = judge.Spot{At: s.At, Rate: s.Rate.Mean, Latency: s.Mean}
		if i > 0 && s.At < 1.5*l.Spots[i-1].At || s.At <= 0 {
			l.Log = false
		}
	}
	l.Knee, l.Keeps, l.Worth = -1, -1, -1
	first, last := l.Spots[0], l.Spots[len(l.Spots)-1]
	l.Claims = []claim.Claim{}
	l.say(goes, l.term(first), l.term(last))
	latency := func(s Spot) float64 { return s.Mean }
	if slices.Contains(concurrency, l.Field) && !l.paced {
		l.say(noLonger, l.terms(l.Spots[:flat(spots)+1], latency)...)
		if l.Knee = judge.Knee(spots); l.Knee >= 0 && l.Knee < len(spots)-1 {
			power := func(s Spot) float64 {
				if !(s.Mean > 0) {
					return 0
				}
				return s.Rate.Mean / s.Mean
			}
			l.say(knee, append(l.terms(l.Spots[l.Knee:l.Knee+1], power), l.terms(l.Spots, power)...)...)
		}
		if l.Scaling = judge.FitScaling(spots); l.Scaling != nil {
			l.say(waitsForShared, claim.Term{Of: "contention", Value: l.Scaling.Contention, Shown: quantity.Share(l.Scaling.Contention).String()}, claim.Term{Of: "fit", Value: float64(l.Scaling.Fit)})
		}
	}
	if counts(l.Field) && first.At > 0 {
		each := func(s Spot) float64 { return s.Rate.Mean / s.At }
		for i := range l.Spots {
			l.Spots[i].Efficiency = each(l.Spots[i]) / each(first)
		}
		efficiency := l.Spots[len(l.Spots)-1].Efficiency
		l.say(eachDoes, append(l.terms([]Spot{first, last}, each), claim.Term{Value: efficiency, Shown: quantity.Share(efficiency).String()})...)
		l.Scaling = judge.FitScaling(spots)
		if best := slower(l.Spots); best >= 0 {
			r := last.Rate.Over(l.Spots[best].Rate)
			ratio := claim.Term{Value: r.Mean}
			if r.Known {
				ratio.Low, ratio.High = r.Low, r.High
			}
			l.say(slowerWithMore, l.term(l.Spots[best]), l.term(last), ratio)
		}
	}
	l.price()
	if wanted > 0 {
		tails := make([]judge.Spot, len(l.Spots))
		for i, s := range l.Spots {
			tails[i] = judge.Spot{At: s.At, Rate: s.Rate.Mean, Latency: s.P99}
		}
		tail := func(s Spot) float64 { return s.P99 }
		asked := claim.Term{Of: "p99", Value: float64(wanted), Shown: wanted.String()}
		if l.Keeps = judge.Within(tails, float64(wanted)); l.Keeps >= 0 {
			kept := l.Spots[l.Keeps]
			l.say(within, asked, l.terms([]Spot{kept}, tail)[0], l.term(kept))
		} else {
			l.say(withinNowhere, append([]claim.Term{asked}, l.terms(l.Spots, tail)...)...)
		}
	}
	l.Words = claim.Clauses(l.Claims)
	return l
}

// price says what the rate is for its price, and what more of it brings, where the prices of
// all spots are known and are not the same.
func (l *Line) price() {
	if slices.ContainsFunc(l.Spots, func(s Spot) bool { return s.Price <= 0 }) || l.paced ||
		!slices.ContainsFunc(l.Spots, func(s Spot) bool { return s.Price != l.Spots[0].Price }) {
		return
	}
	if l.doubted {
		l.say(worthNotSaid)
		return
	}
	l.Worth = 0
	for i := range l.Spots {
		s := &l.Spots[i]
		per := 1000 / s.Price
		if s.ForPrice = (judge.Mean{Mean: s.Rate.Mean * per}); s.Rate.Known {
			s.ForPrice = judge.Mean{Mean: s.Rate.Mean * per, Low: s.Rate.Low * per, High: s.Rate.High * per, Known: true}
		}
		if s.ForPrice.Mean > l.Spots[l.Worth].ForPrice.Mean {
			l.Worth = i
		}
		if i > 0 {
			s.Brings = brings(l.Spots[i-1], *s)
		}
	}
	forPrice := func(s Spot) claim.Term {
		return claim.Term{Of: s.Value, Value: s.ForPrice.Mean, Low: s.ForPrice.Low, High: s.ForPrice.High, Shown: l.show(s.ForPrice.Mean)}
	}
	best := forPrice(l.Spots[l.Worth])
	all, others := []claim.Term{best}, []claim.Term{best}
	known := true
	for i, s := range l.Spots {
		known = known && s.ForPrice.Known
		all = append(all, forPrice(s))
		if i != l.Worth && !(s.ForPrice.High < best.Low) {
			others = append(others, forPrice(s))
		}
	}
	l.say(mostForPrice, all...)
	if known {
		l.say(notWorse, others...)
	} else {
		l.say(repeatsWouldTell)
	}
}

// brings says what the price added from one spot to the next brings.
func brings(from, to Spot) string {
	price, times := to.Price/from.Price, to.Rate.Over(from.Rate)
	if price <= 1 {
		return ""
	}
	return fmt.Sprintf("%s price for %s rate: %s", quantity.Added(price), quantity.Added(times.Mean), judge.Brings(price, times.Low, times.High))
}

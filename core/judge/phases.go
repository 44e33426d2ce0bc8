package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// The limits of what settled means.
const (
	leastKnown = 30   // intervals below which nothing is said about settling
	leastLast  = 10   // intervals of a last phase that may count as sustained
	lastShare  = 0.25 // and its share of what was measured
	stepLimit  = 0.20 // a step that must not hide in a sustained phase
	driftLimit = 0.15 // a rise or fall over all of it that must not
	slopeGain  = 8    // by how much two levels must fit better than a slope
	stepParts  = 6    // a step is looked for from one such part on to the one before the last
)

// Phases tells the phases of a measurement from its paces, of all that came after
// the asked lead-in; from is how many intervals belong to those before the last one.
// A load at a set rate is judged by how fast it is answered, every other by its rate.
//
// Single intervals far below those around them are taken aside as dips, the rest is
// cut into pieces where its level changes. The last one is sustained when it is long
// enough and a step of 20 % as well as a drift of 15 % over all of it are excluded
// with 95 %: an interval around either, by the noise and autocorrelation of the
// piece, lies within. So a measurement never counts as settled because there was too
// little to see a change in.
func Phases(load workload.Spec, paces []measure.Pace) (phases measure.Phases, from int) {
	paces = wholePaces(paces)
	phases = measure.Phases{List: []measure.Phase{}, Standing: measure.NotKnown}
	speeds, one := speeds(load, paces)
	if average(speeds) <= 0 {
		phases.Words = "Nothing was moved."
		return phases, 0
	}
	level, dips := withoutDips(speeds, paces)
	phases.Dips = dipsIn(paces, speeds, level, dips)
	cut := cutUp(level, one)
	if cut.standing != measure.Settled && len(level) <= mostValues {
		if flat, c := withoutWave(level); c != nil {
			if calm := cutUp(flat, one); calm.standing != measure.NotKnown || cut.standing == measure.NotKnown {
				cut = calm
				phases.Wave = waveOf(paces, level, *c)
			}
		}
	}
	phases.Standing, phases.Drift = cut.standing, cut.drift
	bounds := cut.bounds
	last := bounds[len(bounds)-2]
	for p := range len(bounds) - 1 {
		phases.List = append(phases.List, phase(paces[bounds[p]:bounds[p+1]]))
	}
	name(phases.List, kindOf[cut.standing])
	phases.Fall = fall(phases.List, paces)
	if cut.standing != measure.NotSettled && load.Amount == 0 {
		from = last
		phases.Cut = span(paces[:last])
	}
	phases.Words = inWords(load, phases, len(level))
	return phases, from
}

// kindOf is the kind of the last phase.
var kindOf = map[measure.Standing]measure.PhaseKind{
	measure.Settled: measure.Sustained, measure.NotSettled: measure.Changing, measure.NotKnown: measure.Unsure,
}

// cutting is a series cut into pieces, and whether the last one stood still.
type cutting struct {
	bounds   []int
	standing measure.Standing
	drift    *measure.Drift
}

func cutUp(level []float64, floor float64) cutting {
	c := cutting{bounds: withoutRamps(level, withoutSlope(level, pieces(level, floor), floor)), standing: measure.NotKnown}
	if len(level) < leastKnown {
		return c
	}
	last := level[c.bounds[len(c.bounds)-2]:]
	drift, stood, moved := stands(last, floor, driftLimit)
	c.drift = drift
	if !stood && drift != nil && (drift.Low > 0 || drift.High < 0) && len(last) >= leastKnown {
		if at, drift := leveled(last, floor); at > 0 {
			c.bounds = slices.Insert(c.bounds, len(c.bounds)-1, c.bounds[len(c.bounds)-2]+at)
			c.bounds = withoutRamps(level, c.bounds)
			c.standing, c.drift = measure.Settled, drift
			return c
		}
	}
	switch {
	case moved, len(last) < leastLast, float64(len(last)) < lastShare*float64(len(level)):
		c.standing = measure.NotSettled
	case stood:
		c.standing = measure.Settled
	}
	return c
}

// wholePaces leaves out a last interval that was cut short.
func wholePaces(paces []measure.Pace) []measure.Pace {
	if n := len(paces); n > 1 && cutShort(paces[0].Length, paces[n-1].Length) {
		return paces[:n-1]
	}
	return paces
}

// speeds are the values by which a load is judged, and the least that they vary by
// because operations are counted whole.
func speeds(load workload.Spec, paces []measure.Pace) (values []float64, least float64) {
	values = make([]float64, len(paces))
	operations := 0.0
	for i, p := range paces {
		values[i] = p.Rate()
		operations += float64(p.Operations)
		if load.Open() {
			values[i] = 0
			if p.Waited > 0 {
				values[i] = float64(p.Operations) / float64(p.Waited)
			}
		}
	}
	// An operation more or less at either end of an interval: a rectangular
	// distribution of one has a variance of a twelfth.
	if operations > 0 {
		least = average(values) * math.Sqrt(2.0/12) * float64(len(paces)) / operations
	}
	return values, max(least, 1e-6*average(values))
}

// reaches are how many neighbours on each side of an interval say what is usual
// around it: near ones for single dips, far ones for stalls of several intervals.
var reaches = []int{3, 15}

// withoutDips puts in the place of each value that lies far below those around it
// their median: below 60 % of it, and further away than five times 1.4826 times the
// median of all such distances, which chance does not do (Hampel's filter). What is
// low at the start or at the end is no dip: it did not come from, or go back to,
// anything.
func withoutDips(values []float64, paces []measure.Pace) (level []float64, dips []int) {
	level = slices.Clone(values)
	low := make([]bool, len(values))
	for _, reach := range reaches {
		if len(values) < 4*reach {
			break
		}
		middles := runningMedian(level, reach)
		distances := make([]float64, len(level))
		for i, v := range level {
			distances[i] = math.Abs(v - middles[i])
		}
		far := 5 * 1.4826 * median(distances)
		for i, v := range values {
			if v < 0.6*middles[i] && middles[i]-v > far && !byChance(paces[i], v, middles[i]) {
				low[i] = true
			}
		}
		for from := 0; from < len(low); from++ {
			to := from
			for to < len(low) && low[to] {
				to++
			}
			if from == 0 || to == len(low) || to-from > reach {
				clear(low[from:to])
			}
			for i := from; i < to && low[i]; i++ {
				level[i] = middles[i]
			}
			from = to
		}
	}
	for i, is := range low {
		if is {
			dips = append(dips, i)
		}
	}
	return level, dips
}

// runningMedian is the median of each value and so many on each side.
func runningMedian(values []float64, reach int) []float64 {
	middles, window := make([]float64, len(values)), make([]float64, 2*reach+1)
	for i := range values {
		copy(window, values[min(max(i-reach, 0), len(values)-len(window)):])
		slices.Sort(window)
		middles[i] = window[reach]
	}
	return middles
}

// byChance tells whether an interval may have so few operations where others have
// as many as the usual value says: within four standard deviations of such a count.
func byChance(p measure.Pace, value, usual float64) bool {
	count := float64(p.Operations)
	if value > 0 {
		usual *= count / value
	} else {
		usual *= float64(p.Length)
	}
	return usual-count <= 4*math.Sqrt(usual)
}

// dipsIn says how often and how far; dips that follow each other at once are one.
func dipsIn(paces []measure.Pace, values, level []float64, dips []int) *measure.Dips {
	if len(dips) == 0 {
		return nil
	}
	d := measure.Dips{}
	var begins []float64
	for i, at := range dips {
		d.Depth += quantity.Share((1 - values[at]/level[at]) / float64(len(dips)))
		d.Length += paces[at].Length
		if i == 0 || at > dips[i-1]+1 {
			begins = append(begins, float64(paces[at].Start))
		}
	}
	if d.Count = len(begins); d.Count >= 4 {
		gaps := make([]float64, d.Count-1)
		for i := range gaps {
			gaps[i] = begins[i+1] - begins[i]
		}
		// Gaps of what comes by chance vary as much as they are long.
		if mean := average(gaps); spread(gaps) < 0.35*mean {
			d.Every = quantity.Seconds(mean)
		}
	}
	return &d
}

// spread is the standard deviation.
func spread(values []float64) float64 {
	mean, squares := average(values), 0.0
	for _, v := range values {
		squares += (v - mean) * (v - mean)
	}
	return math.Sqrt(squares / float64(max(len(values)-1, 1)))
}

// The limits of a wave: values resemble those a period before at least so much, and
// there are so many periods.
const (
	waveLikeness = 0.5
	wavePeriods  = 3
)

// cycle is what repeats itself in a series.
type cycle struct {
	period    float64 // in values
	low, high float64 // of the means over all periods of each place in them
}

// withoutWave takes what repeats itself out of the values: the mean of each place in
// the period, over all periods. The period is where the autocorrelation, once down
// below zero, is highest again; values a period apart must be alike over at least
// three of them. It gives nil when nothing repeats itself.
func withoutWave(values []float64) ([]float64, *cycle) {
	_, rest := line(values)
	all := squares(rest)
	if len(values) < leastKnown {
		return nil, nil
	}
	lag, likeness := 0, 0.0
	below := false
	for at := 1; at <= len(rest)/wavePeriods; at++ {
		sum := 0.0
		for i := at; i < len(rest); i++ {
			sum += rest[i] * rest[i-at]
		}
		like := sum / all * float64(len(rest)) / float64(len(rest)-at)
		below = below || like < 0
		// Chance gives up to three times one over the root of the pairs. Twice a period
		// is a period, too, and hardly more alike.
		if below && like > max(waveLikeness, 3/math.Sqrt(float64(len(rest)-at))) && like > likeness*1.1 {
			lag, likeness = at, like
		}
	}
	if lag < 3 || all <= 0 {
		return nil, nil
	}
	var level []float64
	var found *cycle
	left := math.Inf(1)
	for try := -10; try <= 10; try++ { // a period is no whole number of values
		period := float64(lag) + float64(try)/20
		flat, c := folded(values, period)
		if _, rest := line(flat); squares(rest) < left {
			left, level, found = squares(rest), flat, &c
		}
	}
	if left > all/2 {
		return nil, nil
	}
	return level, found
}

// folded takes the mean of each place in a period out of the values.
func folded(values []float64, period float64) ([]float64, cycle) {
	places := int(period)
	sums, counts := make([]float64, places), make([]float64, places)
	place := func(i int) int {
		_, part := math.Modf(float64(i) / period)
		return min(int(part*float64(places)), places-1)
	}
	for i, v := range values {
		sums[place(i)] += v
		counts[place(i)]++
	}
	mean, flat := average(values), make([]float64, len(values))
	c := cycle{period, math.Inf(1), math.Inf(-1)}
	for i, v := range values {
		usual := sums[place(i)] / counts[place(i)]
		flat[i] = v - usual + mean
		c.low, c.high = min(c.low, usual), max(c.high, usual)
	}
	return flat, c
}

// stands tells of one piece whether it stood still: stood when neither a step nor a
// drift that matters may hide in it, moved when it rose or fell. Neither is said when
// it is worth too few independent values.
func stands(values []float64, floor, limit float64) (drift *measure.Drift, stood, moved bool) {
	n := float64(len(values))
	mean := average(values)
	switch {
	case mean <= 0: // nothing moves any more
		return nil, false, true
	case n < 2*stepParts:
		return nil, false, false
	}
	slope, rest := line(values)
	around := noiseOf(rest, []int{0, len(rest)}, floor)
	worth := max(around.worth(len(values))-1, 4)
	// However much values stick, noise that hides a step must show as noise: none
	// of its means is further off than three times what the values vary by.
	most := 3 * spread(rest) / mean
	deviation := around.longRun() / mean
	// The slope over all values has a standard error of √12 times that of the mean.
	share, its := slope*n/mean, min(deviation*math.Sqrt(12/n), most)
	half := quantile(worth) * its
	drift = &measure.Drift{Share: quantity.Share(share), Low: quantity.Share(share - half), High: quantity.Share(share + half)}
	oneSided := quantileOf(worth, 0.95)
	moved = math.Abs(share) >= leastChange && math.Abs(share) > quantileOf(worth, 0.999)*its
	stood = math.Abs(share)+oneSided*its < limit
	before, part := 0.0, len(values)/stepParts
	for i, v := range values {
		if i >= part && i <= len(values)-part {
			left, right := before/float64(i), (mean*n-before)/(n-float64(i))
			step := math.Abs(left-right) / max(left, right)
			stood = stood && step+oneSided*min(deviation*math.Sqrt(1/float64(i)+1/(n-float64(i))), most) < stepLimit
		}
		before += v
	}
	return drift, stood && !moved, moved
}

// leveled is from where on the last piece of a series stood still although all of it
// did not: what glides to its level has no step. A drift over what is left is held
// against the limit for as long a part of a drift over all.
func leveled(values []float64, floor float64) (at int, drift *measure.Drift) {
	for eighths := 2; eighths <= 4; eighths++ {
		at := len(values) * eighths / 8
		left := float64(len(values)-at) / float64(len(values))
		before, after := average(values[:at]), average(values[at:])
		if drift, stood, _ := stands(values[at:], floor, driftLimit*left); stood && apart(before, after) > driftLimit/4 {
			return at, drift
		}
	}
	return 0, nil
}

// withoutRamps takes away the cuts between short pieces before the last, each lower
// than the one before, or each higher: a level that glides looks like many steps.
func withoutRamps(values []float64, bounds []int) []int {
	level := func(p int) float64 { return average(values[bounds[p]:bounds[p+1]]) }
	short := func(p int) bool { return bounds[p+1]-bounds[p] < len(values)/8 }
	for p := 1; p < len(bounds)-2; {
		if short(p-1) && short(p) && (level(p) < level(p-1)) == (level(p+1) < level(p)) {
			bounds = slices.Delete(bounds, p, p+1)
			continue
		}
		p++
	}
	return bounds
}

// withoutSlope takes a cut before the last piece away as long as a straight line
// over it and the piece before leaves squares about as small as the two levels: what
// drifts looks like steps, too. The levels have to be better by slopeGain times the
// variance of the noise.
func withoutSlope(values []float64, bounds []int, floor float64) []int {
	for len(bounds) > 2 {
		from, at := bounds[len(bounds)-3], bounds[len(bounds)-2]
		both, levels := values[from:], []int{0, at - from, len(values) - from}
		_, sloped := line(both)
		noise := noiseOf(both, levels, floor).longRun()
		if squares(sloped) > squares(residuals(both, levels))+slopeGain*noise*noise {
			break
		}
		bounds = slices.Delete(bounds, len(bounds)-2, len(bounds)-1)
	}
	return bounds
}

func squares(values []float64) (sum float64) {
	for _, v := range values {
		sum += v * v
	}
	return sum
}

// line fits a straight line and gives its slope per value, and what is left.
func line(values []float64) (slope float64, rest []float64) {
	n := float64(len(values))
	middle, mean := (n-1)/2, average(values)
	products, squares := 0.0, 0.0
	for i, v := range values {
		x := float64(i) - middle
		products += x * (v - mean)
		squares += x * x
	}
	slope = products / max(squares, 1)
	rest = make([]float64, len(values))
	for i, v := range values {
		rest[i] = v - mean - slope*(float64(i)-middle)
	}
	return slope, rest
}

// waveOf puts a cycle of the level in terms of throughput and time.
func waveOf(paces []measure.Pace, level []float64, c cycle) *measure.Wave {
	all, mean := phase(paces), average(level)
	return &measure.Wave{
		Low: all.Throughput * quantity.ByteRate(c.low/mean), High: all.Throughput * quantity.ByteRate(c.high/mean),
		Every: quantity.Seconds(c.period) * all.Length / quantity.Seconds(len(paces)),
	}
}

func span(paces []measure.Pace) (length quantity.Seconds) {
	for _, p := range paces {
		length += p.Length
	}
	return length
}

// phase sums paces up.
func phase(paces []measure.Pace) measure.Phase {
	f := measure.Phase{Start: paces[0].Start, Length: span(paces), Intervals: len(paces)}
	operations, waited := int64(0), quantity.Seconds(0)
	for _, p := range paces {
		operations += p.Operations
		f.Bytes += p.Bytes
		waited += p.Waited
	}
	f.Rate, f.Throughput = measure.Per(operations, int64(f.Bytes), f.Length)
	if operations > 0 {
		f.Mean = waited / quantity.Seconds(operations)
	}
	return f
}

// slower says whether a phase is worse than another: at a lower rate, or at a like
// rate with a longer latency.
func slower(a, b measure.Phase) bool {
	if apart(float64(a.Rate), float64(b.Rate)) < leastChange/2 {
		return a.Mean > b.Mean
	}
	return a.Rate < b.Rate
}

// name gives each phase its kind; the last one's is known.
func name(list []measure.Phase, last measure.PhaseKind) {
	all := 0
	for _, p := range list {
		all += p.Intervals
	}
	for i := range list {
		p := &list[i]
		switch {
		case i == len(list)-1:
			p.Kind = last
		case i > 0 && p.Intervals*5 < all && p.Rate < list[i-1].Rate/2 && p.Rate < list[i+1].Rate/2:
			p.Kind = measure.Stall
		case slower(list[i+1], *p):
			p.Kind = measure.Burst
		default:
			p.Kind = measure.Start
		}
	}
}

// fall is the first moment from which on no phase comes near the level before it
// again.
func fall(list []measure.Phase, paces []measure.Pace) *measure.Fall {
	for i := range len(list) - 1 {
		before := list[i]
		if before.Kind != measure.Burst {
			continue
		}
		back := slices.ContainsFunc(list[i+1:], func(p measure.Phase) bool { return !slower(p, before) })
		if back {
			continue
		}
		f := measure.Fall{After: before.Start + before.Length, From: before.Throughput, To: list[len(list)-1].Throughput}
		for _, p := range paces {
			if p.Start < f.After-p.Length/2 {
				f.Bytes += p.Bytes
			}
		}
		return &f
	}
	return nil
}

// inWords says what the phases show.
func inWords(load workload.Spec, p measure.Phases, intervals int) string {
	show := func(f measure.Phase) string {
		if load.Open() {
			return fmt.Sprintf("a mean latency of %s", f.Mean)
		}
		if load.MeanBlock() < 64*1024 {
			return f.Rate.String()
		}
		return f.Throughput.String()
	}
	last := *p.Last()
	var words []string
	for _, f := range p.List[:len(p.List)-1] {
		words = append(words, fmt.Sprintf("%s for %s (%s)", show(f), f.Length, f.Bytes))
	}
	if len(words) > 4 {
		words = slices.Concat(words[:2], []string{fmt.Sprintf("%d phases more", len(words)-3)}, words[len(words)-1:])
	}
	before := ""
	if len(words) > 0 {
		before = strings.Join(words, ", then ") + ", then "
	}
	text := ""
	switch p.Standing {
	case measure.Settled:
		text = fmt.Sprintf("%s, which lasted", show(last))
	case measure.NotSettled:
		text = fmt.Sprintf("%s until the end", show(last))
		if d := p.Drift; d != nil && math.Abs(float64(d.Share)) >= leastChange {
			text += fmt.Sprintf(", %s by %s meanwhile", map[bool]string{true: "rising", false: "falling"}[d.Share > 0], quantity.Share(math.Abs(float64(d.Share))))
		}
	default:
		text = fmt.Sprintf("%s; it is not known whether that lasts: %s", show(last), cmp.Or(
			map[bool]string{true: fmt.Sprintf("%d intervals are too few to tell, from %d on it can be", intervals, leastKnown)}[intervals < leastKnown],
			fmt.Sprintf("it varied too much over %d intervals", last.Intervals)))
	}
	if w := p.Wave; w != nil {
		text += fmt.Sprintf(", going up and down between %s and %s every %s", w.Low, w.High, w.Every)
	}
	if d := p.Dips; d != nil {
		text += fmt.Sprintf("; with %d %s by %s on average, %s in all", d.Count, map[bool]string{true: "dip", false: "dips"}[d.Count == 1], d.Depth, d.Length)
		if d.Every > 0 {
			text += fmt.Sprintf(", one every %s", d.Every)
		}
	}
	text = before + text + "."
	return strings.ToUpper(text[:1]) + text[1:]
}

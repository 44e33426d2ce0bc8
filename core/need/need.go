// Package need holds what uses demand of storage, and judges setups by it: each bound of
// each use against what was measured, capacity and price against what is known, and what
// has to be survived against how a setup is made.
//
// It measures nothing and knows no store: Judge is given sides as a comparison is, and
// says of every demand and every setup that it meets it and with how much headroom, falls
// short of it, or that neither is shown.
//
//	n, err := needfile.Read(text)
//	judged := need.Judge(n, sides)
package need

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/mistake"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// ErrInvalid is wrapped by every error about a need that cannot be.
var ErrInvalid = errors.New("impossible need")

func invalid(field, format string, arguments ...any) error {
	return mistake.In(ErrInvalid, field, format, arguments...)
}

// Most is how many uses a need may have, and MostBounds how many bounds each.
const (
	Most       = 32
	MostBounds = 32
)

// Need is what uses demand of one storage together.
type Need struct {
	Name string `json:"name"`
	Why  string `json:"why,omitempty"`

	Headroom float64         `json:"headroom,omitempty" doc:"How many times as good as its bound every figure has to be; 0 for 1"`
	Capacity quantity.Bytes  `json:"capacityBytes,omitempty" doc:"Room for data that is needed now; 0 where it is not asked for"`
	Growth   quantity.Share  `json:"growth,omitempty" doc:"By how much that grows each year"`
	Years    float64         `json:"years,omitempty" doc:"For how many years it has to last"`
	Budget   float64         `json:"budget,omitempty" doc:"Highest price, in the unit that the setups tell theirs in; 0 for any"`
	Survives []setup.Failure `json:"survives,omitempty" doc:"What has to be survived with all data"`
	Together bool            `json:"together,omitempty" doc:"All uses are at work at once, and judged by measurements of that; otherwise each by measurements of its own"`
	Uses     []Use           `json:"uses"`
}

// Mixed is the load of all uses at once; each needs a load of its own.
func (n Need) Mixed() workload.Spec {
	mixed := workload.Default()
	mixed.SetTogether()
	mixed.For, mixed.WarmUp = 0, 0
	for _, u := range n.Uses {
		part := *u.Load
		part.Name = u.Name
		mixed.For, mixed.WarmUp = max(mixed.For, part.For), max(mixed.WarmUp, part.WarmUp)
		mixed.Together = append(mixed.Together, part)
	}
	return mixed
}

// Use is one thing that the storage is used for.
type Use struct {
	Name     string         `json:"name"`
	Stage    string         `json:"stage,omitempty" doc:"Name of the stage whose measurements judge it; absent where the load is given"`
	Load     *workload.Spec `json:"load,omitempty" doc:"The load whose measurements judge it, whatever their stage is called"`
	Users    int            `json:"users,omitempty" doc:"How many use it; bounds for each are multiplied by it"`
	Headroom float64        `json:"headroom,omitempty" doc:"Of this use, in place of that of all"`
	Bounds   []Bound        `json:"bounds"`
}

// Bound is what one figure has to be.
type Bound struct {
	Figure string  `json:"figure"`
	Most   bool    `json:"most" doc:"The value is the largest that is allowed; otherwise the least"`
	Value  float64 `json:"value" doc:"In the figure's unit"`
	Each   bool    `json:"each,omitempty" doc:"The value is for each user"`
}

// none is how it is written that there may be none of something.
const none = "none"

// ParseBound reads a bound of a figure, such as "at most 5ms", "at least 4000",
// "at least 50 each", or "none".
func ParseBound(key, text string) (Bound, error) {
	f, err := figure.Lookup(key)
	if err != nil {
		return Bound{}, err
	}
	b := Bound{Figure: f.Key}
	rest := strings.TrimSpace(text)
	switch {
	case rest == none && f.Lower:
		b.Most = true
		return b, nil
	case strings.HasPrefix(rest, "at most "):
		b.Most, rest = true, strings.TrimPrefix(rest, "at most ")
	case strings.HasPrefix(rest, "at least "):
		rest = strings.TrimPrefix(rest, "at least ")
	default:
		way := "at least"
		if f.Lower {
			way = "at most"
		}
		return b, fmt.Errorf("%q has no direction; write it like: %s %s", text, way, example(f))
	}
	rest, b.Each = strings.CutSuffix(strings.TrimSpace(rest), " each")
	b.Value, err = parseValue(f, rest)
	if err != nil {
		return b, fmt.Errorf("%s: %w", f.Label, err)
	}
	return b, nil
}

// readers read values of figures by their unit.
var readers = map[string]struct {
	read    func(string) (float64, error)
	example string
}{
	"bytes per second":    {number(quantity.ParseByteRate), "400MB/s"},
	"per second":          {number(quantity.ParseOpRate), "4000"},
	"files per second":    {number(quantity.ParseOpRate), "250"},
	"requests per second": {number(quantity.ParseOpRate), "12k"},
	"seconds":             {number(quantity.ParseSeconds), "5ms"},
	"bytes":               {number(quantity.ParseBytes), "20GiB"},
	"share":               {number(quantity.ParseShare), "1%"},
	"times":               {number(quantity.ParseNumber), "3"},
}

func number[T ~int64 | ~float64](parse func(string) (T, error)) func(string) (float64, error) {
	return func(text string) (float64, error) {
		value, err := parse(text)
		return float64(value), err
	}
}

func example(f figure.Figure) string { return readers[f.Unit].example }

func parseValue(f figure.Figure, text string) (float64, error) {
	value, err := readers[f.Unit].read(text)
	if err == nil && (value < 0 || math.IsNaN(value) || math.IsInf(value, 0)) {
		err = fmt.Errorf("%q is not a number from 0 on", text)
	}
	return value, err
}

// Of is the value that the bound asks for of so many users together.
func (b Bound) Of(users int) float64 {
	if b.Each {
		return b.Value * float64(users)
	}
	return b.Value
}

// InWords says what is asked: "p99 latency at most 5 ms".
func (b Bound) InWords(users int) string {
	f := figure.Of(b.Figure)
	if b.Most && b.Value == 0 {
		return "no " + f.Label
	}
	way := "at least"
	if b.Most {
		way = "at most"
	}
	show := func(value float64) string { return strings.TrimSuffix(f.Show(value), " "+f.Label) } // IOPS are a unit, too
	words := fmt.Sprintf("%s %s %s", f.Label, way, show(b.Of(users)))
	if b.Each {
		words += fmt.Sprintf(" (%s for each of %d)", show(b.Value), users)
	}
	return words
}

// Factor is how many times as good as its bound a figure of a use has to be.
func (n Need) Factor(u Use) float64 {
	switch {
	case u.Headroom > 0:
		return u.Headroom
	case n.Headroom > 0:
		return n.Headroom
	}
	return 1
}

// plain prints a number that was given by hand.
func plain(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }

// ShowRoom prints a capacity the way drives are sold.
func ShowRoom(room quantity.Bytes) string {
	if room >= 1e12 {
		return strconv.FormatFloat(float64(room)/1e12, 'g', 3, 64) + " TB"
	}
	return room.String()
}

// Room is the capacity that is needed at the end of the years.
func (n Need) Room() quantity.Bytes {
	room := float64(n.Capacity) * math.Pow(1+float64(n.Growth), n.Years)
	return quantity.Bytes(min(room, math.MaxInt64/2))
}

// Validate reports what cannot be of a need. Errors are of type *mistake.Error.
func (n Need) Validate() error {
	switch {
	case n.Name == "":
		return invalid("name", "the need has no name")
	case len(n.Uses) == 0 && n.Capacity == 0 && n.Budget == 0 && len(n.Survives) == 0:
		return invalid("", "it has no requirements; add uses with bounds, a capacity, failures to survive, or a budget")
	case len(n.Uses) > Most:
		return invalid("uses", "%d uses; %d at most", len(n.Uses), Most)
	case n.Headroom != 0 && !(n.Headroom >= 1 && n.Headroom <= 100):
		return invalid("headroom", "%g times; 1 to 100", n.Headroom)
	case n.Years < 0 || n.Years > 50 || math.IsNaN(n.Years):
		return invalid("years", "%g; 0 to 50", n.Years)
	case n.Growth < 0 || n.Growth > 10:
		return invalid("growth", "%s a year; 0 to 1000 %%", n.Growth)
	case n.Growth > 0 && n.Years == 0:
		return invalid("years", "the capacity grows, but the number of years is missing")
	case n.Growth > 0 && n.Capacity == 0:
		return invalid("capacity", "it grows, but the capacity is missing")
	case n.Capacity < 0:
		return invalid("capacity", "it is negative")
	case n.Budget < 0 || math.IsNaN(n.Budget) || math.IsInf(n.Budget, 0):
		return invalid("budget", "%g is not a price", n.Budget)
	}
	for i, f := range n.Survives {
		if slices.Contains(n.Survives[:i], f) {
			return invalid(fmt.Sprintf("survives[%d]", i), "%s stands there twice", f)
		}
	}
	for i, u := range n.Uses {
		at := fmt.Sprintf("uses[%d]", i)
		if slices.ContainsFunc(n.Uses[:i], func(o Use) bool { return o.Name == u.Name }) {
			return invalid(at+".name", "there are two uses of the name %q", u.Name)
		}
		if err := u.validate(at); err != nil {
			return err
		}
	}
	if n.Together {
		return n.validateTogether()
	}
	return nil
}

// untoldTogether are figures that are known of a load alone.
var untoldTogether = []string{"finish", "worst", "cpu", "commands", "wire", "answered"}

func (n Need) validateTogether() error {
	for i, u := range n.Uses {
		if u.Load == nil {
			return invalid(fmt.Sprintf("uses[%d]", i), "uses at once are measured together, so %q needs a load, not a stage", u.Name)
		}
		for j, b := range u.Bounds {
			if f := figure.Of(b.Figure); f.Side != "" || f.OfPhases() || slices.Contains(untoldTogether, f.Key) {
				return invalid(fmt.Sprintf("uses[%d].bounds[%d]", i, j), "%s is not known for one of several uses at once; bound the rate or the latency of %q", f.Label, u.Name)
			}
		}
	}
	if err := n.Mixed().Validate(); err != nil {
		return invalid("together", "%s", err)
	}
	return nil
}

func (u Use) validate(at string) error {
	switch {
	case u.Name == "":
		return invalid(at+".name", "the use has no name")
	case (u.Load == nil) == (u.Stage == ""):
		return invalid(at, "say which measurements judge %q: either the name of their stage, or their load", u.Name)
	case len(u.Bounds) == 0:
		return invalid(at+".bounds", "%q has no bounds, such as {p99: at most 5ms}", u.Name)
	case len(u.Bounds) > MostBounds:
		return invalid(at+".bounds", "%d bounds; %d at most", len(u.Bounds), MostBounds)
	case u.Users < 0 || u.Users > 1e9:
		return invalid(at+".users", "%d users", u.Users)
	case u.Headroom != 0 && !(u.Headroom >= 1 && u.Headroom <= 100):
		return invalid(at+".headroom", "%g times; 1 to 100", u.Headroom)
	}
	var allowed []figure.Figure
	if u.Load != nil {
		if err := u.Load.Validate(); err != nil {
			return invalid(at+".load", "%s", err)
		}
		allowed = figure.For(u.Load.Completed())
	}
	for i, b := range u.Bounds {
		f := figure.Of(b.Figure)
		field := at + ".bounds." + b.Figure
		switch {
		case f.Key == "":
			return invalid(field, "there is no such figure")
		case b.Each && u.Users == 0:
			return invalid(field, "it is for each user, and %q does not say how many there are (users)", u.Name)
		case b.Each && (f.Lower || f.Unit == "share"):
			return invalid(field, "%s is not shared among users, so that it cannot be for each", f.Label)
		case b.Value == 0 && !b.Most:
			return invalid(field, "at least nothing asks for nothing")
		case b.Value == 0 && f.Unit == "seconds":
			return invalid(field, "nothing takes no time")
		case allowed != nil && !slices.ContainsFunc(allowed, func(a figure.Figure) bool { return a.Key == f.Key }):
			return invalid(field, "a load such as that of %q has no %s", u.Name, f.Label)
		}
		for _, other := range u.Bounds[:i] {
			if err := contradict(other, b, field, u.Users); err != nil {
				return err
			}
		}
	}
	return nil
}

// contradict reports two bounds that nothing can meet together.
func contradict(a, b Bound, field string, users int) error {
	switch {
	case a.Figure == b.Figure && a.Most == b.Most:
		return invalid(field, "%s is asked for twice", b.InWords(users))
	case a.Figure == b.Figure && a.Most != b.Most:
		most, least := a, b
		if b.Most {
			most, least = b, a
		}
		if most.Of(users) < least.Of(users) {
			return invalid(field, "nothing can be both: %s, and %s", least.InWords(users), most.InWords(users))
		}
	}
	// Percentiles of one latency rise.
	rankA, sideA := rank(a.Figure)
	rankB, sideB := rank(b.Figure)
	if rankA == 0 || rankB == 0 || sideA != sideB {
		return nil
	}
	if rankA > rankB {
		a, b = b, a
		rankA, rankB = rankB, rankA
	}
	if rankA < rankB && !a.Most && b.Most && a.Value > b.Value {
		return invalid(field, "nothing can be both: %s, and %s", a.InWords(users), b.InWords(users))
	}
	return nil
}

// rank orders the percentiles of a latency, by the key of a figure such as "reads-p99";
// 0 for what is none.
func rank(key string) (rank int, side string) {
	side, name := "", key
	if i := strings.LastIndex(key, "-"); i >= 0 {
		side, name = key[:i], key[i+1:]
	}
	return 1 + slices.Index([]string{"p50", "p90", "p95", "p99", "p99.9", "p99.99"}, name), side
}

// Unmeasured is a need without the uses of which a side has at least three measurements;
// there are their names.
func (n Need) Unmeasured(side compare.Side) (left Need, there []string) {
	left, there = n, []string{}
	left.Uses = nil
	w := newWork(n, side)
	if n.Together {
		if samples, _ := w.samples(n.Uses[0]); len(samples) < leastRepeats {
			return n, there
		}
	}
	for _, u := range n.Uses {
		if samples, _ := w.samples(u); len(samples) >= leastRepeats {
			there = append(there, u.Name)
			continue
		}
		left.Uses = append(left.Uses, u)
	}
	return left, there
}

// WithLoads is n with the loads of measured stages in place of those that uses name alone.
func (n Need) WithLoads(side compare.Side) Need {
	w := newWork(n, side)
	n.Uses = slices.Clone(n.Uses)
	for i, u := range n.Uses {
		if samples, _ := w.samples(u); u.Load == nil && len(samples) > 0 {
			n.Uses[i].Load = &samples[0].Load
		}
	}
	return n
}

// leastRepeats is how many measurements a use has to have to be told anything by.
const leastRepeats = 3

// Plan is what has to be measured to judge a need whose uses have loads: each as a stage,
// repeated. Uses that name a stage alone are left out, and named.
func (n Need) Plan(repeats int) (p plan.Plan, without []string) {
	p = plan.Plan{Name: n.Name, Why: "Each use of the need " + n.Name + ", alone."}
	if n.Together && len(n.Uses) > 0 {
		p.Why = "All uses of the need " + n.Name + " at once."
		p.Stages = []plan.Stage{{Name: "all uses at once", Load: n.Mixed(), Repeats: repeats}}
		return p, nil
	}
	for _, u := range n.Uses {
		if u.Load == nil {
			without = append(without, u.Name)
			continue
		}
		p.Stages = append(p.Stages, plan.Stage{Name: cmp.Or(u.Stage, u.Name), Load: *u.Load, Repeats: repeats})
	}
	return p, without
}

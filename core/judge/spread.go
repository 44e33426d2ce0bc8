package judge

import (
	"math"

	"gonum.org/v1/gonum/stat"
)

// Spread is by how much runs of the same differ although the repeats within each
// agree: a standard deviation of logarithms, and how many degrees of freedom it is
// known with. Repeats of one run cannot show it.
type Spread struct {
	Deviation float64 `json:"deviation" doc:"Standard deviation from run to run, as a share"`
	Freedom   float64 `json:"freedom" doc:"How well it is known: degrees of freedom; runs that were learned from, less those that stood for the mean"`
}

// over is the spread of the mean of some runs.
func (s Spread) over(runs int) Spread {
	s.Deviation /= math.Sqrt(float64(max(runs, 1)))
	return s
}

// Alike is what runs of one setup measured under one load.
type Alike struct {
	Load string      // what they have in common, whatever names it
	Runs [][]float64 // the values of each run's repeats
}

// What is taken for the spread from run to run where nothing, or too little, was learned. On
// real storage runs of the same differ by a few per cent on a quiet machine and by ten and
// more on others (docs/judgement.md): what nobody knows is wide.
const (
	Unlearned    = 0.10  // standard deviation where fewer than four runs were learned from
	LeastLearned = 3     // degrees of freedom from which on what was learned stands by itself
	leastSpread  = 0.005 // that runs of the same differ by, whatever they showed so far
	granted      = 1000  // degrees of freedom of what is given and not estimated
)

// Given is a spread that is taken for granted.
func Given(deviation float64) Spread { return Spread{deviation, granted} }

// Learned is what Learn found, by load.
type Learned struct {
	own map[string]*pool
	all pool
}

// Learn tells by how much runs differ under a load, from runs of the same: the
// variance of their means, less what their repeats explain.
func Learn(past []Alike) Learned {
	l := Learned{own: map[string]*pool{}}
	for _, a := range past {
		variance, freedom := a.variance()
		if freedom == 0 {
			continue
		}
		if l.own[a.Load] == nil {
			l.own[a.Load] = &pool{}
		}
		l.own[a.Load].add(variance, freedom)
		l.all.add(variance, freedom)
	}
	return l
}

// Under gives the spread under a load, and how many degrees of freedom were learned. What was
// seen under other loads counts for up to four, since a volume that is unsteady under one is
// so under others; loads of one run share what disturbed it, so that together they say no more
// than one of them. Short of three it is Unlearned, or what was seen where that is more.
func (l Learned) Under(load string) (s Spread, learned float64) {
	own := l.own[load]
	elsewhere := pool{}
	if own == nil {
		own = &pool{}
	}
	if rest := l.all.freedom - own.freedom; rest > 0 {
		elsewhere = pool{(l.all.variance*l.all.freedom - own.variance*own.freedom) / rest, min(l.most(own), 4)}
	}
	freedom := own.freedom + elsewhere.freedom
	if freedom == 0 {
		return Given(Unlearned), 0
	}
	deviation := math.Sqrt((own.variance*own.freedom + elsewhere.variance*elsewhere.freedom) / freedom)
	if freedom < LeastLearned {
		return Given(max(deviation, Unlearned)), freedom
	}
	return Spread{max(deviation, leastSpread), freedom}, freedom
}

// most is how many degrees of freedom another load has at most.
func (l Learned) most(but *pool) (most float64) {
	for _, p := range l.own {
		if p != but && p.freedom > most {
			if most = p.freedom; most >= 4 {
				return most
			}
		}
	}
	return most
}

// pool is a variance from several groups, with its degrees of freedom.
type pool struct{ variance, freedom float64 }

func (p *pool) add(variance, freedom float64) {
	p.variance = (p.variance*p.freedom + variance*freedom) / (p.freedom + freedom)
	p.freedom += freedom
}

// variance is that of the logarithms of the runs' means, beyond what their repeats
// explain.
func (a Alike) variance() (variance, freedom float64) {
	var means []float64
	within := 0.0
	for _, run := range a.Runs {
		values, ok := logs(run)
		if !ok {
			continue
		}
		mean, deviation := stat.MeanStdDev(values, nil)
		means = append(means, mean)
		if len(values) > 1 {
			within += deviation * deviation / float64(len(values))
		}
	}
	if len(means) < 2 {
		return 0, 0
	}
	n := float64(len(means))
	return max(stat.Variance(means, nil)-within/n, 0), n - 1
}

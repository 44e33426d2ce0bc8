package judge

import (
	"fmt"
	"math"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// The limits of what is at rest.
const (
	restErrors = 3    // standard errors by which two halves of a time have to differ to move
	restShare  = 0.05 // and of the larger
	full       = 0.98 // share in use from which on what fills is full
)

var (
	movedMeanwhile = saysOf("still-moving", Caution, func(moves []string) string {
		if len(moves) > 3 {
			moves = append(moves[:3:3], fmt.Sprintf("and so did %d more", len(moves)-3))
		}
		return fmt.Sprintf("During the measurement %s. Later figures may differ.", strings.Join(moves, ", "))
	})

	counterWent = claim.Declare("counter-went", func(t []claim.Term) bool {
		return len(t) == 3 && t[1].Value != t[2].Value
	}, func(t []claim.Term) string {
		switch {
		case t[1].Shown != t[2].Shown:
			return fmt.Sprintf("%s went from %s to %s", t[0].Of, t[1].Shown, t[2].Shown)
		case t[1].Value < t[2].Value: // however slowly
			return fmt.Sprintf("%s was still rising, at %s", t[0].Of, t[2].Shown)
		}
		return fmt.Sprintf("%s was still falling, at %s", t[0].Of, t[2].Shown)
	})
)

// change adds from what to what a counter went.
func change(to []claim.Claim, c measure.Counter, from, until float64) []claim.Claim {
	show := func(v float64) claim.Term {
		if c.Unit == "share" {
			return claim.Term{Value: v, Shown: quantity.Share(v).String()}
		}
		return claim.Term{Value: v, Shown: quantity.Bytes(v).String()}
	}
	return claim.Add(to, counterWent, claim.Term{Of: c.Name}, show(from), show(until))
}

// moving says what on the way still fills, empties or warms over a time, in words; nothing
// where all is at rest, or tells nothing. How much of what was asked a store answered moves
// when the halves of the time differ by more than counting gives by chance; how full it is
// when it also goes one way from interval to interval (Mann and Kendall): what is written back
// in turns goes up and down and is at rest. What is not full and still fills moves, however
// slowly.
func moving(paces []measure.Pace) (moves []claim.Claim) {
	type told struct{ values, of []float64 }
	series, order := map[string]*told{}, []measure.Counter{}
	for _, p := range paces {
		for _, c := range p.Stores {
			if series[c.Name] == nil {
				series[c.Name] = &told{}
				order = append(order, c)
			}
			series[c.Name].values = append(series[c.Name].values, c.Value)
			series[c.Name].of = append(series[c.Name].of, c.Of)
		}
	}
	for _, c := range order {
		s := series[c.Name]
		n := len(s.values)
		if n < 2*stepParts {
			continue
		}
		if c.Over == measure.Means {
			var of, sums [2]float64 // of the halves
			for i, v := range s.values {
				of[i*2/n] += s.of[i]
				sums[i*2/n] += v * s.of[i]
			}
			a, b := sums[0]/max(of[0], 1), sums[1]/max(of[1], 1)
			all := (sums[0] + sums[1]) / max(of[0]+of[1], 1)
			deviation := math.Sqrt(all * (1 - all) * (1/max(of[0], 1) + 1/max(of[1], 1)))
			if math.Abs(b-a) > restErrors*deviation && apart(a, b) > restShare {
				moves = change(moves, c, a, b)
			}
			continue
		}
		a, b := average(s.values[:n/2]), average(s.values[n/2:])
		fills := strings.HasSuffix(c.Name, " in use") && s.values[n-1] > s.values[0] && s.values[n-1] < full
		if (fills || apart(a, b) > restShare) && math.Abs(risen(s.values)) > restErrors {
			moves = change(moves, c, s.values[0], s.values[n-1])
		}
	}
	return moves
}

// risen is by how many standard errors more of the pairs of values rise than fall (Mann 1945),
// below zero where more fall; of long series as many values are looked at as tell it.
func risen(values []float64) float64 {
	const most = 120
	each := (len(values) + most - 1) / most
	if each > 1 {
		values = means(values, each)
	}
	n := float64(len(values))
	sum := 0
	for i, v := range values {
		for _, later := range values[i+1:] {
			switch {
			case later > v:
				sum++
			case later < v:
				sum--
			}
		}
	}
	return float64(sum) / math.Sqrt(n*(n-1)*(2*n+5)/18)
}

// stillWarming says what on the way filled, emptied or warmed while it was measured: the
// figures are of that time, and those of later are others.
func stillWarming(o Observed) []Finding {
	var paces []measure.Pace
	for _, i := range whole(measured(o.Series)) {
		paces = append(paces, measure.Pace{Stores: i.Stores()})
	}
	moves := moving(paces)
	if len(moves) == 0 {
		return nil
	}
	return movedMeanwhile.puts(moves, everything, "Measure until steady state (--steady), or compare passes. A short measurement only shows the beginning.",
		unsaid("counters that moved", len(moves)))
}

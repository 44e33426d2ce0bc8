package statistics

import (
	"math"
	"testing"
)

// Values of tables: Fisher and Yates, Statistical Tables; Pearson and Hartley, Biometrika
// Tables for Statisticians, volume I.
func TestTailsAgreeWithTables(t *testing.T) {
	for _, c := range []struct {
		name          string
		got, want, by float64
	}{
		{"F, 5 % at 1 and 10", FTail(4.9646, 1, 10), 0.05, 1e-5},
		{"F, 1 % at 4 and 20", FTail(4.4307, 4, 20), 0.01, 1e-5},
		{"F, 5 % at 2 and 60", FTail(3.1504, 2, 60), 0.05, 1e-5},
		{"Student, 2.5 % at 10", StudentTail(2.2281, 10), 0.025, 1e-5},
		{"Student, one degree", StudentTail(1, 1), 0.25, 1e-12},
		{"Student, below", StudentBelow(2.2281, 10), 0.975, 1e-5},
		{"Student, quantile at 4", StudentQuantile(0.975, 4), 2.7764, 1e-4},
		{"Poisson, 2 of 5", PoissonBelow(2, 5), 0.1247, 1e-4},
		{"Poisson, 0 of 3", PoissonBelow(0, 3), math.Exp(-3), 1e-12},
		{"Poisson, many", PoissonBelow(4e8, 4e8), 0.5, 1e-4},
		{"Poisson, many, one deviation less", PoissonBelow(4e8-2e4, 4e8), 0.1587, 1e-4},
	} {
		if math.Abs(c.got-c.want) > c.by {
			t.Errorf("%s: %v, want %v", c.name, c.got, c.want)
		}
	}
}

// Whatever the numbers are, a chance comes out, and none that grows with what speaks
// against it.
func TestTailsTakeAnything(t *testing.T) {
	odd := []float64{math.NaN(), math.Inf(-1), -1e300, -1, -1e-17, 0, 1e-300, 1e-17, 1e-9, 0.5, 1, 2, 1e3, 1e9, 1e17, 1e300, math.MaxFloat64, math.Inf(1)}
	bounded := func(name string, p float64, of ...float64) {
		t.Helper()
		if !(p >= 0 && p <= 1) {
			t.Errorf("%s of %v is %v", name, of, p)
		}
	}
	for _, a := range odd {
		for _, b := range odd {
			bounded("StudentTail", StudentTail(a, b), a, b)
			bounded("StudentBelow", StudentBelow(a, b), a, b)
			bounded("PoissonBelow", PoissonBelow(a, b), a, b)
			if q := StudentQuantile(a, b); math.IsNaN(q) {
				t.Errorf("StudentQuantile of %v, %v is %v", a, b, q)
			}
			before := 1.0
			for _, ratio := range odd[1:] {
				p := FTail(ratio, a, b)
				bounded("FTail", p, ratio, a, b)
				if p > before+1e-9 {
					t.Errorf("FTail of %v, %v, %v is %v, and %v for less", ratio, a, b, p, before)
				}
				before = p
			}
		}
	}
}

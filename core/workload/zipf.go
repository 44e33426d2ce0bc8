package workload

import (
	"math"
	"math/bits"
	"math/rand/v2"
)

// Zipf draws ranks 0 to Count-1 with probability proportional to
// 1/(rank+1)^exponent, for any exponent above zero, in constant time and
// memory, by rejection-inversion (Hörmann and Derflinger, Rejection-inversion
// to generate variates from monotone discrete distributions, 1996).
type Zipf struct {
	exponent    float64
	Count       uint64  // of ranks
	first, last float64 // integral of the hat at 1.5 less one, and at count + 0.5
	shortcut    float64
	step        uint64 // of Scatter
}

// NewZipf draws from so many ranks; the exponent is above zero.
func NewZipf(exponent float64, count uint64) *Zipf {
	z := &Zipf{exponent: exponent, Count: count}
	z.first = z.integral(1.5) - 1
	z.last = z.integral(float64(count) + 0.5)
	z.shortcut = 2 - z.inverse(z.integral(2.5)-z.density(2))
	// A step near the Golden section of the count and coprime to it visits
	// every place once and puts neighbouring ranks far apart.
	z.step = uint64(float64(count)*0.6180339887498949) | 1
	for gcd(z.step, count) != 1 {
		z.step += 2
	}
	return z
}

func (z *Zipf) density(x float64) float64 { return math.Exp(-z.exponent * math.Log(x)) }

// integral is the integral of the density from 1 to x, written so that it
// stays exact as the exponent passes 1.
func (z *Zipf) integral(x float64) float64 {
	logX := math.Log(x)
	return expm1OverX((1-z.exponent)*logX) * logX
}

func (z *Zipf) inverse(x float64) float64 {
	t := max(x*(1-z.exponent), -1)
	return math.Exp(log1pOverX(t) * x)
}

// Rank draws a rank, 0 to Count-1.
func (z *Zipf) Rank(random *rand.PCG) uint64 {
	for {
		uniform := float64(random.Uint64()>>11) / (1 << 53)
		u := z.last + uniform*(z.first-z.last)
		x := z.inverse(u)
		k := min(max(math.Floor(x+0.5), 1), float64(z.Count))
		if k-x <= z.shortcut || u >= z.integral(k+0.5)-z.density(k) {
			return uint64(k) - 1
		}
	}
}

// Scatter maps ranks one to one onto places, so that what is hot is spread
// over the span as it is on real volumes.
func (z *Zipf) Scatter(rank uint64) uint64 {
	high, low := bits.Mul64(rank, z.step)
	_, place := bits.Div64(high%z.Count, low, z.Count)
	return place
}

func gcd(a, b uint64) uint64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

func expm1OverX(x float64) float64 {
	if math.Abs(x) > 1e-8 {
		return math.Expm1(x) / x
	}
	return 1 + x/2*(1+x/3)
}

func log1pOverX(x float64) float64 {
	if math.Abs(x) > 1e-8 {
		return math.Log1p(x) / x
	}
	return 1 - x*(0.5-x/3)
}

// Package trials shares out the random trials of long tests.
//
// A test that draws thousands of cases takes minutes when all are tried. HERON_TRIALS says which
// are: "3/8" is the fourth of eight equal parts, and without it all are tried. 'make test' gives
// the part that the commit chooses, so that each part has its turn and a commit always tries the
// same; 'make test-long' tries all. docs/testing.md lists what each long test has found.
//
//	for seed := range trials.Of(300) { ... }   // those of 0 to 299 that are tried
//	tries := trials.Number(400)                // of 400, how many
//	random := rand.New(rand.NewPCG(7, trials.Seed()))
package trials

import (
	"fmt"
	"iter"
	"os"
)

// share gives the part that is tried, counted from 0, and the number of parts.
func share() (part, parts int) {
	text := os.Getenv("HERON_TRIALS")
	if text == "" {
		return 0, 1
	}
	if n, err := fmt.Sscanf(text, "%d/%d", &part, &parts); n != 2 || err != nil || parts < 1 || part < 0 || part >= parts {
		panic(fmt.Sprintf("HERON_TRIALS is %q; write such as 3/8, the fourth of eight parts", text))
	}
	return part, parts
}

// Number is how many of so many trials are carried out: at least one.
func Number(of int) int {
	_, parts := share()
	return (of + parts - 1) / parts
}

// Parts is how many parts there are: 1 where all is tried.
func Parts() int {
	_, parts := share()
	return parts
}

// Part is the number of the part, from 0: trials that are numbered in a row begin at Part times
// their number.
func Part() int {
	part, _ := share()
	return part
}

// Of are the numbers of the trials that are carried out, below of: every eighth, for an eighth.
// Where there are fewer trials than parts, each part has one.
func Of(of int) iter.Seq[int] {
	part, parts := share()
	return func(yield func(int) bool) {
		for i := part % min(parts, of); i < of; i += parts {
			if !yield(i) {
				return
			}
		}
	}
}

// Seed differs from part to part, and is 0 where all is tried.
func Seed() uint64 {
	part, parts := share()
	if parts == 1 {
		return 0
	}
	return uint64(part) + 1
}

// All reports whether a test that cannot be divided is carried out whole: in one part of all,
// which its number chooses.
func All(number int) bool {
	part, parts := share()
	return number%parts == part
}

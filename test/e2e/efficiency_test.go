package e2e

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/core/efficiency"
	"patientheron/resource"
)

// Four disks, of which one is slower, and the stripe of them: the slow one is named, what they do
// at once is told from what they do alone, and the stripe makes what the slowest leaves. A
// comparison is weighed as somebody sets it, and kept with that.
func TestEfficiencyAndWeights(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	do := func(arguments ...string) string {
		t.Helper()
		out, trouble, err := s.cli(arguments...)
		if err != nil {
			t.Fatalf("%v: %v: %s%s", arguments, err, out, trouble)
		}
		return out
	}
	const fast, slow = "  - {count: %d, medium: hard disk, capacity: 1TB}\n", "  - {count: 1, medium: hard disk, capacity: 1TB, slow: 2}\n"
	names := []string{"one", "two", "three", "four"}
	for i, name := range append(names, "stripe") {
		members, level := fmt.Sprintf(fast, 1), "concatenation"
		switch {
		case name == "stripe":
			members, level = fmt.Sprintf(fast, 3)+slow, "raid0"
		case i == 2:
			members = slow
		}
		array := written(t, name+".yaml", fmt.Sprintf("name: %s\nmembers:\n%slayout: {level: %s}\n", name, members, level))
		if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: name, Locator: "array:" + array}); err != nil {
			t.Fatal(err)
		}
	}
	loads := func(depth int) string {
		return written(t, "loads.yaml", fmt.Sprintf("stages:\n  - {name: small, load: {block: 4KiB, span: 10GiB, depth: %d, for: 5s}, repeats: 2}\n  - {name: large, load: {block: 1MiB, order: sequential, span: 10GiB, depth: %d, for: 2s}, repeats: 2}\n", depth, depth))
	}
	do(append(append([]string{"measure"}, names...), "--plan", loads(4))...)
	do("measure", "stripe", "--plan", loads(16))
	set := append([]string{"efficiency", "stripe"}, names...)
	if out := do(set...); !strings.Contains(out, "measure them with --race as well") {
		t.Error(out)
	}
	do(append(append([]string{"measure"}, names...), "--plan", loads(4), "--race")...)
	var r efficiency.Efficiency
	if err := json.Unmarshal([]byte(do(append(set, "--json")...)), &r); err != nil || len(r.Points) != 2 || len(r.Odd) != 1 || r.Odd[0].Member != 2 {
		t.Fatalf("%v: %+v", err, r)
	}
	// In order the slow disk does half, and all wait for it: 2 of 3.5.
	if large := r.Points[1]; math.Abs(large.Efficiency.Mean-2/3.5) > 0.03 || large.AtOnce == nil || math.Abs(large.AtOnce.Mean-1) > 0.02 {
		t.Errorf("%+v", large)
	}
	out := do(set...)
	for _, words := range []string{"three is an outlier: 5", "at most 57", "slow each other down"} {
		if !strings.Contains(out, words) {
			t.Errorf("it does not say %q: %s", words, out)
		}
	}
	for words, arguments := range map[string][]string{
		"are the same runs":                {"efficiency", "stripe", "one", "one"},
		"is no registered volume":          {"efficiency", "stripe", "one", "nobody"},
		"takes ARRAY MEMBER MEMBER...":     {"efficiency", "stripe", "one"},
		`there is no stage "lockups"`:      {"compare", "1", "3", "--weigh", "lockups=1"},
		"has to be above 0":                {"compare", "1", "3", "--weigh", "small=0"},
		"write it like 'ledger lookups=3'": {"compare", "1", "3", "--weigh", "small"},
		"the same runs; name the array":    {"efficiency", "1", "1", "2"},
	} {
		if out, trouble, err := s.cli(arguments...); err == nil || !strings.Contains(trouble, words) {
			t.Errorf("%v does not say %q: %v %s%s", arguments, words, err, out, trouble)
		}
	}
	if out := do("compare", "1", "3", "--weigh", "small=1", "--weigh", "large=3", "--name", "weighed"); !strings.Contains(out, "With the weights: 0.49") {
		t.Error(out)
	}
	kept, err := s.Comparison(t.Context(), 1)
	if err != nil || len(kept.Weights) != 2 || kept.Result.Candidates[0].Weighed == nil || kept.Result.Candidates[0].Weighed.Refused != "" {
		t.Errorf("%v: %+v", err, kept.Weights)
	}

	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(s.url + "/efficiency"))
	p.says("Choose the array")
	p.do(chromedp.Navigate(s.url + "/efficiency?array=5&member=1&member=2&member=3&member=4"))
	p.says("three is an outlier: 5")
	p.says("Level leaves")
	p.do(chromedp.Navigate(s.url + "/compare/1"))
	p.says("With the weights: 0.49")
	p.until(`document.querySelector("details input")?.value === "1"`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Weigh").map(b => b.click()).length === 1`)
	p.until(`location.search.includes("weigh=large%3D3")`)
	p.says("With the weights: 0.49")
	if shown, err := p.Text("main"); err != nil || strings.Contains(shown, "NaN") || strings.Contains(shown, "undefined") {
		t.Errorf("%v: %s", err, shown)
	}
	p.do(chromedp.EmulateViewport(390, 800), chromedp.Navigate(s.url+"/efficiency?array=5&member=1&member=2&member=3&member=4"))
	p.says("Level leaves")
	p.until(`document.documentElement.scrollWidth <= 391`)
}

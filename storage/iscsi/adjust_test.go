package iscsi

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/protocol/iscsi"
	"patientheron/storage/volume"
)

func TestAdjustedLocators(t *testing.T) {
	o := Opener{}
	l, err := o.Parse("//a.example/iqn.2026-01.example:store/1?MaxBurstLength=65536&sessions=2")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		settings []plan.Setting
		want     string // the end of the locator
		wrong    string
	}{
		{[]plan.Setting{{Field: "MaxBurstLength", Value: "131072"}}, "?sessions=2&MaxBurstLength=131072", ""},
		{[]plan.Setting{{Field: "sessions", Value: "1"}, {Field: "ImmediateData", Value: "No"}}, "?ImmediateData=No&MaxBurstLength=65536", ""},
		{[]plan.Setting{{Field: "sessions", Value: "0"}}, "", "from 1 to 64"},
		{[]plan.Setting{{Field: "MaxBurst", Value: "1"}}, "", "not a key"},
		{[]plan.Setting{{Field: "FirstBurstLength", Value: "131072"}}, "", "more than MaxBurstLength"},
		{[]plan.Setting{{Field: "portal", Value: "b.example"}}, "", "name another volume"},
	} {
		got, err := o.Adjust(l, c.settings)
		if c.wrong != "" {
			if !errors.Is(err, volume.ErrLocator) || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%v: %v", c.settings, err)
			}
			continue
		}
		if err != nil || !strings.HasSuffix(got.String(), c.want) {
			t.Errorf("%v: %s (%v)", c.settings, got, err)
		}
		if again, err := o.Parse(got.Name); err != nil || again.String() != got.String() {
			t.Errorf("%s is read again as %s (%v)", got, again, err)
		}
	}
}

// What comes unasked follows what comes in all, unless the locator says both; and what is
// usual is no reason to refuse more.
func TestBurstsFollowEachOther(t *testing.T) {
	for query, want := range map[string][2]string{
		"":                          {"262144", "16776192"},
		"?MaxBurstLength=65536":     {"65536", "65536"},
		"?MaxBurstLength=1048576":   {"262144", "1048576"},
		"?FirstBurstLength=1048576": {"1048576", "16776192"},
		"?FirstBurstLength=512&MaxBurstLength=1024": {"512", "1024"},
	} {
		a, err := parseAddress("//a.example/iqn.2026-01.example:store/1" + query)
		if err != nil {
			t.Errorf("%s: %v", query, err)
			continue
		}
		wishes := a.options(nil).wishes
		if got := [2]string{wishes[iscsi.FirstBurst], wishes[iscsi.MaxBurst]}; got != want {
			t.Errorf("%s offers %v, want %v", query, got, want)
		}
	}
}

// Everything that is worth trying is a locator that can be, other than the present one.
func TestWhatIsWorthTrying(t *testing.T) {
	o := Opener{}
	for _, name := range []string{"//a.example/iqn.2026-01.example:store/1", "//a.example/iqn.2026-01.example:store/1?InitialR2T=Yes&ImmediateData=No&HeaderDigest=CRC32C&MaxBurstLength=65536&sessions=4&MaxOutstandingR2T=1"} {
		l, err := o.Parse(name)
		if err != nil {
			t.Fatal(err)
		}
		writes, reads := workload.Default(), workload.Default()
		writes.Reads, reads.Reads = 0, 1
		all := o.Adjustable(l, writes)
		if len(all) != 9 || len(o.Adjustable(l, reads)) != 5 {
			t.Errorf("%s: %d parameters to try with writes, %d without", name, len(all), len(o.Adjustable(l, reads)))
		}
		for _, a := range all {
			if len(a.Values) == 0 || slices.Contains(a.Values, a.Now) || a.Of == "" {
				t.Errorf("%s: %+v", name, a)
			}
			for _, v := range a.Values {
				got, err := o.Adjust(l, []plan.Setting{{Field: a.Field, Value: v}})
				if err != nil && a.Field != iscsi.FirstBurst || err == nil && got.String() == l.String() {
					t.Errorf("%s at %s: %s (%v)", a.Field, v, got, err)
				}
			}
		}
	}
	if portal, err := o.Parse("//a.example"); err != nil || len(o.Adjustable(portal, workload.Default())) != 0 {
		t.Errorf("a portal can be tuned (%v)", err)
	}
}

package iscsi

import (
	"fmt"
	"slices"
	"strconv"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/protocol/iscsi"
	"patientheron/storage/volume"
)

// Adjust gives a locator with some keys at other values.
func (o Opener) Adjust(l volume.Locator, settings []plan.Setting) (volume.Locator, error) {
	a, err := parseAddress(l.Name)
	if err != nil {
		return l, err
	}
	for _, s := range settings {
		if s.Field == "portal" || s.Field == "initiator" {
			return l, fmt.Errorf("%w: %s says where the unit is and who asks; name another volume instead", volume.ErrLocator, s.Field)
		}
		if err := a.set(s.Field, s.Value); err != nil {
			return l, fmt.Errorf("%w: %s: %w", volume.ErrLocator, l, err)
		}
	}
	if err := a.wishes().Check(); err != nil {
		return l, fmt.Errorf("%w: %s: %w", volume.ErrLocator, l, err)
	}
	l.Name = a.String()
	return l, nil
}

// worth are the values of keys that are worth trying, and whether only loads that write
// feel them.
var worth = []struct {
	key    string
	writes bool
	values []string
}{
	{iscsi.SegmentLength, false, []string{"8192", "65536", "1048576"}},
	{iscsi.MaxBurst, false, []string{"65536", "1048576"}},
	{iscsi.FirstBurst, true, []string{"65536", "1048576"}},
	{iscsi.OutstandingR2T, true, []string{"1", "32"}},
	{iscsi.InitialR2T, true, []string{"Yes"}},
	{iscsi.ImmediateData, true, []string{"No"}},
	{iscsi.HeaderDigest, false, []string{"CRC32C"}},
	{iscsi.DataDigest, false, []string{"CRC32C"}},
}

// Adjustable are the keys of a session, and how many sessions there are; those about
// written data only where the load writes. A list of values leaves out the one that is in
// the locator, and for switches gives the other.
func (o Opener) Adjustable(l volume.Locator, load workload.Spec) (all []volume.Adjustment) {
	a, err := parseAddress(l.Name)
	if err != nil || a.Target == "" {
		return nil
	}
	wishes := a.wishes()
	for _, w := range worth {
		if w.writes && load.Reads == 1 {
			continue
		}
		k, err := iscsi.KeyNamed(w.key)
		if err != nil {
			continue
		}
		now, is := wishes[k.Name]
		if !is {
			now = k.Default
		}
		values := w.values
		if len(values) == 1 && values[0] == now {
			values = []string{map[string]string{"Yes": "No", "No": "Yes", "CRC32C": "None"}[now]}
		}
		values = slices.DeleteFunc(slices.Clone(values), func(v string) bool { return v == now })
		all = append(all, volume.Adjustment{Axis: plan.Axis{Field: k.Name, Values: values}, Now: now, Of: k.Of})
	}
	sessions := slices.DeleteFunc([]string{"1", "2", "4"}, func(v string) bool { return v == strconv.Itoa(a.Sessions) })
	all = append(all, volume.Adjustment{Axis: plan.Axis{Field: "sessions", Values: sessions}, Now: strconv.Itoa(a.Sessions), Of: "sessions of each worker over each portal"})
	return all
}

var _ volume.Adjuster = Opener{}

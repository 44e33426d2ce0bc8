package setup

import (
	"fmt"
	"slices"
	"strings"
)

// Among is what differs among several setups.
type Among struct {
	Rows  []Row   `json:"rows" doc:"Facts that are not the same in all, what can matter most first"`
	Alike [][]int `json:"alike" doc:"Numbers, from 0, of setups of which nothing that is known differs: groups of two and more"`
}

// Row is one fact of several setups.
type Row struct {
	Part   string   `json:"part"`
	Key    string   `json:"key"`
	Label  string   `json:"label"`
	Values []string `json:"values" doc:"In the order of the setups; empty where there is none, or it is not known"`
	Known  []bool   `json:"known" doc:"Of each whether an empty value means that there is none"`
}

// DiffAmong tells what differs among any number of setups.
func DiffAmong(all []Setup) Among {
	a := Among{Rows: []Row{}, Alike: [][]int{}}
	seen := map[string]bool{}
	for _, s := range all {
		for _, f := range s.Facts {
			if seen[f.Key] {
				continue
			}
			seen[f.Key] = true
			row := Row{Part: Part(f.Key), Key: f.Key, Label: label(f.Key)}
			for _, other := range all {
				value := other.Text(f.Key)
				row.Values = append(row.Values, value)
				row.Known = append(row.Known, value != "" || other.madeUp() && !isBeside(f.Key))
			}
			if slices.ContainsFunc(row.Values, func(v string) bool { return v != row.Values[0] }) {
				a.Rows = append(a.Rows, row)
			}
		}
	}
	slices.SortStableFunc(a.Rows, func(x, y Row) int { return weight(x.Part) - weight(y.Part) })
	placed := make([]bool, len(all))
	for i := range all {
		if placed[i] {
			continue
		}
		group := []int{i}
		for j := i + 1; j < len(all); j++ {
			if !placed[j] && Diff(all[i], all[j]).Alike() {
				placed[j], group = true, append(group, j)
			}
		}
		if len(group) > 1 {
			a.Alike = append(a.Alike, group)
		}
	}
	return a
}

// Words say which of the setups, by their names, are alike.
func (a Among) Words(names []string) string {
	if len(a.Rows) == 0 {
		return "The known facts of the setups are the same."
	}
	var words []string
	for _, group := range a.Alike {
		var of []string
		for _, i := range group {
			of = append(of, names[i])
		}
		words = append(words, fmt.Sprintf("%s and %s are alike in all that can make figures differ.", strings.Join(of[:len(of)-1], ", "), of[len(of)-1]))
	}
	if len(words) == 0 {
		return "No two of them are alike."
	}
	return strings.Join(words, " ")
}

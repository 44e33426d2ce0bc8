package files

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/fileset"
	"patientheron/core/quantity"
)

func listTasks() string {
	names := make([]string, len(tasks))
	for i, t := range tasks {
		names[i] = string(t)
	}
	return strings.Join(names, ", ")
}

// ParseTasks reads a task or a weighted mix such as "fetch:3,save:1".
func ParseTasks(text string) (shares []TaskShare, err error) {
	for part := range strings.SplitSeq(text, ",") {
		name, weight, weighted := strings.Cut(part, ":")
		share := TaskShare{Task: Task(strings.TrimSpace(name)), Weight: 1}
		if !slices.Contains(tasks, share.Task) {
			return nil, fmt.Errorf("there is no task %q; there are %s", share.Task, listTasks())
		}
		if weighted {
			if share.Weight, err = quantity.ParseNumber(weight); err != nil {
				return nil, fmt.Errorf("weight of %s: %w", share.Task, err)
			}
		}
		shares = append(shares, share)
	}
	return shares, nil
}

// FormatTasks writes a mix the way ParseTasks reads it.
func FormatTasks(shares []TaskShare) string {
	parts := make([]string, len(shares))
	for i, t := range shares {
		parts[i] = string(t.Task)
		if len(shares) > 1 {
			parts[i] += ":" + strconv.FormatFloat(t.Weight, 'f', -1, 64)
		}
	}
	return strings.Join(parts, ",")
}

// ParseSet reads a set of classes of one size each: "1000 x 64KiB", and with more of
// them "1000 x 64KiB + 3 x 1GiB".
func ParseSet(text string) (set fileset.Set, err error) {
	for part := range strings.SplitSeq(text, "+") {
		number, size, found := strings.Cut(part, "x")
		count, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
		if !found || err != nil {
			return set, fmt.Errorf("%q is no number of files of a size; write it like 1000 x 64KiB, or 1000 x 64KiB + 3 x 1GiB", strings.TrimSpace(part))
		}
		c := fileset.Class{Number: count, Folders: fileset.Folders{Files: plainFolder}}
		if c.Size.Fixed, err = quantity.ParseBytes(size); err != nil {
			return set, err
		}
		c.Name = plainName(c.Size.Fixed)
		set.Classes = append(set.Classes, c)
	}
	return set, set.Validate()
}

// plainFolder is how many files of a set that was given by number and size lie in a folder.
const plainFolder = 1000

func plainName(size quantity.Bytes) string { return "files of " + size.String() }

// FormatSet writes a set the way ParseSet reads it; "" for one that it cannot read.
func FormatSet(set fileset.Set) string {
	var parts []string
	for _, c := range set.Classes {
		plain := fileset.Class{Name: plainName(c.Size.Fixed), Number: c.Number, Size: fileset.Sizes{Fixed: c.Size.Fixed}, Folders: fileset.Folders{Files: plainFolder}}
		if set.Name != "" || !sameClass(c, plain) {
			return ""
		}
		size, _ := c.Size.Fixed.MarshalYAML() // cannot fail
		parts = append(parts, fmt.Sprintf("%d x %s", c.Number, size))
	}
	return strings.Join(parts, " + ")
}

func sameClass(x, y fileset.Class) bool {
	if len(x.Size.Bins)+len(y.Size.Bins) > 0 {
		return false
	}
	x.Size.Bins, y.Size.Bins = nil, nil
	return fmt.Sprint(x) == fmt.Sprint(y)
}

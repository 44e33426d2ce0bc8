// Package arrayfile reads array files: YAML that describes a simulated array,
// readable by someone who has never seen one. Every mistake is reported with
// its line and column. docs/arrays.md lists all keys.
//
//	name: Plain parity array
//	members: {count: 5, medium: hard disk, capacity: 4TB}
//	layout: {level: raid5, chunk: 64KiB}
package arrayfile

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/array"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/format/strictyaml"
)

// Error is a mistake in an array file and where it is.
type Error = strictyaml.Error

// Looks reports whether a text may be an array file: one of its lines begins
// with the key that every array file has.
func Looks(text []byte) bool {
	for line := range bytes.Lines(text) {
		if bytes.HasPrefix(bytes.TrimLeft(line, " {\"'"), []byte("members")) {
			return true
		}
	}
	return false
}

// Read reads a description and makes sure that it is possible. Errors are
// *Error.
func Read(text []byte) (array.Description, error) {
	document, err := strictyaml.Parse(text, "an array with its members")
	if err != nil {
		return array.Description{}, err
	}
	return describe(document)
}

// describe reads a parsed document.
func describe(document ast.Node) (array.Description, error) {
	r := reader{places: strictyaml.Places{}}
	if err := r.read(document); err != nil {
		return r.d, err
	}
	if err := r.d.Validate(); err != nil {
		var field *mistake.Error
		at := document
		if errors.As(err, &field) {
			at = r.places.Find(field.Field, document)
		}
		return r.d, strictyaml.Fail(at, err, "%s", err)
	}
	return r.d, r.used(r.d.Idle)
}

// used refuses a key that means nothing where it stands.
func (r *reader) used(idle func(string) string) error {
	for _, key := range r.places.Stated() {
		if why := idle(key); why != "" {
			err := &mistake.Error{Of: array.ErrInvalid, Field: key, Reason: why}
			return strictyaml.Fail(r.places[key], err, "%s", err)
		}
	}
	return nil
}

// ReadFault reads one fault, as it stands in the list of an array file:
//
//	{kind: path drops, path: 1, for: 2s}
//
// Whether an array can have it is for the array to say. Errors are *Error.
func ReadFault(text []byte) (array.Fault, error) {
	r := reader{places: strictyaml.Places{}}
	var f array.Fault
	document, err := strictyaml.Parse(text, "a fault, such as {kind: member fails, member: 2}")
	if err != nil {
		return f, err
	}
	if err := r.fault(document, "fault", &f); err != nil {
		return f, err
	}
	return f, r.used(func(key string) string { return f.Idle(strings.TrimPrefix(key, "fault.")) })
}

// reader remembers where each part stands, under the names that
// mistake.Error uses.
type reader struct {
	d      array.Description
	places strictyaml.Places
}

type entries = map[string]func(ast.Node) error

func real(place *float64) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseNumber)
}

func word[T ~string](place *T) func(ast.Node) error {
	return strictyaml.Parsed(place, func(text string) (T, error) {
		if strings.TrimSpace(text) == "" {
			return "", errors.New("is empty; say something, or leave it out")
		}
		return T(text), nil
	})
}

// positive reads a value that has to be more than nothing: a zero would stand for the
// default, and what a file states is used or refused.
func positive[T ~int | ~int64 | ~float64](place *T, parse func(string) (T, error)) func(ast.Node) error {
	return func(n ast.Node) error {
		if err := strictyaml.Parsed(place, parse)(n); err != nil {
			return err
		}
		if *place == 0 {
			return strictyaml.Fail(n, nil, "is zero, which nothing real is; leave it out for the default")
		}
		return nil
	}
}

func size(place *quantity.Bytes) func(ast.Node) error { return positive(place, quantity.ParseBytes) }
func time(place *quantity.Seconds) func(ast.Node) error {
	return positive(place, quantity.ParseSeconds)
}
func rate(place *quantity.ByteRate) func(ast.Node) error {
	return positive(place, quantity.ParseByteRate)
}
func share(place *quantity.Share) func(ast.Node) error { return positive(place, quantity.ParseShare) }
func whole(place *int) func(ast.Node) error {
	return positive(place, func(text string) (int, error) {
		value, err := strconv.Atoi(text)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number", text)
		}
		return value, nil
	})
}

// notTruth reads a yes or no into its opposite.
func notTruth(place *bool) func(ast.Node) error {
	return func(n ast.Node) error {
		is := false
		err := strictyaml.Truth(&is)(n)
		*place = !is
		return err
	}
}

// The following may be zero: none, or at once.
func wholeOrNone(place *int) func(ast.Node) error { return strictyaml.Number(place) }
func sizeOrNone(place *quantity.Bytes) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseBytes)
}
func timeOrNone(place *quantity.Seconds) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseSeconds)
}
func shareOrNone(place *quantity.Share) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseShare)
}

func (r *reader) read(document ast.Node) error {
	return r.places.Mapping(document, "an array", "", r.entries())
}

// entries are what stands at the top.
func (r *reader) entries() entries {
	d := &r.d
	return entries{
		"name":  word(&d.Name),
		"price": real(&d.Price),
		"empty": shareOrNone(&d.Empty),
		"members": func(n ast.Node) error {
			return strictyaml.Several(n, "members", func(i int, n ast.Node) error {
				d.Members = append(d.Members, array.Group{Count: 1})
				return r.group(n, fmt.Sprintf("members[%d]", i), &d.Members[i])
			})
		},
		"layout": func(n ast.Node) error {
			return r.places.Mapping(n, "a layout", "layout", entries{"level": word(&d.Layout.Level), "chunk": size(&d.Layout.Chunk), "stripe": whole(&d.Layout.Stripe), "spares": wholeOrNone(&d.Layout.Spares), "groups": whole(&d.Layout.Groups), "hotSpares": wholeOrNone(&d.Layout.HotSpares), "rebuildRate": rate(&d.Layout.RebuildRate)})
		},
		"shelves": func(n ast.Node) error {
			s := &d.Shelves
			return r.places.Mapping(n, "shelves", "shelves", entries{"count": whole(&s.Count), "rate": rate(&s.Rate), "dealt": word(&s.Dealt)})
		},
		"limits": func(n ast.Node) error {
			return r.places.Mapping(n, "limits", "limits", entries{
				"operations": positive(&d.Limits.Operations, quantity.ParseOpRate), "throughput": rate(&d.Limits.Throughput), "burst": time(&d.Limits.Burst),
				"reads": positive(&d.Limits.Reads, quantity.ParseOpRate), "writes": positive(&d.Limits.Writes, quantity.ParseOpRate), "readRate": rate(&d.Limits.ReadRate), "writtenRate": rate(&d.Limits.WrittenRate),
			})
		},
		"controller": func(n ast.Node) error {
			return r.places.Mapping(n, "a controller", "controller", entries{
				"operations": positive(&d.Controller.Operations, quantity.ParseOpRate), "throughput": rate(&d.Controller.Throughput),
				"count": whole(&d.Controller.Count), "owner": strictyaml.Number(&d.Controller.Owner), "takeover": time(&d.Controller.Takeover),
				"mirrorRate": rate(&d.Controller.MirrorRate), "mirrorTime": time(&d.Controller.MirrorTime), "copyRate": rate(&d.Controller.CopyRate),
			})
		},
		"fileSystem": func(n ast.Node) error {
			f := &d.FileSystem
			return r.places.Mapping(n, "a file system", "fileSystem", entries{
				"group": size(&f.Group), "journal": size(&f.Journal), "commit": time(&f.Commit), "memory": size(&f.Memory), "call": time(&f.Call),
			})
		},
		"pageCache": func(n ast.Node) error {
			m := &d.PageCache
			return r.places.Mapping(n, "a page cache", "pageCache", entries{
				"size": size(&m.Size), "throughput": rate(&m.Throughput), "dirty": share(&m.Dirty), "background": share(&m.Background), "age": time(&m.Age), "ahead": size(&m.Ahead),
			})
		},
		"caches": func(n ast.Node) error {
			return strictyaml.Several(n, "caches", func(i int, n ast.Node) error {
				d.Caches = append(d.Caches, array.Cache{Name: "cache"})
				return r.cache(n, fmt.Sprintf("caches[%d]", i), &d.Caches[i])
			})
		},
		"thin": func(n ast.Node) error {
			d.Thin = &array.Thin{}
			return r.places.Mapping(n, "a thin volume", "thin", entries{
				"unit": size(&d.Thin.Unit), "size": size(&d.Thin.Size), "compresses": strictyaml.Truth(&d.Thin.Compresses), "deduplicates": strictyaml.Truth(&d.Thin.Deduplicates),
				"throughput": rate(&d.Thin.Throughput), "index": size(&d.Thin.Index), "zeroing": notTruth(&d.Thin.Unzeroed),
			})
		},
		"snapshots": func(n ast.Node) error {
			return r.places.Mapping(n, "snapshots", "snapshots", entries{"every": time(&d.Snapshots.Every), "keep": whole(&d.Snapshots.Keep)})
		},
		"tier": func(n ast.Node) error {
			d.Tier = &array.Tier{Members: array.Group{Count: 1}}
			return r.places.Mapping(n, "a tier", "tier", entries{
				"members": func(n ast.Node) error { return r.group(n, "tier.members", &d.Tier.Members) },
				"level":   word(&d.Tier.Level), "extent": size(&d.Tier.Extent), "every": time(&d.Tier.Every), "rate": rate(&d.Tier.Rate),
				"lower": func(n ast.Node) error {
					return strictyaml.Several(n, "lower", func(i int, n ast.Node) error {
						d.Tier.Lower = append(d.Tier.Lower, array.LowerTier{Members: array.Group{Count: 1}})
						l, at := &d.Tier.Lower[i], fmt.Sprintf("tier.lower[%d]", i)
						return r.places.Mapping(n, "a tier", at, entries{"members": func(n ast.Node) error { return r.group(n, at+".members", &l.Members) }, "level": word(&l.Level)})
					})
				},
				"off": func(n ast.Node) error {
					return strictyaml.Several(n, "off", func(i int, n ast.Node) error {
						d.Tier.Off = append(d.Tier.Off, array.Region{})
						o := &d.Tier.Off[i]
						return r.places.Mapping(n, "a region", fmt.Sprintf("tier.off[%d]", i), entries{"from": sizeOrNone(&o.From), "to": size(&o.To)})
					})
				},
				"windows": func(n ast.Node) error {
					return strictyaml.Several(n, "windows", func(i int, n ast.Node) error {
						d.Tier.Windows = append(d.Tier.Windows, array.Window{})
						w := &d.Tier.Windows[i]
						return r.places.Mapping(n, "a window", fmt.Sprintf("tier.windows[%d]", i), entries{"at": timeOrNone(&w.At), "for": time(&w.For), "every": time(&w.Every)})
					})
				},
			})
		},
		"link": func(n ast.Node) error { return r.link(n, &d.Link) },
		"replica": func(n ast.Node) error {
			d.Replica = &array.Replica{}
			return r.places.Mapping(n, "a replica", "replica", entries{
				"mode": word(&d.Replica.Mode), "journal": size(&d.Replica.Journal), "kilometres": real(&d.Replica.Kilometres), "service": timeOrNone(&d.Replica.Service), "rate": rate(&d.Replica.Rate),
			})
		},
		"neighbours": func(n ast.Node) error {
			return strictyaml.Several(n, "neighbours", func(i int, n ast.Node) error {
				d.Neighbours = append(d.Neighbours, array.Neighbour{Name: "neighbour"})
				nb := &d.Neighbours[i]
				return r.places.Mapping(n, "a neighbour", fmt.Sprintf("neighbours[%d]", i), entries{
					"name": word(&nb.Name), "size": size(&nb.Size), "owner": strictyaml.Number(&nb.Owner), "writes": shareOrNone(&nb.Writes), "block": size(&nb.Block), "order": word(&nb.Order),
					"depth": whole(&nb.Depth), "rate": positive(&nb.Rate, quantity.ParseOpRate), "at": timeOrNone(&nb.At), "for": time(&nb.For),
				})
			})
		},
		"faults": func(n ast.Node) error {
			return strictyaml.Several(n, "faults", func(i int, n ast.Node) error {
				d.Faults = append(d.Faults, array.Fault{})
				return r.fault(n, fmt.Sprintf("faults[%d]", i), &d.Faults[i])
			})
		},
	}
}

func (r *reader) fault(n ast.Node, at string, f *array.Fault) error {
	return r.places.Mapping(n, "a fault", at, entries{
		"kind": word(&f.Kind), "at": timeOrNone(&f.At), "member": strictyaml.Number(&f.Member), "cache": strictyaml.Number(&f.Cache), "path": strictyaml.Number(&f.Path), "shelf": strictyaml.Number(&f.Shelf), "controller": strictyaml.Number(&f.Controller),
		"factor": real(&f.Factor), "rate": rate(&f.Rate), "for": time(&f.For), "extra": time(&f.Extra), "share": share(&f.Share),
		"count": whole(&f.Count), "every": time(&f.Every), "perByte": timeOrNone(&f.PerByte), "perOp": timeOrNone(&f.PerOp),
	})
}

func (r *reader) group(n ast.Node, at string, g *array.Group) error {
	return r.places.Mapping(n, "a group of members", at, entries{
		"count": whole(&g.Count), "medium": word(&g.Medium), "capacity": sizeOrNone(&g.Capacity), "price": real(&g.Price), "slow": positive(&g.Slow, quantity.ParseNumber),
		"rpm": positive(&g.RPM, quantity.ParseNumber), "seekTrack": time(&g.SeekTrack), "seekAverage": time(&g.SeekAverage), "seekFull": time(&g.SeekFull),
		"outerRate": rate(&g.OuterRate), "innerRate": rate(&g.InnerRate), "overhead": time(&g.Overhead),
		"queue": whole(&g.Queue), "readAhead": size(&g.ReadAhead), "writeCaching": strictyaml.Truth(&g.WriteCaching), "writeBuffer": size(&g.WriteBuffer),
		"shingled": strictyaml.Truth(&g.Shingled), "band": size(&g.Band), "region": size(&g.Region),
		"dies": whole(&g.Dies), "readTime": time(&g.ReadTime), "programTime": time(&g.ProgramTime), "eraseTime": time(&g.EraseTime),
		"fastRegion": sizeOrNone(&g.FastRegion), "fastProgram": time(&g.FastProgram), "overProvision": share(&g.OverProvision),
		"blockPages": whole(&g.BlockPages), "interface": rate(&g.Interface), "units": whole(&g.Units), "zone": size(&g.Zone), "openZones": wholeOrNone(&g.OpenZones), "compresses": strictyaml.Truth(&g.Compresses), "channels": wholeOrNone(&g.Channels), "cycles": wholeOrNone(&g.Cycles), "channelRate": rate(&g.ChannelRate),
	})
}

func (r *reader) cache(n ast.Node, at string, c *array.Cache) error {
	return r.places.Mapping(n, "a cache", at, entries{
		"name": word(&c.Name), "size": sizeOrNone(&c.Size), "block": size(&c.Block), "mode": word(&c.Mode), "fetch": word(&c.Fetch), "readAhead": sizeOrNone(&c.ReadAhead), "protected": strictyaml.Truth(&c.Protected), "mirrored": strictyaml.Truth(&c.Mirrored),
		"hitTime": time(&c.HitTime), "throughput": rate(&c.Throughput), "dirtyLimit": share(&c.DirtyLimit), "bypass": sizeOrNone(&c.Bypass),
		"devices": wholeOrNone(&c.Devices), "pinned": sizeOrNone(&c.Pinned), "index": size(&c.Index),
		"log": func(n ast.Node) error {
			c.Log = &array.Log{}
			return r.places.Mapping(n, "a log", at+".log", entries{"throughput": rate(&c.Log.Throughput), "time": time(&c.Log.Time)})
		},
	})
}

func (r *reader) link(n ast.Node, l *array.Link) error {
	return r.places.Mapping(n, "a link", "link", entries{
		"rate": rate(&l.Rate), "roundTrip": timeOrNone(&l.RoundTrip), "count": whole(&l.Count), "hosts": whole(&l.Hosts), "combined": word(&l.Combined), "failover": time(&l.FailOver),
		"connections": whole(&l.Connections), "window": size(&l.Window), "loss": share(&l.Loss),
		"slot": rate(&l.Slot), "ownDisk": rate(&l.OwnDisk),
		"perByte": timeOrNone(&l.PerByte), "perOp": timeOrNone(&l.PerOp),
		"mtu": func(n ast.Node) error {
			if _, isList := n.(*ast.SequenceNode); !isList {
				err := whole(&l.MTU[0])(n)
				l.MTU[1] = l.MTU[0]
				return err
			}
			i := 0
			err := strictyaml.Sequence(n, "mtu", func(n ast.Node) error {
				if i > 1 {
					return strictyaml.Fail(n, nil, "a link has two ends")
				}
				i++
				return whole(&l.MTU[i-1])(n)
			})
			if err == nil && i < 2 {
				return strictyaml.Fail(n, nil, "a list needs both ends, such as [9000, 1500]; one number stands for both")
			}
			return err
		},
	})
}

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

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/array"
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
	r := reader{places: map[string]ast.Node{}}
	document, err := strictyaml.Parse(text, "an array with its members")
	if err != nil {
		return r.d, err
	}
	if err := r.read(document); err != nil {
		return r.d, err
	}
	if err := r.d.Validate(); err != nil {
		var field *array.FieldError
		at := document
		if errors.As(err, &field) {
			at = r.find(field.Field, document)
		}
		return r.d, strictyaml.Fail(at, err, "%s", err)
	}
	return r.d, nil
}

// reader remembers where each part stands, under the names that
// array.FieldError uses.
type reader struct {
	d      array.Description
	places map[string]ast.Node
}

// find is the place of a field, or of the nearest part that holds it.
func (r *reader) find(field string, otherwise ast.Node) ast.Node {
	for field != "" {
		if n := r.places[field]; n != nil {
			return n
		}
		cut := len(field) - 1
		for cut > 0 && field[cut] != '.' && field[cut] != '[' {
			cut--
		}
		field = field[:cut]
	}
	return otherwise
}

type entries = map[string]func(ast.Node) error

// mapping reads a mapping and remembers where its parts stand.
func (r *reader) mapping(n ast.Node, what, at string, e entries) error {
	r.places[at] = n
	noted := entries{}
	for key, read := range e {
		noted[key] = func(n ast.Node) error {
			name := key
			if at != "" {
				name = at + "." + key
			}
			r.places[name] = n
			return read(n)
		}
	}
	return strictyaml.Mapping(n, what, noted)
}

// several reads one mapping or a list of them.
func several(n ast.Node, what string, each func(int, ast.Node) error) error {
	if _, isList := n.(*ast.SequenceNode); !isList {
		return each(0, n)
	}
	i := -1
	return strictyaml.Sequence(n, what, func(n ast.Node) error { i++; return each(i, n) })
}

func real(place *float64) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseNumber)
}

func word[T ~string](place *T) func(ast.Node) error {
	return strictyaml.Parsed(place, func(text string) (T, error) { return T(text), nil })
}

func size(place *quantity.Bytes) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseBytes)
}
func time(place *quantity.Seconds) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseSeconds)
}
func rate(place *quantity.ByteRate) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseByteRate)
}
func share(place *quantity.Share) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseShare)
}

func (r *reader) read(document ast.Node) error {
	d := &r.d
	return r.mapping(document, "an array", "", entries{
		"name":  word(&d.Name),
		"price": real(&d.Price),
		"members": func(n ast.Node) error {
			return several(n, "members", func(i int, n ast.Node) error {
				d.Members = append(d.Members, array.Group{Count: 1})
				return r.group(n, fmt.Sprintf("members[%d]", i), &d.Members[i])
			})
		},
		"layout": func(n ast.Node) error {
			return r.mapping(n, "a layout", "layout", entries{"level": word(&d.Layout.Level), "chunk": size(&d.Layout.Chunk)})
		},
		"controller": func(n ast.Node) error {
			return r.mapping(n, "a controller", "controller", entries{
				"operations": strictyaml.Parsed(&d.Controller.Operations, quantity.ParseOpRate), "throughput": rate(&d.Controller.Throughput),
			})
		},
		"caches": func(n ast.Node) error {
			return several(n, "caches", func(i int, n ast.Node) error {
				d.Caches = append(d.Caches, array.Cache{Name: "cache"})
				return r.cache(n, fmt.Sprintf("caches[%d]", i), &d.Caches[i])
			})
		},
		"tier": func(n ast.Node) error {
			d.Tier = &array.Tier{Members: array.Group{Count: 1}}
			return r.mapping(n, "a tier", "tier", entries{
				"members": func(n ast.Node) error { return r.group(n, "tier.members", &d.Tier.Members) },
				"level":   word(&d.Tier.Level), "extent": size(&d.Tier.Extent), "every": time(&d.Tier.Every), "rate": rate(&d.Tier.Rate),
			})
		},
		"link": func(n ast.Node) error { return r.link(n, &d.Link) },
		"replica": func(n ast.Node) error {
			d.Replica = &array.Replica{}
			return r.mapping(n, "a replica", "replica", entries{
				"kilometres": real(&d.Replica.Kilometres), "service": time(&d.Replica.Service), "rate": rate(&d.Replica.Rate),
			})
		},
		"faults": func(n ast.Node) error {
			return several(n, "faults", func(i int, n ast.Node) error {
				d.Faults = append(d.Faults, array.Fault{})
				f := &d.Faults[i]
				return r.mapping(n, "a fault", fmt.Sprintf("faults[%d]", i), entries{
					"kind": word(&f.Kind), "at": time(&f.At), "member": strictyaml.Number(&f.Member), "factor": real(&f.Factor), "rate": rate(&f.Rate),
				})
			})
		},
	})
}

func (r *reader) group(n ast.Node, at string, g *array.Group) error {
	return r.mapping(n, "a group of members", at, entries{
		"count": strictyaml.Number(&g.Count), "medium": word(&g.Medium), "capacity": size(&g.Capacity), "slow": real(&g.Slow),
		"rpm": real(&g.RPM), "seekTrack": time(&g.SeekTrack), "seekAverage": time(&g.SeekAverage), "seekFull": time(&g.SeekFull),
		"outerRate": rate(&g.OuterRate), "innerRate": rate(&g.InnerRate), "overhead": time(&g.Overhead),
		"queue": strictyaml.Number(&g.Queue), "writeCaching": strictyaml.Truth(&g.WriteCaching),
		"dies": strictyaml.Number(&g.Dies), "readTime": time(&g.ReadTime), "programTime": time(&g.ProgramTime), "eraseTime": time(&g.EraseTime),
		"fastRegion": size(&g.FastRegion), "fastProgram": time(&g.FastProgram), "overProvision": share(&g.OverProvision),
		"blockPages": strictyaml.Number(&g.BlockPages), "interface": rate(&g.Interface), "units": strictyaml.Number(&g.Units),
	})
}

func (r *reader) cache(n ast.Node, at string, c *array.Cache) error {
	return r.mapping(n, "a cache", at, entries{
		"name": word(&c.Name), "size": size(&c.Size), "block": size(&c.Block), "mode": word(&c.Mode), "protected": strictyaml.Truth(&c.Protected),
		"hitTime": time(&c.HitTime), "throughput": rate(&c.Throughput), "dirtyLimit": share(&c.DirtyLimit), "bypass": size(&c.Bypass),
		"devices": strictyaml.Number(&c.Devices),
	})
}

func (r *reader) link(n ast.Node, l *array.Link) error {
	return r.mapping(n, "a link", "link", entries{
		"rate": rate(&l.Rate), "roundTrip": time(&l.RoundTrip), "count": strictyaml.Number(&l.Count), "combined": word(&l.Combined),
		"perByte": time(&l.PerByte), "perOp": time(&l.PerOp),
		"mtu": func(n ast.Node) error {
			if _, isList := n.(*ast.SequenceNode); !isList {
				err := strictyaml.Number(&l.MTU[0])(n)
				l.MTU[1] = l.MTU[0]
				return err
			}
			i := 0
			return strictyaml.Sequence(n, "mtu", func(n ast.Node) error {
				if i > 1 {
					return strictyaml.Fail(n, nil, "a link has two ends")
				}
				i++
				return strictyaml.Number(&l.MTU[i-1])(n)
			})
		},
	})
}

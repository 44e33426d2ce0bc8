// Package partsfile reads lists of parts: YAML that says what can be bought, at what price,
// and how it may be put together. What a part is stands there as in an array file. Every
// mistake is reported with its line and column. docs/choose.md lists all keys.
//
//	name: What the dealer offers
//	levels: [raid10, raid5, raid6]
//	drives:
//	  - {name: disk, price: 140, counts: [4, 6, 8], members: {medium: hard disk, capacity: 4TB}}
//	caches:
//	  - {name: flash cache, price: 480, bays: 2, cache: {size: 400GB, mode: write-back, devices: 2, protected: true}}
package partsfile

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/array"
	"patientheron/core/choose"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/format/arrayfile"
	"patientheron/format/strictyaml"
)

// Error is a mistake in a list of parts and where it is.
type Error = strictyaml.Error

type entries = map[string]func(ast.Node) error

// Read reads a list of parts and makes sure that it can be. Errors are *Error.
func Read(text []byte) (p choose.Parts, err error) {
	document, err := strictyaml.Parse(text, "a list of parts")
	if err != nil {
		return p, err
	}
	places := strictyaml.Places{}
	several := func(key string, each func(n ast.Node, at string) error) func(ast.Node) error {
		return func(n ast.Node) error {
			return strictyaml.Several(n, key, func(i int, n ast.Node) error { return each(n, fmt.Sprintf("%s[%d]", key, i)) })
		}
	}
	err = places.Mapping(document, "a list of parts", "", entries{
		"name":   strictyaml.Text(&p.Name),
		"spares": strictyaml.Number(&p.Spares),
		"levels": several("levels", func(n ast.Node, at string) error {
			places[at] = n
			var level array.Level
			err := strictyaml.Text((*string)(&level))(n)
			p.Levels = append(p.Levels, level)
			return err
		}),
		"chunks": several("chunks", func(n ast.Node, at string) error {
			places[at] = n
			var chunk quantity.Bytes
			err := strictyaml.Parsed(&chunk, quantity.ParseBytes)(n)
			p.Chunks = append(p.Chunks, chunk)
			return err
		}),
		"drives": several("drives", func(n ast.Node, at string) error {
			d := choose.Drive{}
			err := places.Mapping(n, "a drive", at, item(&d.Item, entries{
				"members": of(&d.Item, &d.Member, arrayfile.ReadGroup),
				"counts": func(n ast.Node) error {
					return strictyaml.Several(n, "counts", func(_ int, n ast.Node) error {
						d.Counts = append(d.Counts, 0)
						return strictyaml.Number(&d.Counts[len(d.Counts)-1])(n)
					})
				},
			}))
			p.Drives = append(p.Drives, d)
			return needs(n, err, d.Item, "members", "{medium: hard disk, capacity: 4TB}")
		}),
		"caches": several("caches", func(n ast.Node, at string) error {
			c := choose.Cache{}
			err := places.Mapping(n, "a cache", at, item(&c.Item, entries{"cache": of(&c.Item, &c.Cache, arrayfile.ReadCache)}))
			p.Caches = append(p.Caches, c)
			return needs(n, err, c.Item, "cache", "{size: 400GB, mode: read-only, devices: 1}")
		}),
		"tiers": several("tiers", func(n ast.Node, at string) error {
			t := choose.Tier{}
			err := places.Mapping(n, "a tier", at, item(&t.Item, entries{"tier": of(&t.Item, &t.Tier, arrayfile.ReadTier)}))
			p.Tiers = append(p.Tiers, t)
			return needs(n, err, t.Item, "tier", "{members: {count: 2, medium: ssd, capacity: 480GB}}")
		}),
		"controllers": several("controllers", func(n ast.Node, at string) error {
			c := choose.Controller{}
			err := places.Mapping(n, "a controller", at, item(&c.Item, entries{"count": strictyaml.Number(&c.Count), "controller": of(&c.Item, &c.Controller, arrayfile.ReadController)}))
			if c.Count > 1 && c.Controller.Count == 0 { // what it counts is what the array has
				c.Controller.Count = c.Count
				c.Text = strings.TrimSuffix(c.Text, "}") + fmt.Sprintf(", count: %d}", c.Count)
			}
			c.Count = max(c.Count, c.Controller.Count)
			p.Controllers = append(p.Controllers, c)
			return needs(n, err, c.Item, "controller", "{operations: 200k, throughput: 2GB/s}")
		}),
		"links": several("links", func(n ast.Node, at string) error {
			l := choose.Link{}
			err := places.Mapping(n, "a link", at, item(&l.Item, entries{"link": of(&l.Item, &l.Link, arrayfile.ReadLink)}))
			p.Links = append(p.Links, l)
			return needs(n, err, l.Item, "link", "{rate: 1250MB/s, roundTrip: 100us}")
		}),
		"enclosures": several("enclosures", func(n ast.Node, at string) error {
			e := choose.Item{}
			err := places.Mapping(n, "an enclosure", at, item(&e, nil))
			p.Enclosures = append(p.Enclosures, e)
			return err
		}),
	})
	if err != nil {
		return p, err
	}
	if err := p.Validate(); err != nil {
		var field *mistake.Error
		at := document
		if errors.As(err, &field) {
			at = places.Find(field.Field, document)
		}
		return p, strictyaml.Fail(at, err, "%s", err)
	}
	return p, nil
}

// item are the keys that every part has, beside its own.
func item(i *choose.Item, own entries) entries {
	e := entries{"name": strictyaml.Text(&i.Name), "price": strictyaml.Parsed(&i.Price, quantity.ParseNumber), "bays": strictyaml.Number(&i.Bays)}
	for key, read := range own {
		e[key] = read
	}
	return e
}

// of reads what a part is, and keeps its text.
func of[T any](i *choose.Item, place *T, read func(ast.Node) (T, error)) func(ast.Node) error {
	return func(n ast.Node) (err error) {
		if *place, err = read(n); err != nil {
			return err
		}
		i.Text, err = arrayfile.Flow(n)
		return err
	}
}

// needs makes sure that a part says what it is.
func needs(n ast.Node, err error, i choose.Item, key, example string) error {
	if err == nil && i.Text == "" {
		return strictyaml.Fail(n, choose.ErrInvalid, "%q does not say what it is; write %s: %s", i.Name, key, example)
	}
	return err
}

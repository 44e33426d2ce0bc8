package arrayfile

import (
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"patientheron/core/array"
	"patientheron/format/strictyaml"
)

// The following read parts of an array that stand in another file, as they stand in an array
// file. Errors are *Error.

// ReadGroup reads a group of like members.
func ReadGroup(n ast.Node) (array.Group, error) {
	g := array.Group{Count: 1}
	return g, part().group(n, "members[0]", &g)
}

// ReadCache reads a cache.
func ReadCache(n ast.Node) (array.Cache, error) {
	c := array.Cache{Name: "cache"}
	return c, part().cache(n, "caches[0]", &c)
}

// ReadController reads a controller.
func ReadController(n ast.Node) (array.Controller, error) {
	r := part()
	err := r.entries()["controller"](n)
	return r.d.Controller, err
}

// ReadTier reads a tier.
func ReadTier(n ast.Node) (array.Tier, error) {
	r := part()
	err := r.entries()["tier"](n)
	return *r.d.Tier, err
}

// ReadLink reads a link.
func ReadLink(n ast.Node) (array.Link, error) {
	r := part()
	err := r.link(n, &r.d.Link)
	return r.d.Link, err
}

func part() *reader { return &reader{places: strictyaml.Places{}} }

// Flow is the text of a part on one line, as it may stand in an array file.
func Flow(n ast.Node) (string, error) {
	var value any
	if err := yaml.NodeToValue(n, &value, yaml.UseOrderedMap()); err != nil {
		return "", strictyaml.Fail(n, err, "%s", err)
	}
	text, err := yaml.MarshalWithOptions(value, yaml.Flow(true))
	if err != nil {
		return "", strictyaml.Fail(n, err, "%s", err)
	}
	return string(text[:len(text)-1]), nil // without its end of the line
}

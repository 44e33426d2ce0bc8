package host

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// slaves are the devices that one is made of.
func (w *walk) slaves(folder string, depth int) []setup.Layer {
	return w.slavesWith(nil, folder, depth)
}

// slavesWith are the devices that one is made of, of which some have a role of
// their own, such as "cache": they are shown, and are no media of the layout.
func (w *walk) slavesWith(roles map[string]string, folder string, depth int) []setup.Layer {
	below := []setup.Layer{}
	for _, name := range w.names(w.ctx, folder, "slaves") {
		if role := roles[name]; role != "" {
			below = append(below, w.apart(role, name, depth))
			continue
		}
		below = append(below, w.device(name, depth+1))
	}
	return below
}

// apart describes a device that has a role of its own.
func (w *walk) apart(role, name string, depth int) setup.Layer {
	facts, media := w.facts, w.media
	layer := w.device(name, depth+1)
	w.facts, w.media = facts, media
	layer.Words = role + ": " + layer.Words
	return layer
}

// sizeOf is the size of a block device; 0 when it is not told.
func (w *walk) sizeOf(name string) quantity.Bytes {
	sectors, _ := w.number(w.ctx, w.sys, "class/block", name, "size")
	return quantity.Bytes(sectors * 512)
}

// blockCache describes a device that bcache caches (Documentation/admin-guide/bcache):
// its backing device is below it, and its cache is a member of the set it is
// attached to.
func (w *walk) blockCache(layer setup.Layer, folder string, depth int) setup.Layer {
	mode, _ := w.text(w.ctx, folder, "bcache/cache_mode")
	layer.Kind, layer.Words = "cache", "bcache of "+layer.Words+", "+chosen(mode)
	roles := map[string]string{}
	var size quantity.Bytes
	for _, entry := range w.names(w.ctx, folder, "bcache/cache") {
		if number, is := strings.CutPrefix(entry, "cache"); !is || number == "" || strings.Trim(number, "0123456789") != "" {
			continue
		}
		if real, err := resolve(w.ctx, w.limit, filepath.Join(folder, "bcache/cache", entry)); err == nil {
			device := filepath.Base(filepath.Dir(real))
			roles[device] = "cache"
			size += w.sizeOf(device)
		}
	}
	layer.Below = w.slavesWith(roles, folder, depth)
	if len(roles) == 0 {
		layer.Words += ", with no cache attached"
		return layer
	}
	for _, device := range slices.Sorted(maps.Keys(roles)) {
		if !slices.ContainsFunc(layer.Below, func(l setup.Layer) bool { return l.Name == device }) {
			layer.Below = append(layer.Below, w.apart("cache", device, depth))
		}
	}
	if dirty, err := w.text(w.ctx, folder, "bcache/dirty_data"); err == nil && dirty != "" {
		layer.Words += ", " + dirty + " dirty"
	}
	w.know("cache[0].medium", "ssd")
	w.know("cache[0].name", "bcache")
	w.know("cache[0].mode", map[string]string{"writeback": "write-back", "writethrough": "write-through", "writearound": "read-only"}[chosen(mode)])
	w.know("cache[0].size", size)
	w.know("cache[0].devices", len(roles))
	return layer
}

// mapped describes a device of the device mapper: logical volumes, thin ones,
// caches, several paths to one disk.
func (w *walk) mapped(layer setup.Layer, folder string, depth int) setup.Layer {
	name, _ := w.text(w.ctx, folder, "dm/name")
	id, _ := w.text(w.ctx, folder, "dm/uuid")
	layer.Kind = "mapped device"
	switch {
	case strings.HasPrefix(id, "LVM-"):
		layer.Kind = "logical volume"
	case strings.HasPrefix(id, "CRYPT-"):
		layer.Kind = "encrypted device"
	case strings.HasPrefix(id, "mpath-"):
		layer.Kind = "several paths"
	}
	layer.Words = name + ", " + layer.Words
	text, err := ask(w.ctx, w.limit, filepath.Join(w.sys, name), "table", func() (string, error) { return w.table(w.ctx, name) })
	if err != nil {
		layer.Trouble = w.trouble("the device-mapper table of %s: %v", name, err)
	}
	targets := Targets(text)
	roles := map[string]string{}
	for _, t := range targets {
		layer.Words += ", " + t.Words
		for number, role := range t.Roles {
			if device := w.numbered(number); device != "" {
				roles[device] = role
			}
		}
		switch t.Kind {
		case "thin":
			w.seen.Thin = true
		case "cache":
			if text, err := ask(w.ctx, w.limit, filepath.Join(w.sys, name), "status", func() (string, error) { return w.status(w.ctx, name) }); err == nil {
				layer.Words += ", " + dirtyInWords(text)
			}
			w.know("cache[0].medium", "ssd")
			w.know("cache[0].name", name)
			w.know("cache[0].mode", t.Mode)
			for device, role := range roles {
				if size := w.sizeOf(device); role == "cache" && size > 0 {
					w.know("cache[0].size", size)
				}
			}
		case "striped":
			made := w.raid("raid", layer.Name, "raid0", "the device mapper", t.Members, 0, t.Chunk)
			layer.Words += ", " + made.Words
		case "raid":
			made := w.raid("raid", layer.Name, t.Level, "the device mapper", t.Members, 0, t.Chunk)
			layer.Words += ", " + made.Words
		}
	}
	if layer.Kind == "several paths" {
		layer.Below = w.paths(folder, depth)
		layer.Words += fmt.Sprintf(", %d paths to one storage", len(layer.Below))
		return layer
	}
	layer.Below = w.slavesWith(roles, folder, depth)
	return layer
}

// dirtyInWords reads how much of a cache is not on its origin yet from what it tells
// of its state: "start length cache metadata-block used/total block used/total" and
// seven counters, of which the last is the number of dirty blocks
// (Documentation/admin-guide/device-mapper/cache).
func dirtyInWords(status string) string {
	fields := strings.Fields(status)
	if len(fields) < 14 || fields[2] != "cache" {
		return "how much is dirty is not told"
	}
	block, err := strconv.ParseInt(fields[5], 10, 64)
	dirty, err2 := strconv.ParseInt(fields[13], 10, 64)
	if err != nil || err2 != nil || block < 0 || dirty < 0 {
		return "how much is dirty is not told"
	}
	return (quantity.Bytes(block*dirty) * 512).String() + " dirty"
}

// paths are the disks that are paths to one storage, which counts once.
func (w *walk) paths(folder string, depth int) []setup.Layer {
	w.joined = true
	defer func() { w.joined = false }()
	below := []setup.Layer{}
	for i, name := range w.names(w.ctx, folder, "slaves") {
		if i == 0 {
			below = append(below, w.device(name, depth+1))
			continue
		}
		below = append(below, w.apart("path", name, depth))
	}
	return below
}

// numbered is the name of a device by its number, such as 253:7; "" when there is
// none.
func (w *walk) numbered(number string) string {
	if target, err := ask(w.ctx, w.limit, w.sys, "device "+number, func() (string, error) { return os.Readlink(filepath.Join(w.sys, "dev/block", number)) }); err == nil {
		return filepath.Base(target)
	}
	return ""
}

// Target is one line of a device-mapper table.
type Target struct {
	Kind    string // of the target: linear, striped, thin, cache, raid, crypt, multipath …
	Words   string
	Mode    string // of a cache
	Level   string // of a raid
	Members int
	Chunk   quantity.Bytes
	Roles   map[string]string // of devices that hold no data of the volume alone, by their numbers
}

// Targets reads a device-mapper table: "start length target arguments…" a line
// (Documentation/admin-guide/device-mapper). What is not understood keeps its
// kind and says no more.
func Targets(table string) (targets []Target) {
	for line := range strings.Lines(table) {
		fields := strings.Fields(line)
		if len(fields) < 3 {
			continue
		}
		arguments := fields[3:]
		argument := func(i int) string {
			if i < len(arguments) {
				return arguments[i]
			}
			return ""
		}
		count := func(i int) int {
			n, err := strconv.Atoi(argument(i))
			if err != nil || n < 0 || n > 1<<20 {
				return 0
			}
			return n
		}
		t := Target{Kind: fields[2], Words: fields[2]}
		switch t.Kind {
		case "striped":
			t.Members, t.Chunk = count(0), quantity.Bytes(count(1)*512)
		case "thin":
			t.Words = "thin"
		case "thin-pool":
			t.Roles = map[string]string{argument(0): "metadata"}
		case "cache":
			t.Mode = "write-back"
			if slices.Contains(arguments, "writethrough") {
				t.Mode = "write-through"
			} else if slices.Contains(arguments, "passthrough") {
				t.Mode = "read-only"
			}
			t.Words = "cache, " + t.Mode
			t.Roles = map[string]string{argument(0): "metadata of the cache", argument(1): "cache"}
		case "raid":
			level, _, _ := strings.Cut(argument(0), "_")
			t.Level = level
			parameters := count(1)
			t.Chunk = quantity.Bytes(count(2) * 512)
			t.Members = count(2 + parameters)
		}
		targets = append(targets, t)
	}
	return targets
}

package host

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// deepest is how many layers are followed down before a circle is assumed.
const deepest = 12

// path describes the file system that a path is on, and what is below.
func (w *walk) path(path string, depth int) setup.Layer {
	layer := setup.Layer{Kind: "path", Name: path, Below: []setup.Layer{}}
	resolved, err := resolve(w.ctx, w.limit, path)
	if err != nil {
		resolved = path
		if !os.IsNotExist(err) {
			layer.Trouble = w.trouble("%s: %v", path, err)
		}
	}
	text, err := w.text(w.ctx, w.proc, "self/mountinfo")
	if err != nil {
		layer.Trouble = w.trouble("the list of mounts: %v", err)
		return layer
	}
	m, ok := mountOf(mounts(text), resolved)
	if !ok {
		layer.Trouble = w.trouble("no mount leads to %s", path)
		return layer
	}
	layer = setup.Layer{Kind: "file system", Name: m.point, Words: m.kind + " on " + m.point, Below: []setup.Layer{}}
	if depth == 0 {
		w.know("fileSystem.type", m.kind)
		w.know("fileSystem.options", m.options)
	}
	switch {
	case m.kind == "nfs" || m.kind == "nfs4" || m.kind == "cifs" || m.kind == "smb3":
		layer.Below = append(layer.Below, w.share(m))
	case m.kind == "btrfs":
		layer.Below = append(layer.Below, w.btrfs(m, depth)...)
	case m.kind == "tmpfs" || m.kind == "ramfs":
		w.media = append(w.media, medium{kind: "memory"})
		layer.Below = append(layer.Below, setup.Layer{Kind: "memory", Name: m.kind, Words: "memory of this host", Below: []setup.Layer{}})
	default:
		name, found := w.mountDevice(m)
		if !found {
			layer.Trouble = w.trouble("%s is on %s, which is not a block device of this host", m.point, orNothing(m.source))
			return layer
		}
		if depth == 0 {
			w.fileSystem(m.kind, name, m.point)
			w.queue(name)
		}
		layer.Below = append(layer.Below, w.device(name, depth+1))
	}
	return layer
}

func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return strconv.Quote(text)
}

// fileSystem reads what a file system tells of itself: its block, and of ext4
// how it takes writes (proc(5), /proc/fs/ext4), which the mount options leave
// out where it is the default.
func (w *walk) fileSystem(kind, name, point string) {
	stat, err := ask(w.ctx, w.limit, point, "file system", func() (s unix.Statfs_t, err error) { return s, unix.Statfs(point, &s) })
	if err == nil && stat.Bsize > 0 {
		w.know("fileSystem.block", quantity.Bytes(stat.Bsize))
	}
	if kind != "ext4" {
		return
	}
	text, err := w.text(w.ctx, w.proc, "fs/ext4", name, "options")
	if err != nil {
		return
	}
	var telling []string
	for option := range strings.FieldsSeq(text) {
		word, _, _ := strings.Cut(option, "=")
		if slices.Contains([]string{"data", "barrier", "nobarrier", "delalloc", "nodelalloc", "dioread_nolock", "dioread_lock", "discard", "stripe", "commit"}, word) {
			telling = append(telling, option)
		}
	}
	w.know("fileSystem.features", strings.Join(telling, ","))
}

// mountDevice is the kernel's name of the device of a mount.
func (w *walk) mountDevice(m mount) (string, bool) {
	if name := w.numbered(m.device); name != "" {
		return name, true
	}
	return w.deviceName(w.ctx, m.source)
}

// raid describes what joins members: its level, and how many are missing.
func (w *walk) raid(kind, name, level, madeBy string, members, missing int, chunk quantity.Bytes) setup.Layer {
	words := fmt.Sprintf("%s of %d members, made by %s", level, members, madeBy)
	if missing > 0 {
		words += fmt.Sprintf(", %d missing", missing)
	}
	// The lowest layout that joins members is the one the media see; what lies
	// above it does not spread any further.
	w.know("layout.level", level)
	w.know("layout.madeBy", madeBy)
	if missing > 0 {
		w.know("layout.missing", missing)
	}
	if chunk > 0 {
		w.know("layout.chunk", chunk)
	}
	return setup.Layer{Kind: kind, Name: name, Words: words, Below: []setup.Layer{}}
}

// btrfs follows a file system that joins devices itself.
func (w *walk) btrfs(m mount, depth int) []setup.Layer {
	name, _ := w.deviceName(w.ctx, m.source)
	for _, id := range w.names(w.ctx, w.sys, "fs/btrfs") {
		devices := w.names(w.ctx, w.sys, "fs/btrfs", id, "devices")
		if !slices.Contains(devices, name) {
			continue
		}
		level := "single"
		for _, profile := range w.names(w.ctx, w.sys, "fs/btrfs", id, "allocation/data") {
			if slices.Contains([]string{"raid0", "raid1", "raid10", "raid5", "raid6", "raid1c3", "raid1c4", "single", "dup"}, profile) {
				level = profile
			}
		}
		missing, all := 0, 0
		for _, number := range w.names(w.ctx, w.sys, "fs/btrfs", id, "devinfo") {
			if gone, ok := w.number(w.ctx, w.sys, "fs/btrfs", id, "devinfo", number, "missing"); ok {
				all++
				missing += int(gone)
			}
		}
		if block, ok := w.number(w.ctx, w.sys, "fs/btrfs", id, "sectorsize"); ok && depth == 0 {
			w.know("fileSystem.block", quantity.Bytes(block))
		}
		// What is missing may still be listed, under the name it had.
		var below []setup.Layer
		for _, device := range devices {
			if w.exists(w.ctx, w.sys, "class/block", device) {
				below = append(below, w.device(device, depth+1))
			}
		}
		if len(below) == 1 && missing == 0 {
			if depth == 0 {
				w.queue(name)
			}
			return below
		}
		if depth == 0 && len(devices) > 0 {
			w.queue(devices[0])
		}
		if level == "single" {
			level = "concatenation"
		}
		if missing > 0 && len(w.seen.Missing) == 0 {
			w.seen.Missing = append(w.seen.Missing, fmt.Sprintf("%d of %s", missing, m.point))
		}
		layer := w.raid("raid", id, level, "btrfs", max(all, len(devices)), missing, 64*quantity.KiB)
		layer.Below = below
		return []setup.Layer{layer}
	}
	if name == "" {
		return []setup.Layer{{Kind: "device", Name: m.source, Trouble: w.trouble("the devices of %s cannot be found", m.point), Below: []setup.Layer{}}}
	}
	return []setup.Layer{w.device(name, depth+1)}
}

// device describes a block device and what is below it.
func (w *walk) device(name string, depth int) setup.Layer {
	layer := setup.Layer{Kind: "disk", Name: name, Below: []setup.Layer{}}
	folder := filepath.Join(w.sys, "class/block", name)
	size, known := w.number(w.ctx, folder, "size")
	layer.Words = quantity.Bytes(size * 512).String()
	if !known {
		layer.Trouble = w.trouble("the size of %s cannot be read", name)
	}
	if depth > deepest {
		layer.Trouble = w.trouble("%s lies below more than %d layers; is it a circle?", name, deepest)
		return layer
	}
	switch {
	case w.exists(w.ctx, folder, "partition"):
		return w.partition(layer, folder, depth)
	case w.exists(w.ctx, folder, "loop/backing_file"):
		file, err := w.text(w.ctx, folder, "loop/backing_file")
		layer.Kind, layer.Words = "loop", fmt.Sprintf("loop device of %s in the file %s", layer.Words, file)
		if err != nil {
			layer.Trouble = w.trouble("the file of %s: %v", name, err)
			return layer
		}
		// What is below the file is shown, but a member in a file is a device of
		// its own: it is such members that a layout above spreads over.
		facts, media := w.facts, w.media
		layer.Below = append(layer.Below, w.path(file, depth+1))
		w.facts, w.media = facts, append(slices.Clip(media), medium{kind: w.kindOf(name), size: quantity.Bytes(size * 512)})
		return layer
	case w.exists(w.ctx, folder, "md/level"):
		return w.md(layer, folder, depth)
	case strings.HasPrefix(name, "bcache") && w.exists(w.ctx, folder, "bcache"):
		return w.blockCache(layer, folder, depth)
	case w.exists(w.ctx, folder, "dm/name"):
		return w.mapped(layer, folder, depth)
	case strings.HasPrefix(name, "zram"), strings.HasPrefix(name, "ram"):
		layer.Kind, layer.Words = "memory", layer.Words+" in the memory of this host"
		w.media = append(w.media, medium{kind: "memory", size: quantity.Bytes(size * 512)})
		return layer
	}
	return w.disk(layer, folder, quantity.Bytes(size*512))
}

// partition finds the disk that a partition is on, and whether it begins on a
// physical block.
func (w *walk) partition(layer setup.Layer, folder string, depth int) setup.Layer {
	layer.Kind, layer.Words = "partition", "partition of "+layer.Words
	real, err := resolve(w.ctx, w.limit, folder)
	if err != nil {
		layer.Trouble = w.trouble("the disk of %s: %v", layer.Name, err)
		return layer
	}
	disk := filepath.Base(filepath.Dir(real))
	start, hasStart := w.number(w.ctx, folder, "start")
	physical, hasPhysical := w.number(w.ctx, w.sys, "class/block", disk, "queue/physical_block_size")
	if hasStart && hasPhysical && physical > 0 && start*512%physical != 0 {
		w.seen.Misaligned = append(w.seen.Misaligned, layer.Name)
	}
	layer.Below = append(layer.Below, w.device(disk, depth+1))
	return layer
}

// md describes an array of the kernel's own (Documentation/admin-guide/md).
func (w *walk) md(layer setup.Layer, folder string, depth int) setup.Layer {
	level, _ := w.text(w.ctx, folder, "md/level")
	if level == "linear" {
		level = "concatenation"
	}
	members, _ := w.number(w.ctx, folder, "md/raid_disks")
	missing, _ := w.number(w.ctx, folder, "md/degraded")
	chunk, _ := w.number(w.ctx, folder, "md/chunk_size")
	made := w.raid("raid", layer.Name, level, "the kernel (md)", int(members), int(missing), quantity.Bytes(chunk))
	if missing > 0 {
		w.seen.Missing = append(w.seen.Missing, fmt.Sprintf("%d of %s", missing, layer.Name))
	}
	if action, err := w.text(w.ctx, folder, "md/sync_action"); err == nil && action != "idle" && action != "" {
		made.Words += ", " + action + " under way"
		w.seen.Busy = append(w.seen.Busy, setup.Busy{Name: layer.Name + " (" + action + ")", Share: 1})
	}
	made.Below = w.slaves(folder, depth)
	return made
}

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

// disk describes a device that has nothing below it that this host knows.
func (w *walk) disk(layer setup.Layer, folder string, size quantity.Bytes) setup.Layer {
	m := medium{size: size}
	m.model, _ = w.text(w.ctx, folder, "device/model")
	if policy, err := w.text(w.ctx, folder, "queue/write_cache"); err == nil {
		m.writeCache = map[string]string{"write back": "yes", "write through": "no"}[policy]
	}
	what := ""
	real, err := resolve(w.ctx, w.limit, folder)
	if err == nil {
		m.connection = w.connection(real)
		w.bus(real)
		switch {
		case w.session(real):
			what = "LUN of another host or array"
		case w.fabric(layer.Name, real):
			what = "namespace of another host or array"
		case strings.Contains(real, "/virtio"):
			what = "virtual disk"
		}
	}
	// What is behind a disk that another machine makes up is not known, whatever it
	// says of turning.
	if what == "" {
		m.kind = w.kindOf(layer.Name)
		what = m.kind
	}
	w.media = append(w.media, m)
	layer.Words = strings.TrimSpace(what + ", " + layer.Words + " " + m.model)
	if twins := w.twins(layer.Name); len(twins) > 0 && !w.joined {
		layer.Words += ", the same storage as " + strings.Join(twins, ", ")
		w.seen.Twins = append(w.seen.Twins, setup.Twins{Name: layer.Name, Others: twins})
	}
	return layer
}

// twins are the other disks that say they are the same storage: several paths lead
// to it (SPC-4, device identification: sysfs gives it as wwid).
func (w *walk) twins(name string) (others []string) {
	id, err := w.text(w.ctx, w.sys, "class/block", name, "device/wwid")
	if err != nil || id == "" {
		return nil
	}
	for _, other := range w.names(w.ctx, w.sys, "class/block") {
		if other == name {
			continue
		}
		if its, err := w.text(w.ctx, w.sys, "class/block", other, "device/wwid"); err == nil && its == id {
			others = append(others, other)
		}
	}
	return others
}

// kindOf tells disks that turn from those that do not.
func (w *walk) kindOf(name string) string {
	if turns, ok := w.number(w.ctx, w.sys, "class/block", name, "queue/rotational"); ok && turns == 1 {
		return "hard disk"
	}
	return "ssd"
}

// connection is what a drive's own interface carries: of SATA after its 8b/10b
// coding (Serial ATA revision 3); 0 when that is not told.
func (w *walk) connection(real string) quantity.ByteRate {
	for part := range strings.SplitSeq(real, "/") {
		number, isPort := strings.CutPrefix(part, "ata")
		if _, err := strconv.Atoi(number); !isPort || err != nil {
			continue
		}
		text, err := w.text(w.ctx, w.sys, "class/ata_link/link"+number, "sata_spd")
		if rate, cutErr := strconv.ParseFloat(strings.TrimSuffix(text, " Gbps"), 64); err == nil && cutErr == nil {
			return quantity.ByteRate(rate * 1e9 * 8 / 10 / 8)
		}
	}
	return 0
}

// generations are the transfer rates of PCI Express, in order.
var generations = []string{"2.5 GT/s", "5.0 GT/s", "8.0 GT/s", "16.0 GT/s", "32.0 GT/s", "64.0 GT/s"}

// bus reads the PCI Express link that a disk or its controller hangs on: the
// first one above it.
func (w *walk) bus(real string) {
	for folder := real; len(folder) > len(w.sys)+1; folder = filepath.Dir(folder) {
		if !w.exists(w.ctx, folder, "current_link_speed") {
			continue
		}
		for key, file := range map[string]string{"controller.busGeneration": "current_link_speed", "controller.busGenerationMost": "max_link_speed"} {
			speed, _ := w.text(w.ctx, folder, file)
			if i := slices.IndexFunc(generations, func(g string) bool { return strings.HasPrefix(speed, g) }); i >= 0 {
				w.know(key, i+1)
			}
		}
		for key, file := range map[string]string{"controller.busLanes": "current_link_width", "controller.busLanesMost": "max_link_width"} {
			if lanes, ok := w.number(w.ctx, folder, file); ok && lanes > 0 && lanes <= 32 {
				w.know(key, lanes)
			}
		}
		return
	}
}

// queue reads the block layer's settings of the device on top.
func (w *walk) queue(name string) {
	folder := filepath.Join(w.sys, "class/block", name)
	if w.exists(w.ctx, folder, "partition") {
		if real, err := resolve(w.ctx, w.limit, folder); err == nil {
			folder = filepath.Dir(real)
		}
	}
	if text, err := w.text(w.ctx, folder, "queue/scheduler"); err == nil {
		w.know("queue.scheduler", chosen(text))
	}
	if ahead, ok := w.number(w.ctx, folder, "queue/read_ahead_kb"); ok {
		w.know("queue.readAhead", quantity.Bytes(ahead)*quantity.KiB)
	}
	if depth, ok := w.number(w.ctx, folder, "queue/nr_requests"); ok {
		w.know("queue.depth", depth)
	}
}

// chosen is the choice in brackets of a list such as "none [mq-deadline]".
func chosen(text string) string {
	if _, after, found := strings.Cut(text, "["); found {
		inside, _, _ := strings.Cut(after, "]")
		return inside
	}
	return text
}

// groupMedia puts like devices at the bottom together.
func (w *walk) groupMedia() {
	var groups []medium
	counts := map[medium]int{}
	for _, m := range w.media {
		if counts[m]++; counts[m] == 1 {
			groups = append(groups, m)
		}
	}
	for i, m := range groups {
		at := fmt.Sprintf("media[%d].", i)
		w.know(at+"kind", m.kind)
		w.know(at+"count", counts[m])
		if m.size > 0 {
			w.know(at+"size", m.size)
		}
		for name, value := range map[string]string{"model": m.model, "writeCache": m.writeCache} {
			if value != "" {
				w.know(at+name, value)
			}
		}
		if m.connection > 0 {
			w.know(at+"interface", m.connection)
		}
	}
	if len(w.media) == 1 && w.facts.Text("layout.level") == "" {
		w.know("layout.level", "single")
	}
}

package host

import (
	"fmt"
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
	w.throttles(name)
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

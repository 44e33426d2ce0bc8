package host

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

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

// throttles reads what control groups let this process do to a device.
func (w *walk) throttles(name string) {
	number, err := w.text(w.ctx, w.sys, "class/block", name, "dev")
	if err == nil && number != "" {
		w.held[name] = throttled(filepath.Dir(w.sys), number)
	}
}

// allowed is what control groups let this process do to a layer: what they allow it itself, and
// no more than they allow all together that it spreads over.
func (w *walk) allowed(layer setup.Layer) throttle {
	own := w.held[layer.Name]
	if layer.Kind == "loop" || len(layer.Below) == 0 { // what is below a loop device is not done by this process
		return own
	}
	below := w.allowed(layer.Below[0])
	for _, l := range layer.Below[1:] {
		below = below.beside(w.allowed(l))
	}
	return own.within(below)
}

// beside is what may be done to two devices together; no limit where one of them has none.
func (t throttle) beside(o throttle) throttle {
	sum := func(a, b float64) float64 {
		if a == 0 || b == 0 {
			return 0
		}
		return a + b
	}
	return throttle{sum(t.reads, o.reads), sum(t.writes, o.writes), sum(t.readBytes, o.readBytes), sum(t.writtenBytes, o.writtenBytes)}
}

// within is what may be done where both hold.
func (t throttle) within(o throttle) throttle {
	lower := func(a, b float64) float64 {
		if a == 0 || b == 0 {
			return max(a, b)
		}
		return min(a, b)
	}
	return throttle{lower(t.reads, o.reads), lower(t.writes, o.writes), lower(t.readBytes, o.readBytes), lower(t.writtenBytes, o.writtenBytes)}
}

// knowAllowed tells what control groups let this process do to all of it.
func (w *walk) knowAllowed(top setup.Layer) {
	t := w.allowed(top)
	for key, limit := range map[string]float64{"queue.readsMost": t.reads, "queue.writesMost": t.writes} {
		if limit > 0 {
			w.know(key, quantity.OpRate(limit))
		}
	}
	for key, limit := range map[string]float64{"queue.readMost": t.readBytes, "queue.writtenMost": t.writtenBytes} {
		if limit > 0 {
			w.know(key, quantity.ByteRate(limit))
		}
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

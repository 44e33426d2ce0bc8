// Package host reads what this machine tells through its public interfaces:
// counters of CPU, memory, network and block devices under /proc and /sys.
//
// It measures nothing itself and never writes. The main type is Sampler,
// which turns running counters into what happened between two calls.
package host

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// Sampler tells what host and device did since the call before. What cannot
// be read is left out. It is not safe for concurrent use.
type Sampler struct {
	proc, sys string   // mount points of the two file systems
	devices   []string // kernel names of block devices
	now       func() time.Time
	name      string // of this host
	last      reading
}

// NewSampler makes a sampler that also follows the counters of block devices.
func NewSampler(devices ...string) *Sampler {
	name, _ := os.Hostname()
	return &Sampler{proc: "/proc", sys: "/sys", devices: devices, now: time.Now, name: name}
}

// reading is all counters at one moment.
type reading struct {
	at               time.Time
	busy, total      []float64 // seconds of each core
	stolen           float64   // seconds of all cores that a hypervisor gave to others
	self             float64   // seconds of CPU this process used
	received, sent   uint64
	devices          map[string]DeviceCounters
	available, cache quantity.Bytes
}

// Sample tells what happened since the call before; the first call gives nil.
func (s *Sampler) Sample() *measure.Beside {
	before, now := s.last, s.read()
	s.last = now
	over := now.at.Sub(before.at).Seconds()
	if before.at.IsZero() || over <= 0 {
		return nil
	}
	b := &measure.Beside{
		Host:      s.name,
		Available: now.available, PageCache: now.cache,
		EngineCores: (now.self - before.self) / over,
		NetReceived: quantity.ByteRate(float64(now.received-before.received) / over),
		NetSent:     quantity.ByteRate(float64(now.sent-before.sent) / over),
		CPU:         []quantity.Share{},
	}
	if len(now.total) == len(before.total) {
		for core := range now.total {
			b.CPU = append(b.CPU, share(now.busy[core]-before.busy[core], now.total[core]-before.total[core]))
		}
		b.Stolen = share(now.stolen-before.stolen, over*float64(len(now.total)))
	}
	for _, name := range s.devices {
		earlier, hadIt := before.devices[name]
		later, hasIt := now.devices[name]
		if !hadIt || !hasIt {
			continue
		}
		d := later.Since(earlier)
		b.Devices = append(b.Devices, measure.Device{
			Name:      name,
			ReadRate:  quantity.OpRate(float64(d.Reads) / over),
			WriteRate: quantity.OpRate(float64(d.Writes) / over),
			Read:      quantity.ByteRate(float64(d.ReadBytes) / over),
			Written:   quantity.ByteRate(float64(d.WrittenBytes) / over),
			InFlight:  d.InFlight,
			ReadBytes: quantity.Bytes(d.ReadBytes), WrittenBytes: quantity.Bytes(d.WrittenBytes),
			Busy: share(d.Busy.Seconds(), over),
		})
	}
	return b
}

// share keeps what coarse counters give within 0 and 1.
func share(part, whole float64) quantity.Share {
	if whole <= 0 {
		return 0
	}
	return quantity.Share(min(max(part/whole, 0), 1))
}

func (s *Sampler) read() reading {
	r := reading{at: s.now(), devices: map[string]DeviceCounters{}}
	var usage unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &usage) == nil {
		r.self = time.Duration(usage.Utime.Nano() + usage.Stime.Nano()).Seconds()
	}
	for _, name := range s.devices {
		if counters, err := ReadDevice(s.sys, name); err == nil {
			r.devices[name] = counters
		}
	}
	proc, err := procfs.NewFS(s.proc)
	if err != nil {
		return r
	}
	if stat, err := proc.Stat(); err == nil {
		for core := range int64(len(stat.CPU)) {
			c := stat.CPU[core]
			idle := c.Idle + c.Iowait
			busy := c.User + c.Nice + c.System + c.IRQ + c.SoftIRQ
			r.busy, r.total = append(r.busy, busy), append(r.total, busy+idle+c.Steal)
			r.stolen += c.Steal
		}
	}
	if memory, err := proc.Meminfo(); err == nil {
		r.available, r.cache = inBytes(memory.MemAvailableBytes), inBytes(memory.CachedBytes)
	}
	if interfaces, err := proc.NetDev(); err == nil {
		for name, i := range interfaces {
			if name != "lo" {
				r.received, r.sent = r.received+i.RxBytes, r.sent+i.TxBytes
			}
		}
	}
	return r
}

func inBytes(value *uint64) quantity.Bytes {
	if value == nil {
		return 0
	}
	return quantity.Bytes(*value)
}

// DeviceCounters are the running counters of a block device since boot
// (Documentation/block/stat of the kernel).
type DeviceCounters struct {
	Reads, Writes           int64
	ReadBytes, WrittenBytes int64
	InFlight                int64
	Busy                    time.Duration // with at least one request in flight
}

// Since is what happened after an earlier reading.
func (c DeviceCounters) Since(before DeviceCounters) DeviceCounters {
	return DeviceCounters{
		Reads: c.Reads - before.Reads, Writes: c.Writes - before.Writes,
		ReadBytes: c.ReadBytes - before.ReadBytes, WrittenBytes: c.WrittenBytes - before.WrittenBytes,
		InFlight: c.InFlight, Busy: c.Busy - before.Busy,
	}
}

// Moved reports whether anything was read or written since an earlier
// reading, or is in flight now.
func (c DeviceCounters) Moved(before DeviceCounters) bool {
	d := c.Since(before)
	return d.Reads != 0 || d.Writes != 0 || d.InFlight != 0
}

// ReadDevice reads the counters of the named device below sys, normally
// "/sys".
func ReadDevice(sys, name string) (DeviceCounters, error) {
	path := filepath.Join(sys, "class/block", name, "stat")
	text, err := os.ReadFile(path)
	if err != nil {
		return DeviceCounters{}, err
	}
	var n [11]int64
	fields := strings.Fields(string(text))
	if len(fields) < len(n) {
		return DeviceCounters{}, &os.PathError{Op: "understand", Path: path, Err: strconv.ErrSyntax}
	}
	for i := range n {
		if n[i], err = strconv.ParseInt(fields[i], 10, 64); err != nil {
			return DeviceCounters{}, &os.PathError{Op: "understand", Path: path, Err: err}
		}
	}
	const sector = 512 // the unit of these counters on every device
	return DeviceCounters{
		Reads: n[0], ReadBytes: n[2] * sector, Writes: n[4], WrittenBytes: n[6] * sector,
		InFlight: n[8], Busy: time.Duration(n[9]) * time.Millisecond,
	}, nil
}

package setup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// Layer is one layer between a path and the media below it.
type Layer struct {
	Kind    string  `json:"kind" doc:"Such as file system, partition, loop, raid, logical volume, disk, network"`
	Name    string  `json:"name" doc:"The kernel's name of a device, or where a file system is mounted"`
	Words   string  `json:"words" doc:"What it is, in a few words"`
	Trouble string  `json:"trouble,omitempty" doc:"What could not be looked at, and why"`
	Below   []Layer `json:"below"`
}

// Result is what a check came to.
type Result string

// The results of a check.
const (
	Passed       Result = "passed"
	Caution      Result = "caution"
	Failed       Result = "failed" // stops a run unless it is overridden by name
	CouldNotLook Result = "could not look"
)

// Check is one thing looked at before a run.
type Check struct {
	Name     string `json:"name" doc:"Stable; an override names it"`
	Result   Result `json:"result" enum:"passed,caution,failed,could not look"`
	Sentence string `json:"sentence"`
	Next     string `json:"next,omitempty"`
}

// Seen is what was found beside the facts of a setup: the state of things at
// one moment.
type Seen struct {
	Facts      *Facts   // of the locator; nil when it could not be looked at
	Trouble    string   // why not
	Late       bool     // it did not answer in the time that the look had
	Traits     Traits   // of the kind of volume
	TestFile   string   // how a folder takes a test file, such as "without a name"
	Refusal    string   // why a run may not use it as asked
	Holds      string   // what is recognised on a device, such as "ext4"
	UsedBy     []string // who uses a device: mounts, upper layers
	Agreed     bool     // what it holds is what was agreed to be lost, and nobody uses it
	Unread     string   // why what it holds, or whether it may be used, could not be looked at
	Busy       []Busy   // devices that moved data although nothing is measured
	HostBusy   quantity.Share
	HostLooked bool
	Misaligned []string // partitions that begin off the physical blocks
	Missing    []string // members that are gone
	Twins      []Twins  // disks that are one of several paths to their storage
	Thin       bool     // space is given when it is first written
	Probe      *Probe
	Counters   *Counters
	Troubles   []string // what else could not be looked at, and why
}

// Traits are what others need to know of a kind of volume.
type Traits struct {
	OnHost       bool `json:"onHost" doc:"It is a path of the service's host, which can be followed down to its media"`
	Virtual      bool `json:"virtual" doc:"It is simulated, in a time of its own"`
	KeepsNothing bool `json:"keepsNothing" doc:"Written data are not stored"`
	Makes        bool `json:"makes" doc:"A test file or tree is created for the run and removed afterwards"`
	Overwritten  bool `json:"overwritten" doc:"A load that writes overwrites existing data, which needs consent"`
	Disk         bool `json:"disk" doc:"It is a whole disk or LUN: its content is reported even if nothing will be written"`
	Described    bool `json:"described" doc:"An array file describes it, and its keys can be swept"`
	Leads        bool `json:"leads" doc:"It is a portal that leads to volumes, and cannot be measured itself"`
}

// Twins are disks that lead to the same storage.
type Twins struct {
	Name   string
	Others []string
}

// Busy is a device at work.
type Busy struct {
	Name  string
	Share quantity.Share
}

// Counters is what a look at the counters of the storage found.
type Counters struct {
	Count   int
	Trouble string // why they could not be read
}

// Probe is what packets that may not be split found out about a path.
type Probe struct {
	Address string `json:"address"`
	MTU     int    `json:"mtu" doc:"Of the interface on this end"`
	Largest int    `json:"largest" doc:"Largest packet that was answered; 0 when none was"`
	Trouble string `json:"trouble,omitempty"`
}

// Asked is what a run will do.
type Asked struct {
	Span   quantity.Bytes
	Writes bool
	Cached bool
	Files  bool // the span is what the files of a load of files hold
}

// room says what the span takes room for.
func (a Asked) room() string {
	if a.Files {
		return "Files"
	}
	return "A test file"
}

// CheckNames are the names of all checks, by which one that fails can be passed
// over.
var CheckNames = []string{
	"reachable", "writable", "readable", "test-file", "room", "nothing-of-value", "not-memory", "span-beyond-memory",
	"one-path", "mtu-equal", "mtu-usable", "bus-trained", "aligned", "written-before", "complete", "write-back-protected",
	"cache-redundant", "drive-cache", "full-speed", "quiet", "host-idle", "counters",
}

// Checks says what stands in the way of a measurement, what will distort it,
// and what is as it should be.
func Checks(s Setup, seen Seen, asked Asked) []Check {
	var checks []Check
	add := func(name string, result Result, sentence, next string) {
		checks = append(checks, Check{name, result, sentence, next})
	}
	reachChecks(seen, asked, add)
	memoryChecks(s, seen, asked, add)
	pathChecks(s, seen, add)
	safetyChecks(s, seen, add)
	quietChecks(s, seen, add)
	if c := seen.Counters; c != nil && c.Trouble != "" {
		add("counters", Caution, "The counters of the storage cannot be read: "+strings.TrimSuffix(c.Trouble, ".")+".", "Make them available there, or remove counters.address; measurements go on without them.")
	} else if c != nil {
		add("counters", Passed, fmt.Sprintf("The storage has %d counters, which are recorded during measurements.", c.Count), "")
	}
	for i, trouble := range seen.Troubles {
		add(fmt.Sprintf("look-%d", i+1), CouldNotLook, trouble, "")
	}
	return checks
}

type adder func(name string, result Result, sentence, next string)

func reachChecks(seen Seen, asked Asked, add adder) {
	if seen.Facts == nil {
		next := "Bring it back, or name another volume."
		if seen.Late {
			next = "Give the look more time (heron look --timeout 20s) where it is a long way off; otherwise bring it back, or name another volume."
		}
		add("reachable", Failed, "It cannot be reached: "+strings.TrimSuffix(seen.Trouble, ".")+".", next)
		return
	}
	f := seen.Facts
	if seen.Traits.Leads {
		add("reachable", Passed, "It answers. Name one of its LUNs to measure it.", "")
		return
	}
	add("reachable", Passed, fmt.Sprintf("It answers, and has %s.", f.Size), "")
	switch {
	case seen.Refusal != "" && asked.Writes:
		add("writable", Failed, strings.TrimSuffix(seen.Refusal, ".")+".", "Consent to overwrite it, or measure reads alone.")
	case seen.Refusal != "":
		add("readable", Failed, strings.TrimSuffix(seen.Refusal, ".")+".", "Give the service the right to read it.")
	case seen.Unread != "" && asked.Writes:
		add("writable", CouldNotLook, strings.TrimSuffix(seen.Unread, ".")+".", "Look longer; the check is repeated when a run starts.")
	case f.Writable:
		add("writable", Passed, "The service may write there.", "")
	default:
		add("writable", Caution, "The service may only read there.", "Loads that write will be refused.")
	}
	if seen.Traits.Makes {
		if seen.TestFile != "" {
			add("test-file", Passed, fmt.Sprintf("A test file can be created here %s; it is removed when a run ends.", seen.TestFile), "")
		}
		switch {
		case asked.Span > f.Free:
			add("room", Failed, fmt.Sprintf("%s are free, and the load needs %s of %s.", f.Free, strings.ToLower(asked.room()), asked.Span), "Use a smaller span, or make room.")
		case asked.Span > 0 && f.Free-asked.Span < f.Size/20:
			add("room", Caution, fmt.Sprintf("%s of %s would leave only %s of %s free: a full file system is slower, and a cache or a tier could not be removed.", asked.room(), asked.Span, f.Free-asked.Span, f.Size), "Use a smaller span, or make room.")
		default:
			add("room", Passed, fmt.Sprintf("%s of %s are free.", f.Free, f.Size), "")
		}
	}
	if seen.Holds != "" || len(seen.UsedBy) > 0 {
		what := "It holds " + seen.Holds + "."
		if seen.Holds == "" {
			what = "It is in use."
		}
		if len(seen.UsedBy) > 0 {
			what += " Used by " + strings.Join(seen.UsedBy, ", ") + "."
		}
		result := Caution
		if asked.Writes {
			result = Failed
		}
		add("nothing-of-value", result, what, "Reading does not change it. Writing over it would lose what it holds.")
	} else if seen.Unread != "" {
		add("nothing-of-value", CouldNotLook, strings.TrimSuffix(seen.Unread, ".")+".", "Look longer; the check is repeated before anything is written.")
	} else if seen.Agreed {
		add("nothing-of-value", Passed, "There is consent to overwrite its content, and nobody uses it.", "")
	} else if seen.Traits.Disk {
		add("nothing-of-value", Passed, "Nothing is recognised on it, and nobody uses it.", "")
	}
}

// memoryChecks compares the span with every memory on the path.
func memoryChecks(s Setup, seen Seen, asked Asked, add adder) {
	for i := range s.Count("media") {
		if at := fmt.Sprintf("media[%d].kind", i); s.Text(at) == "memory" {
			add("not-memory", Caution, "It is in the memory of this host.", "Its figures are those of memory, not of storage.")
			break
		}
	}
	if asked.Span == 0 {
		return
	}
	var larger []string
	if m := s.Bytes("host.memory"); asked.Cached && m >= asked.Span {
		larger = append(larger, fmt.Sprintf("this host's memory of %s", m))
	}
	if m := s.Bytes("controller.memory"); m >= asked.Span {
		larger = append(larger, fmt.Sprintf("the controller's memory of %s", m))
	}
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		if m := s.Bytes(at + "size"); m >= asked.Span {
			larger = append(larger, fmt.Sprintf("%s of %s", cmp.Or(s.Text(at+"name"), Part(at+"size")), m))
		}
	}
	if len(larger) > 0 {
		add("span-beyond-memory", Caution, fmt.Sprintf("The span of %s fits into %s.", asked.Span, strings.Join(larger, " and into ")), "To measure the media, use a larger span.")
		return
	}
	add("span-beyond-memory", Passed, fmt.Sprintf("The span of %s is larger than every known cache on the path.", asked.Span), "")
}

func pathChecks(s Setup, seen Seen, add adder) {
	for _, t := range seen.Twins {
		add("one-path", Caution, fmt.Sprintf("%s is one of %d paths to its storage; the others are %s.", t.Name, len(t.Others)+1, strings.Join(t.Others, ", ")),
			"Measure the device that joins the paths, or take the figures for those of one path.")
		break
	}
	for i := range s.Count("link") {
		at := fmt.Sprintf("link[%d].", i)
		here, there := s.Number(at+"mtuHere"), s.Number(at+"mtuThere")
		switch {
		case here > 0 && there > 0 && here != there:
			add("mtu-equal", Caution, fmt.Sprintf("The MTU is %g at this end and %g at the other: large packets are lost or split.", here, there), "Set the same MTU at both ends and on every switch between.")
		case here > 0 && there > 0:
			add("mtu-equal", Passed, fmt.Sprintf("The MTU is %g at both ends.", here), "")
		}
	}
	if p := seen.Probe; p != nil {
		switch {
		case p.Trouble != "":
			add("mtu-usable", CouldNotLook, fmt.Sprintf("Packets of %d bytes to %s: %s", p.MTU, p.Address, p.Trouble), "")
		case p.Largest == 0:
			add("mtu-usable", CouldNotLook, fmt.Sprintf("%s answers no echo, so the path MTU cannot be probed.", p.Address), "Allow ICMP echo from this host, or tell the MTU of the other end.")
		case p.Largest < p.MTU:
			add("mtu-usable", Failed, fmt.Sprintf("The interface sends packets of up to %d bytes, but unfragmented packets to %s only arrive up to %d bytes.", p.MTU, p.Address, p.Largest),
				"Set the same MTU at both ends and on every switch between, or override this check by its name.")
		default:
			add("mtu-usable", Passed, fmt.Sprintf("Packets of %d bytes reach %s unfragmented.", p.MTU, p.Address), "")
		}
	}
	for _, c := range []struct{ what, now, most string }{{"lanes", "controller.busLanes", "controller.busLanesMost"}, {"generation", "controller.busGeneration", "controller.busGenerationMost"}} {
		now, most := s.Number(c.now), s.Number(c.most)
		if now == 0 || most == 0 {
			continue
		}
		if now < most {
			add("bus-trained", Caution, fmt.Sprintf("The bus runs with %s %g of %g.", c.what, now, most), "Try another slot, or reseat the card.")
		} else {
			add("bus-trained", Passed, fmt.Sprintf("The bus runs with its full %s (%g).", c.what, now), "")
		}
	}
	for _, name := range seen.Misaligned {
		add("aligned", Caution, fmt.Sprintf("%s is not aligned to the physical blocks of its disk: small writes touch two.", name), "Recreate the partition on a boundary of 1 MiB.")
	}
	if f := seen.Facts; f != nil && f.Unwritten > 0 && f.Size > 0 {
		add("written-before", Caution, fmt.Sprintf("%s of its %s (%s) were never written: reads there are answered without the media.", f.Unwritten, f.Size, quantity.Share(float64(f.Unwritten)/float64(f.Size))), "Precondition the span before measuring reads, or measure a part that is written.")
	}
	if seen.Thin {
		add("written-before", Caution, "This volume is thin: space is allocated at the first write, and reads before that are answered without the media.", "Precondition the span before measuring reads.")
	}
}

func safetyChecks(s Setup, seen Seen, add adder) {
	if n := s.Number("layout.missing"); n > 0 {
		add("complete", Caution, fmt.Sprintf("%g members are missing: reads have to be reconstructed from the others, and another failure may lose all data.", n), "Replace the member and wait for the rebuild, unless you want to measure the degraded array.")
	} else if s.Text("layout.level") != "" && s.Text("layout.level") != "single" {
		add("complete", Passed, "All members are there.", "")
	}
	controller := s.Text("controller.policy") == "write-back"
	if controller && s.Text("controller.battery") == "no" && !s.Is("power.protected") {
		add("write-back-protected", Caution, "The controller confirms writes that are only in its memory, without a battery: a power cut loses them.", "Fit a battery or set write-through; do not compare this with a setup that is safe.")
	}
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		name := cmp.Or(s.Text(at+"name"), Part(at+"size"))
		if s.Text(at+"mode") != "write-back" {
			continue
		}
		switch {
		case s.Text(at+"devices") == "1":
			add("cache-redundant", Caution, fmt.Sprintf("%s keeps dirty data on a single device: if it fails, they are lost.", name), "Use two devices, or a read-only cache.")
		case s.Text(at+"protected") == "no" && !s.Is("power.protected"):
			add("write-back-protected", Caution, fmt.Sprintf("%s confirms writes before they are safe: a power cut loses them.", name), "Protect it, or set write-through; do not compare this with a setup that is safe.")
		case s.Is(at + "protected"):
			add("write-back-protected", Passed, fmt.Sprintf("Dirty data in %s survive a power cut.", name), "")
		}
	}
	for i := range s.Count("media") {
		at := fmt.Sprintf("media[%d].", i)
		if s.Is(at+"writeCache") && !s.Is("power.protected") {
			add("drive-cache", Caution, fmt.Sprintf("The drives of %s keep writes in a volatile cache: only a flush makes them safe.", Part(at+"count")), "Use --sync-every to measure the cost of safe writes.")
			break
		}
	}
}

func quietChecks(s Setup, seen Seen, add adder) {
	if governor := s.Text("host.governor"); slices.Contains([]string{"powersave", "conservative"}, governor) {
		add("full-speed", Caution, fmt.Sprintf("The CPU frequency governor is %q: small operations wait for a slow core.", governor), "Set it to performance while measuring.")
	} else if governor != "" {
		add("full-speed", Passed, fmt.Sprintf("The CPU frequency governor is %q.", governor), "")
	}
	for _, b := range seen.Busy {
		add("quiet", Caution, fmt.Sprintf("%s is busy for %s of the time although no measurement is running.", b.Name, b.Share), "Find out who uses it; that work and the measurement will disturb each other.")
	}
	if seen.HostLooked && len(seen.Busy) == 0 && seen.Facts != nil && len(seen.Facts.Devices) > 0 {
		add("quiet", Passed, "Its devices are idle.", "")
	}
	if seen.HostLooked {
		if seen.HostBusy > 0.25 {
			add("host-idle", Caution, fmt.Sprintf("This host is busy for %s of its CPU time with other work.", seen.HostBusy), "Stop what is not needed, or measure from another host.")
		} else {
			add("host-idle", Passed, fmt.Sprintf("This host uses %s of its CPU time.", seen.HostBusy), "")
		}
	}
}

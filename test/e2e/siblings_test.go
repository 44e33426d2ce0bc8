package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/test/peer"
)

// sibling is another way to the same bytes: measured is what the heron is told to write over,
// other the device that somebody else uses, image the file that both lie in.
type sibling struct {
	name string
	set  func(t *testing.T) (measured, other, image string)
}

// image is a file with a file system.
func image(t *testing.T) string {
	t.Helper()
	f := blankFile(t)
	must(t, "mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0", f)
	return f
}

// overlaid shows a folder through an overlay, and gives where.
func overlaid(t *testing.T, lower string) string {
	t.Helper()
	ground := mountAt(t, "-t", "tmpfs", "tmpfs")
	ok(t, os.Mkdir(ground+"/upper", 0o700), os.Mkdir(ground+"/work", 0o700))
	return mountAt(t, "-t", "overlay", "overlay", "-o", fmt.Sprintf("lowerdir=%s,upperdir=%s/upper,workdir=%s/work", lower, ground, ground))
}

// upper makes an overlay whose upper folder has a file system's image, and gives that under
// both of its names.
func upper(t *testing.T) (shown, kept string) {
	t.Helper()
	ground := mountAt(t, "-t", "tmpfs", "tmpfs")
	for _, folder := range []string{"lower", "upper", "work"} {
		ok(t, os.Mkdir(filepath.Join(ground, folder), 0o700))
	}
	kept = filepath.Join(ground, "upper", "storage")
	must(t, "cp", "--sparse=always", image(t), kept)
	point := mountAt(t, "-t", "overlay", "overlay", "-o", fmt.Sprintf("lowerdir=%s/lower,upperdir=%s/upper,workdir=%s/work", ground, ground, ground))
	return filepath.Join(point, "storage"), kept
}

var siblings = []sibling{
	{"two loop devices over one file", func(t *testing.T) (string, string, string) {
		f := image(t)
		return loopOver(t, f), loopOver(t, f), f
	}},
	{"two loop devices over hard links", func(t *testing.T) (string, string, string) {
		f := image(t)
		ok(t, os.Link(f, f+".hard"))
		return loopOver(t, f), loopOver(t, f+".hard"), f
	}},
	{"two loop devices and one through a bind mount", func(t *testing.T) (string, string, string) {
		f := image(t)
		return loopOver(t, filepath.Join(mountAt(t, "--bind", filepath.Dir(f)), filepath.Base(f))), loopOver(t, f), f
	}},
	{"two loop devices and the file renamed between", func(t *testing.T) (string, string, string) {
		f := image(t)
		other := loopOver(t, f)
		ok(t, os.Rename(f, f+" renamed"))
		return loopOver(t, f+" renamed"), other, f + " renamed"
	}},
	{"a loop device over a part of the other's file", func(t *testing.T) (string, string, string) {
		f := image(t)
		return loopOver(t, f, "--offset", "4194304", "--sizelimit", "4194304"), loopOver(t, f), f
	}},
	{"a loop device over a loop device over the file", func(t *testing.T) (string, string, string) {
		f := image(t)
		return loopOver(t, loopOver(t, f)), loopOver(t, f), f
	}},
	{"the other is two loop devices above the file", func(t *testing.T) (string, string, string) {
		f := image(t)
		return loopOver(t, f), loopOver(t, loopOver(t, f)), f
	}},
	{"the file itself under a loop device", func(t *testing.T) (string, string, string) {
		f := image(t)
		return f, loopOver(t, f), f
	}},
	{"the file itself under two loop devices", func(t *testing.T) (string, string, string) {
		f := image(t)
		return f, loopOver(t, loopOver(t, f)), f
	}},
	{"an overlay shows the file and and the loop device stands on what is shown", func(t *testing.T) (string, string, string) {
		shown, kept := upper(t)
		return kept, loopOver(t, shown), kept
	}},
	{"an overlay shows the file and and that is measured", func(t *testing.T) (string, string, string) {
		shown, kept := upper(t)
		return shown, loopOver(t, kept), kept
	}},
	{"two loop devices and above and below an overlay", func(t *testing.T) (string, string, string) {
		shown, kept := upper(t)
		return loopOver(t, kept), loopOver(t, shown), kept
	}},
	{"a file on a file system on a loop device", func(t *testing.T) (string, string, string) {
		outer := loopDevice(t, 96<<20)
		must(t, "mkfs.ext4", "-q", outer)
		f := filepath.Join(mountAt(t, outer), "storage")
		must(t, "cp", "--sparse=always", image(t), f)
		return loopOver(t, f), loopOver(t, f), f
	}},
	{"a partition and and a loop device over its disk's file", func(t *testing.T) (string, string, string) {
		f := image(t)
		return partitionOf(t, loopOver(t, f, "--partscan")), loopOver(t, f), f
	}},
}

// uses are what others do with a sibling.
var uses = []struct {
	name  string
	begin func(t *testing.T, other string)
	words string
}{
	{"nothing", func(*testing.T, string) {}, "the loop device"},
	{"mounted", func(t *testing.T, other string) { mountAt(t, other) }, "mounted on"},
	{"mounted where we cannot see", func(t *testing.T, other string) {
		beside(t, `exec unshare --mount bash -c 'mount "$1" /mnt && exec 0<&3 && `+untilInputEnds+`' inner "$1" 3<&0`, other)
	}, "mounted on /mnt for"},
	{"swap space", func(t *testing.T, other string) {
		must(t, "mkswap", "-q", "--force", other)
		must(t, "swapon", other)
		t.Cleanup(func() { _ = exec.Command("swapoff", other).Run() })
	}, "swap space"},
	{"open for writing", func(t *testing.T, other string) { beside(t, `exec 3<>"$1"; `+untilInputEnds, other) }, "has it open"},
	{"bound once more", func(t *testing.T, other string) { loopOver(t, other) }, "the loop device"},
}

// siblingTraps are all uses of all siblings.
func siblingTraps() (all []trap) {
	for _, s := range siblings {
		for _, u := range uses {
			all = append(all, trap{name: s.name + ": " + u.name, set: func(t *testing.T, _ *service) (string, string) {
				measured, other, image := s.set(t)
				u.begin(t, other)
				must(t, "sync", image)
				if u.words == "swap space" { // all but the first page may be written by the kernel
					image = ""
				}
				return measured, image
			}, words: u.words, holds: "?"})
		}
	}
	return append(all, layeredTraps...)
}

// layeredTraps are what stands one layer further from what is measured than the traps of the
// drill.
var layeredTraps = []trap{
	{name: "the file behind it open for writing", set: then(device, func(t *testing.T, _, f string) { beside(t, `exec 3<>"$1"; `+untilInputEnds, f) }), words: "has it open"},
	{name: "the file behind it open for reading", set: then(device, func(t *testing.T, _, f string) { beside(t, `exec 3<"$1"; `+untilInputEnds, f) }), words: "has it open"},
	{name: "the file behind it locked", set: then(device, func(t *testing.T, _, f string) { beside(t, `exec 3<"$1"; flock --shared 3; `+untilInputEnds, f) }), words: "locked"},
	{name: "a virtual machine's image and that has it open under a loop device", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		beside(t, `exec 7<>"$1"; flock --shared 7; `+untilInputEnds, f)
		return loopOver(t, f), f
	}, words: "locked"},
	{name: "a device of two loops whose lower one is open for writing", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		lower := loopOver(t, f)
		upper := loopOver(t, lower)
		beside(t, `exec 3<>"$1"; `+untilInputEnds, lower)
		return upper, f
	}, words: "has it open"},
	{name: "a loop device over a swap file", set: func(t *testing.T, _ *service) (string, string) {
		outer := loopDevice(t, 96<<20)
		must(t, "mkfs.ext4", "-q", outer)
		f := filepath.Join(mountAt(t, outer), "swap")
		must(t, "dd", "if=/dev/zero", "of="+f, "bs=1M", "count=24", "status=none")
		ok(t, os.Chmod(f, 0o600))
		must(t, "mkswap", "-q", f)
		l := loopOver(t, f)
		must(t, "swapon", f)
		t.Cleanup(func() { _ = exec.Command("swapoff", f).Run() })
		return l, ""
	}, holds: "swap", words: "swap space"},
	{name: "the disk that its own file system's file lies on", set: func(t *testing.T, s *service) (string, string) {
		l, f := made("mkfs.ext4", "-q")(t, s)
		inner := filepath.Join(mountAt(t, l), "inner")
		ok(t, os.WriteFile(inner, make([]byte, 1<<20), 0o600))
		loopOver(t, inner)
		must(t, "sync")
		return l, f
	}, words: "mounted on"},
	{name: "a member of a file system of several and by another loop device", set: func(t *testing.T, _ *service) (string, string) {
		first, second := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
		for _, f := range []string{first, second} {
			ok(t, os.WriteFile(f, nil, 0o600), os.Truncate(f, 256<<20))
		}
		a, b := loopOver(t, first), loopOver(t, second)
		must(t, "mkfs.btrfs", "-q", a, b)
		must(t, "btrfs", "device", "scan", a, b)
		mountAt(t, a)
		must(t, "sync")
		return loopOver(t, second), ""
	}, holds: "btrfs", words: "in use"},
	{name: "a partition of it is bound elsewhere", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		l := loopOver(t, f, "--partscan")
		loopOver(t, partitionOf(t, l))
		return l, f
	}, words: "the loop device"},
	{name: "a partition of it is open", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		l := loopOver(t, f, "--partscan")
		beside(t, `exec 3<"$1"; `+untilInputEnds, partitionOf(t, l))
		return l, f
	}, words: "has it open"},
	{name: "the disk of the partition is open for writing", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		l := loopOver(t, f, "--partscan")
		partition := partitionOf(t, l)
		beside(t, `exec 3<>"$1"; `+untilInputEnds, l)
		return partition, f
	}, words: "has it open"},
	{name: "an overlay shows it to a process that has it open", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		shown := filepath.Join(overlaid(t, filepath.Dir(f)), filepath.Base(f))
		beside(t, `exec 3<"$1"; `+untilInputEnds, shown)
		return f, f
	}, words: "has it open"},
	{name: "the same and in a namespace of its own", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		beside(t, `exec unshare --mount bash -c 'mount -t tmpfs tmpfs /mnt && mkdir /mnt/u /mnt/w /mnt/m && mount -t overlay overlay -o "lowerdir=$1,upperdir=/mnt/u,workdir=/mnt/w" /mnt/m && exec 0<&3 && exec 4<"/mnt/m/$2" && `+untilInputEnds+`' inner "$1" "$2" 3<&0`, filepath.Dir(f), filepath.Base(f))
		return f, f
	}, words: "has it open"},
	{name: "what an overlay shows is open below", set: func(t *testing.T, _ *service) (string, string) {
		shown, kept := upper(t)
		beside(t, `exec 3<>"$1"; `+untilInputEnds, kept)
		return shown, kept
	}, words: "has it open"},
	{name: "a union of folders has it open", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		point := t.TempDir()
		must(t, "mergerfs", filepath.Dir(f), point)
		t.Cleanup(func() { _ = exec.Command("umount", "--lazy", point).Run() })
		beside(t, `exec 3<"$1"; `+untilInputEnds, filepath.Join(point, filepath.Base(f)))
		return f, f
	}, words: "has it open"},
	// What the service keeps for itself, behind a device.
	{name: "its database behind a loop device", set: ownBehind("heron.sqlite"), words: "keeps for itself"},
	{name: "its reserve of room behind a loop device", set: ownBehind("reserve"), words: "keeps for itself"},
	{name: "its database behind two loop devices", set: func(t *testing.T, s *service) (string, string) {
		path := filepath.Join(s.data, "heron.sqlite")
		return loopOver(t, loopOver(t, path)), path
	}, words: "keeps for itself"},
	{name: "its database through an overlay", set: func(t *testing.T, s *service) (string, string) {
		path := filepath.Join(overlaid(t, s.data), "heron.sqlite")
		return path, path
	}, words: "keeps for itself"},
	{name: "its database by a hard link and behind a loop device", set: func(t *testing.T, s *service) (string, string) {
		link := filepath.Join(filepath.Dir(s.data), "database")
		ok(t, os.Link(filepath.Join(s.data, "heron.sqlite"), link))
		return loopOver(t, link), link
	}, words: "keeps for itself"},
	// What changed after consent, behind or beside the device.
	{name: "a second loop device since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { loopOver(t, backing(t, l)) }, words: "the loop device"},
	{name: "a second loop device since and mounted", set: made("mkfs.ext4", "-q"), spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		mountAt(t, loopOver(t, backing(t, l)))
		must(t, "sync")
	}, words: "mounted on"},
	{name: "the file behind it written since and in its middle", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		writeByte(t, backing(t, l), 8<<20)
	}, words: "8 MiB was written since"},
	{name: "the file behind it opened since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		beside(t, `exec 3<>"$1"; `+untilInputEnds, backing(t, l))
	}, words: "has it open"},
	{name: "a file system further back since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		must(t, "mkfs.ext4", "-q", "-E", "offset=8388608", backing(t, l), "8M")
	}, words: "8 MiB was written since"},
	{name: "the device below swapped for another", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		lower := loopOver(t, f)
		return loopOver(t, lower), f
	}, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		lower := backing(t, l)
		must(t, "losetup", "--detach", l)
		must(t, "losetup", "--detach", lower)
		must(t, "losetup", lower, blankFile(t))
		must(t, "losetup", l, lower)
	}, words: "no longer holds"},
}

// backing is the file that a loop device stands on.
func backing(t *testing.T, l string) string {
	t.Helper()
	return must(t, "losetup", "--noheadings", "--output", "BACK-FILE", l)
}

// ownBehind is a loop device over a file of the service's data folder.
func ownBehind(name string) func(*testing.T, *service) (string, string) {
	return func(t *testing.T, s *service) (string, string) {
		path := filepath.Join(s.data, name)
		return loopOver(t, path), path
	}
}

// What others do to storage while a run writes to it is not taken for the run's own: consent
// ends, and what they made stays.
func TestWhatOthersDoInMidRunIsKept(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	ours := spec(func(w *workload.Spec) { w.Reads, w.Offset, w.Span, w.For = 0, 4<<20, 1<<20, 600 })
	for name, does := range map[string]func(t *testing.T, l, f string){
		"a file system over all of it":    func(t *testing.T, _, f string) { must(t, "mkfs.ext4", "-q", "-F", f) },
		"a file system further back":      func(t *testing.T, _, f string) { must(t, "mkfs.ext4", "-q", "-F", "-E", "offset=8388608", f, "8M") },
		"a file system by another device": func(t *testing.T, _, f string) { must(t, "mkfs.ext4", "-q", "-F", loopOver(t, f)) },
		"samples at its end":              func(t *testing.T, _, f string) { writeByte(t, f, trapSize-1) },
	} {
		t.Run(name, func(t *testing.T) {
			l, f := device(t, s)
			volume := s.volume(l, &resource.ConsentToWrite{Size: trapSize})
			id := s.begun(volume, onePlan(ours))
			does(t, l, f)
			must(t, "sync", f)
			ok(t, s.StopRun(t.Context(), id, false))
			s.finished(id)
			before := contentOf(t, f, trapSize)
			_, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(ours)})
			if err == nil || !strings.Contains(err.Error(), "changed it while a run went on") && !strings.Contains(err.Error(), "in use") {
				t.Errorf("the next run: %v", err)
			}
			if contentOf(t, f, trapSize) != before {
				t.Error("it was changed")
			}
			ok(t, s.RemoveVolume(t.Context(), volume.ID))
		})
	}
}

// A registered volume is looked at as a locator is: what is there is named.
func TestARegisteredVolumeIsLookedAt(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	l, f := device(t, s)
	volume := s.volume(l, &resource.ConsentToWrite{Size: trapSize})
	must(t, "mkfs.ext4", "-q", "-F", f)
	for _, named := range []string{volume.Name, l} {
		out, _, err := s.cli("look", named)
		if err != nil && !errors.Is(err, context.Canceled) && !strings.Contains(out, "ext2/3/4") || !strings.Contains(out, "ext2/3/4") {
			t.Errorf("look %s (%v):\n%s", named, err, out)
		}
	}
}

// Looking changes nothing in a folder, not even for a moment, but where it is asked to try.
func TestLookingWritesNothing(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	changed := func() (seconds, nanoseconds int64) {
		t.Helper()
		var stat unix.Stat_t
		ok(t, unix.Stat(folder, &stat))
		return stat.Ctim.Sec, stat.Ctim.Nsec
	}
	seconds, nanoseconds := changed()
	for _, arguments := range [][]string{{"look", folder}, {"volume", "add", folder, "--name", "field"}, {"look", "field"}, {"look", "field", "--span", "1MiB"}, {"volume", "list"}} {
		if out, _, err := s.cli(arguments...); err != nil {
			t.Fatalf("%v: %v\n%s", arguments, err, out)
		}
		if a, b := changed(); a != seconds || b != nanoseconds {
			t.Fatalf("%v changed the folder", arguments)
		}
	}
	out, _, err := s.cli("look", folder, "--writes")
	if a, b := changed(); err != nil || !strings.Contains(out, "A test file can be created here") || a == seconds && b == nanoseconds && !strings.Contains(out, "without a name") {
		t.Errorf("with --writes (%v):\n%s", err, out)
	}
}

// A LUN of a target on this host is looked at down to the file that it is served from: who
// uses that otherwise loses it too.
func TestALUNServedFromWhatIsInUse(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		use   func(t *testing.T, file string)
		words string // "" where it may be written
	}{
		"nobody else":             {func(*testing.T, string) {}, ""},
		"mounted":                 {func(t *testing.T, f string) { must(t, "mkfs.ext4", "-q", f); mountAt(t, loopOver(t, f)) }, "mounted on"},
		"bound to a loop device":  {func(t *testing.T, f string) { loopOver(t, f) }, "the loop device"},
		"open in another process": {func(t *testing.T, f string) { beside(t, `exec 3<>"$1"; `+untilInputEnds, f) }, "has it open"},
		"an overlay shows it open": {func(t *testing.T, f string) {
			beside(t, `exec 3<"$1"; `+untilInputEnds, filepath.Join(overlaid(t, filepath.Dir(f)), filepath.Base(f)))
		}, "has it open"},
	} {
		t.Run(name, func(t *testing.T) {
			g := peer.StartTgt(t, 1)
			s := serve(t, t.TempDir(), false)
			c.use(t, g.File)
			locator := "iscsi://" + g.Ports[0] + "/" + peer.Target + "/1"
			look, err := s.Look(t.Context(), locator, client.Asked{})
			ok(t, err)
			consent := resource.ConsentToWrite{Size: peer.Size, Serial: look.Facts.Serial}
			if name == "mounted" {
				consent.Holds = "ext2/3/4"
			}
			_, err = s.AddVolume(t.Context(), resource.NewVolume{Name: "lun", Locator: locator, Consent: &consent})
			if c.words == "" && err != nil || c.words != "" && (err == nil || !strings.Contains(err.Error(), c.words)) {
				t.Errorf("consent: %v, want %q", err, c.words)
			}
		})
	}
}

// Package lab holds the heron against real arrays, caches, targets and shares, which
// it builds in a virtual machine with Debian's own kernel: what the heron says of each
// must be what was built there. It is about truth, never about speed.
//
//	make lab
package lab

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/setup"
	"patientheron/resource"
)

// longest is how long the guest may take.
const longest = 18 * time.Minute

// boot builds what is booted, lets the guest build its setups, and gives the folder
// with what the heron said there.
func boot(t *testing.T) (out string) {
	t.Helper()
	heron, err := os.ReadFile("../../bin/heron")
	if err != nil {
		t.Fatalf("%v; run 'make build' first", err)
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	build := exec.Command("./build", filepath.Join(cache, "patient-heron", "lab"))
	build.Stderr = os.Stderr
	made, err := build.Output()
	if err != nil {
		t.Fatalf("build the lab: %v", err)
	}
	lab := strings.TrimSpace(string(made))
	out = t.TempDir()
	setups, err := os.ReadFile("guest/setups")
	if err != nil {
		t.Fatal(err)
	}
	proof := filepath.Join(t.TempDir(), "proof")
	if text, err := exec.Command("go", "build", "-o", proof, "./proof").CombinedOutput(); err != nil {
		t.Fatalf("build what proves the initiator: %v\n%s", err, text)
	}
	proves, err := os.ReadFile(proof)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"setups": setups, "heron": heron, "proof": proves} {
		if err := os.WriteFile(filepath.Join(out, name), content, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), longest)
	defer cancel()
	share := func(tag, path string, writing bool) string {
		text := fmt.Sprintf("local,mount_tag=%s,security_model=none,multidevs=remap,path=%s", tag, path)
		if !writing {
			text += ",readonly=on"
		}
		return text
	}
	arguments := []string{"-nodefaults", "-no-user-config", "-no-reboot", "-display", "none",
		"-m", "2048", "-smp", "2", "-serial", "file:" + filepath.Join(out, "console"),
		"-kernel", filepath.Join(lab, "kernel"), "-initrd", filepath.Join(lab, "first.gz"), "-append", "console=ttyS0 panic=-1 quiet",
		"-virtfs", share("host", "/", false), "-virtfs", share("lab", filepath.Join(lab, "root"), false), "-virtfs", share("out", out, true)}
	// On a busy host the kernel of a guest may find no timer that ticks, and gives up before anything
	// of ours has begun: that says nothing of us, and is tried again.
	for tries := 1; ; tries++ {
		began := time.Now()
		text, err := exec.CommandContext(ctx, "qemu-system-x86_64", arguments...).CombinedOutput()
		if err != nil {
			t.Fatalf("the guest: %v\n%s\n%s", err, text, tail(out, "console", "log"))
		}
		t.Logf("the guest took %s", time.Since(began).Round(time.Second))
		if _, err := os.Stat(filepath.Join(out, "log")); err == nil {
			break
		}
		if t.Logf("it came to nothing: %s", tail(out, "console")); tries == 3 {
			t.Fatal("no guest began with the lab")
		}
	}
	if failed, err := os.ReadFile(filepath.Join(out, "failed")); err == nil {
		t.Errorf("in the guest: %s\n%s", failed, tail(out, "log"))
	}
	return out
}

// tail is the end of some files.
func tail(folder string, names ...string) (text string) {
	for _, name := range names {
		whole, _ := os.ReadFile(filepath.Join(folder, name))
		text += name + ":\n" + string(whole[max(len(whole)-4000, 0):]) + "\n"
	}
	return text
}

// read reads what the heron gave as JSON.
func read[T any](t *testing.T, path string) (value T) {
	t.Helper()
	text, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(text, &value)
	}
	if err != nil {
		t.Errorf("%s: %v", filepath.Base(path), err)
	}
	return value
}

// flat is a chain as lines, from the top down.
func flat(layers []setup.Layer) (lines []string) {
	for _, l := range layers {
		lines = append(lines, l.Kind+" "+l.Name+": "+l.Words)
		lines = append(lines, flat(l.Below)...)
	}
	return lines
}

// built is what was built, and so what the heron must say.
type built struct {
	facts  map[string]string // "" for a fact that must not be there
	chain  []string          // each must be part of a line of the chain, in this order
	checks map[string]setup.Result
}

var setups = map[string]built{
	"md0": {
		facts: map[string]string{"layout.level": "raid0", "layout.chunk": "32KiB", "media[0].count": "2", "media[0].size": "64MiB", "media[0].kind": "memory"},
		chain: []string{"raid0 of 2 members, made by the kernel (md)", "ram0", "ram1"},
	},
	"md1": {
		facts: map[string]string{"layout.level": "raid1", "layout.chunk": "", "media[0].count": "2", "layout.missing": ""},
		chain: []string{"raid1 of 2 members"},
	},
	"md5": {
		facts: map[string]string{"layout.level": "raid5", "layout.chunk": "64KiB", "media[0].count": "4", "fileSystem.type": "ext4"},
		chain: []string{"file system /mnt/md5: ext4", "raid md5: raid5 of 4 members", "ram4", "ram7"},
	},
	"md6": {
		facts:  map[string]string{"layout.level": "raid6", "layout.chunk": "128KiB", "layout.missing": "1", "media[0].count": "4"},
		chain:  []string{"raid6 of 5 members, made by the kernel (md), 1 missing"},
		checks: map[string]setup.Result{"complete": setup.Caution},
	},
	"md10": {
		facts: map[string]string{"layout.level": "raid10", "layout.chunk": "256KiB", "media[0].count": "4"},
	},
	"striped": {
		facts: map[string]string{"layout.level": "raid0", "layout.chunk": "16KiB", "layout.madeBy": "the device mapper", "media[0].count": "2"},
		chain: []string{"logical volume", "ram17", "ram18"},
	},
	"thin": {
		facts:  map[string]string{"media[0].count": "1"},
		chain:  []string{"thin", "thin-pool", "metadata: ", "linear"},
		checks: map[string]setup.Result{"written-before": setup.Caution},
	},
	"cached": {
		facts: map[string]string{"cache[0].mode": "write-back", "cache[0].size": "24MiB", "media[0].count": "1", "media[0].size": "64MiB"},
		chain: []string{"cache, write-back, ", "B dirty", "cache: tank-fast_cpool_cdata, 24 MiB", "metadata of the cache: ", "tank-cached_corig", "memory ram20"},
	},
	"bcache": {
		facts: map[string]string{"cache[0].mode": "write-back", "cache[0].name": "bcache", "cache[0].size": "256MiB", "cache[0].devices": "1", "media[0].count": "1"},
		chain: []string{"writeback", "dirty", "cache: loop device of 256 MiB", "memory ram24"},
	},
	"zoned": {},
	"lun": {
		facts: map[string]string{
			"media[0].kind": "", "media[0].count": "1", "media[0].size": "64MiB", "transport.protocol": "iscsi",
			"session.max_burst_len": "262144", "link[0].interface": "lo",
		},
		chain:  []string{"LUN of another host or array, 64 MiB", "the same storage as sd"},
		checks: map[string]setup.Result{"one-path": setup.Caution},
	},
	"ownlun": {
		facts: map[string]string{
			"transport.protocol": "iscsi", "transport.address": "127.0.0.1", "transport.connections": "2",
			"session.MaxBurstLength": "262144", "session.HeaderDigest": "CRC32C", "session.DataDigest": "CRC32C", "session.ImmediateData": "Yes",
		},
		chain:  []string{"LUN iqn.2026-11.test.sedgewater:pool/0: LIO-ORG", "64 MiB, blocks of 512 B", "portal 127.0.0.1:3260", "portal 192.0.2.1:3260"},
		checks: map[string]setup.Result{"reachable": setup.Passed},
	},
	"multipath": {
		facts: map[string]string{"media[0].count": "1", "media[0].kind": "", "transport.protocol": "iscsi"},
		chain: []string{"several paths", "2 paths to one storage", "LUN of another host or array", "path: LUN of another host or array"},
	},
	"nfs3": {
		facts: map[string]string{"transport.protocol": "nfs", "transport.address": "192.0.2.1", "link[0].interface": "lo"},
		chain: []string{"nfs on /mnt/nfs3", "nfs share 192.0.2.1:/mnt/export at 192.0.2.1"},
	},
	"nfs4": {
		facts: map[string]string{"transport.protocol": "nfs", "transport.address": "127.0.0.1", "fileSystem.type": "nfs4"},
		chain: []string{"nfs share 127.0.0.1:/ at 127.0.0.1"},
	},
	"smb": {
		facts: map[string]string{"transport.protocol": "smb", "transport.address": "127.0.0.1", "fileSystem.type": "cifs"},
		chain: []string{"smb share //127.0.0.1/films at 127.0.0.1"},
	},
	"fabric": {
		facts: map[string]string{"media[0].kind": "", "media[0].size": "64MiB", "transport.protocol": "nvme", "transport.address": "127.0.0.1", "transport.options": "tcp"},
		chain: []string{"namespace of another host or array"},
	},
}

// options are the parts of mount options that must be told.
var options = map[string][]string{
	"nfs3": {"vers=3", "soft", "timeo=50"}, "nfs4": {"vers=4.2", "rsize=65536", "wsize=32768", "hard"}, "smb": {"vers=3.1.1", "cache=none"},
}

func TestWhatTheHeronSaysIsWhatWasBuilt(t *testing.T) {
	out := boot(t)
	t.Run("another path in use", func(t *testing.T) {
		if said, err := os.ReadFile(filepath.Join(out, "twin")); err != nil || !strings.Contains(string(said), "mounted on /mnt/other") {
			t.Errorf("consent to overwrite a LUN that is mounted through its other path: %s (%v)", said, err)
		}
	})
	t.Run("served to the kernel's initiator", func(t *testing.T) {
		if said, err := os.ReadFile(filepath.Join(out, "served")); err != nil || string(said) != "nothing was lost\n" {
			t.Errorf("a file system on an array that the heron serves: %s (%v)", said, err)
		}
	})
	t.Run("written, copied and zeroed over the kernel's target", func(t *testing.T) {
		said, err := os.ReadFile(filepath.Join(out, "kept"))
		if err != nil || !strings.HasPrefix(string(said), "held to a model:") {
			t.Errorf("%s (%v)", said, err)
		}
		t.Logf("%s", said)
	})
	t.Run("the kernel's target restarted", func(t *testing.T) {
		run := read[resource.RunDetail](t, filepath.Join(out, "restarted.json"))
		var happened []string
		for _, m := range run.Markers {
			what, _, _ := strings.Cut(m.Name, ":")
			happened = append(happened, what)
		}
		if run.Status != resource.Finished || !slices.Contains(happened, "lost") || !slices.Contains(happened, "back") || len(run.Measurements) != 1 || len(run.Measurements[0].Summary.Faults) > 0 {
			t.Errorf("%s %s, markers %q", run.Status, run.Reason, happened)
		}
	})
	for name, want := range setups {
		t.Run(name, func(t *testing.T) {
			look := read[resource.Look](t, filepath.Join(out, name+".look.json"))
			for key, value := range want.facts {
				if got := look.Setup.Text(key); got != value {
					t.Errorf("%s is %q, was built as %q", key, got, value)
				}
			}
			for _, part := range options[name] {
				if all := look.Setup.Text("transport.options"); !strings.Contains(","+all+",", ","+part+",") {
					t.Errorf("mounted with %s; told: %s", part, all)
				}
			}
			lines := flat(look.Chain)
			at := 0
			for _, part := range want.chain {
				for at < len(lines) && !strings.Contains(lines[at], part) {
					at++
				}
				if at == len(lines) {
					t.Errorf("%q is not told (in this order) in\n%s", part, strings.Join(lines, "\n"))
					break
				}
			}
			for _, c := range look.Checks {
				wanted, named := want.checks[c.Name]
				if named && c.Result != wanted || c.Result == setup.Failed {
					t.Errorf("%s %s: %s", c.Name, c.Result, c.Sentence)
				}
				if c.Result == setup.CouldNotLook {
					t.Errorf("it could not look: %s", c.Sentence)
				}
				delete(want.checks, c.Name)
			}
			for check := range want.checks {
				t.Errorf("nothing is said of %s", check)
			}
			run := read[resource.RunDetail](t, filepath.Join(out, name+".run.json"))
			if run.Status != resource.Finished || len(run.Measurements) != 1 || run.Measurements[0].Summary == nil || run.Measurements[0].Summary.Total.Operations == 0 {
				t.Errorf("measured: %s %s", run.Status, run.Reason)
			}
		})
	}
}

package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/cli"
	"patientheron/demo"
	"patientheron/test/trials"

	"github.com/spf13/cobra"
)

// A reader of the docs has a heron that was in use for a while: volumes are registered, runs were
// made, and files lie where he is. This is that place, in a mount and a network namespace of its
// own, so that /srv/pool, /dev/sdx, filer.example and port 3260 are what the docs name.
type place struct {
	t      *testing.T
	folder string
}

// paths of the place, on entering it. Block devices are loop devices under other names.
const enter = `set -e
ip link set lo up
ip address add 192.0.2.10/32 dev lo
printf '127.0.0.1 localhost\n192.0.2.10 filer.example\n' >"$PLACE/hosts" && mount --bind "$PLACE/hosts" /etc/hosts
mount --bind "$PLACE/srv" /srv
mkdir -p "$PLACE/mnt/share" && mount --bind "$PLACE/mnt" /mnt
mkdir -p "$PLACE/dev" && mount -t tmpfs none "$PLACE/dev"
cp -a /dev/null /dev/zero /dev/random /dev/urandom /dev/full /dev/tty /dev/loop* /dev/fuse "$PLACE/dev" 2>/dev/null || true
ln -s /proc/self/fd "$PLACE/dev/fd"; mkdir "$PLACE/dev/shm" && chmod 1777 "$PLACE/dev/shm"
mount --bind "$PLACE" /media
for pair in $DEVICES; do mknod "$PLACE/dev/${pair%%=*}" b 7 "${pair##*=}"; done
mount --move "$PLACE/dev" /dev
cd /media/here
`

// loops makes block devices of sizes, and gives them as name=number of the loop device. Those that
// are named are made xfs.
func (p *place) loops(sizes map[string]int64, xfs ...string) string {
	var pairs []string
	for name, size := range sizes {
		device := loopDevice(p.t, size)
		if slices.Contains(xfs, name) {
			must(p.t, "mkfs.xfs", "-q", device)
		}
		pairs = append(pairs, name+"="+strings.TrimPrefix(device, "/dev/loop"))
	}
	slices.Sort(pairs)
	return strings.Join(pairs, " ")
}

// inhabit runs a script of a shell in the place, beside a service on its data folder.
func (p *place) inhabit(ctx context.Context, devices, script string) ([]byte, error) {
	command := exec.CommandContext(ctx, "unshare", "--mount", "--net", "--pid", "--fork", "--kill-child", "--mount-proc", "bash", "-c", enter+`
heron array serve plain.yaml --instant --size 2GiB --name iqn.2026-01.example:store --listen 192.0.2.10:3260 --counters 192.0.2.10:9264 >/media/target.log 2>&1 &
heron serve >/media/service.log 2>&1 &
for _ in $(seq 200); do heron volume list >/dev/null 2>&1 && break; sleep 0.1; done
set +e
`+script)
	command.Env = append(os.Environ(), "PLACE="+p.folder, "DEVICES="+devices, "HERON_DATA=/media/data", "PATH="+filepath.Dir(heron)+":"+os.Getenv("PATH"), "TERM=dumb", "COLUMNS=100")
	return command.CombinedOutput()
}

// shorter makes what is measured in real time small: the docs name minutes and hundreds of
// gigabytes.
func shorter(line string) string {
	for _, c := range []struct{ is, by string }{
		{`--for \d+(s|min)`, "--for 400ms"}, {`--span \d+GiB`, "--span 16MiB"}, {`--span 1TiB`, "--span 16MiB"}, {`--warm-up \d+s`, "--warm-up 0.1s"}, {`--amount \d+GiB`, "--amount 16MiB"},
		{`\b2000 x`, "20 x"}, {`--pace 20x`, "--pace 1x"}, {`--fit feeds=1..400 --repeats 3`, "--fit feeds=1..4 --repeats 1"}, {`--size 1GiB`, "--size 64MiB"},
	} {
		line = regexp.MustCompile(c.is).ReplaceAllString(line, c.by)
	}
	line = strings.TrimSuffix(line, "&")
	if strings.HasPrefix(line, "heron preset show") && strings.Contains(line, "> my-plan.yaml") { // edited before it is used
		line += "; sed -i 's/for: [0-9a-z]*/for: 300ms/; s/warmUp: [0-9a-z]*/warmUp: 0s/' my-plan.yaml"
	}
	if strings.Contains(line, "--here") { // beside the service
		line = "HERON_DATA=/media/other " + line
	}
	if strings.Contains(line, "--stores") { // each takes a few times what its memory holds
		line = strings.Replace(line, "--span 16MiB", "--span 256MiB --memtable 1MiB", 1)
	}
	if strings.Contains(line, "heron tune ") && !strings.Contains(line, "--list") {
		line = regexp.MustCompile(`\s--(budget|rounds) \S+`).ReplaceAllString(line, "")
		line = regexp.MustCompile(`(heron tune [^#]*)`).ReplaceAllString(line, "$1 --for 100ms --warm-up 0s --rounds 3 ")
	}
	if strings.Contains(line, "heron measure /") && !strings.Contains(line, "--for") && !strings.Contains(line, "--passes") {
		line = regexp.MustCompile(`(heron measure /[^#&]*)`).ReplaceAllString(line, "$1 --for 400ms ")
	}
	return line
}

// stays tells commands that go on until they are stopped.
var stays = regexp.MustCompile(`^heron (serve|demo|array serve)\b`)

// block is commands that stand one below the other.
type block struct {
	where string
	lines []string
}

// typed makes a script of the commands of blocks: each is told apart in its output, and how it
// ended.
func typed(blocks []block) string {
	var script strings.Builder
	for _, b := range blocks {
		for _, line := range b.lines {
			command := strings.TrimSpace(regexp.MustCompile(`\s{2,}#.*|\s#\s.*`).ReplaceAllString(line, ""))
			if command == "" {
				continue
			}
			run := shorter(command)
			if stays.MatchString(command) {
				run = "timeout 2 " + run
				if strings.Contains(command, "heron serve") && !strings.Contains(command, "--data") {
					run = "HERON_DATA=/media/other " + run + " --listen 127.0.0.1:0"
				}
				if strings.HasPrefix(command, "heron demo") {
					run += " --listen 127.0.0.1:0"
				}
			}
			fmt.Fprintf(&script, "printf '\\n\\001%%s\\n' %s\nSECONDS=0; { %s ; } </dev/null\nprintf '\\002%%d %%d\\n' $? $SECONDS\n", quoted(b.where+"\x03"+command), run)
		}
	}
	return script.String()
}

func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// elsewhere are commands that want what this place has not: they say what.
var elsewhere = map[string]string{
	"heron leftover remove 3":                                          "no leftover with number 3", // nothing was left behind
	"heron run mark 12 'switched offload on'":                          "not measuring now",
	"heron run stop 12":                                                "already ended",
	"heron run stop 12 --after-measurement":                            "already ended",
	"heron run remove 12":                                              "answer yes", // nobody is there to be asked
	"heron look /srv/pool --measure-members":                           "/dev/",      // the disk below is not in here
	"heron array inject 12 '{kind: member fails, member: 2}'":          "not measuring now",
	"heron array inject 12 '{kind: path drops, path: 1, for: 2s}'":     "not measuring now",
	"heron look iscsi://reader@192.0.2.10/iqn.2026-01.example:store/0": "there is no secret of user reader",
}

// TestWhatTheDocsShowCanBeTyped types each command of the README, of the docs and of the examples
// of each command's help, in the order of the page, and reads how it ends.
func TestWhatTheDocsShowCanBeTyped(t *testing.T) {
	t.Parallel()
	p := &place{t: t, folder: t.TempDir()}
	for _, folder := range []string{"srv/pool", "srv/old", "srv/new", "srv/photographs/2026", "srv/films", "here", "mnt/share", "data"} {
		if err := os.MkdirAll(filepath.Join(p.folder, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, size := range map[string]int{"srv/photographs/2026/a.jpg": 300_000, "srv/photographs/2026/b.jpg": 200_000, "srv/films/a.mkv": 2_000_000, "srv/films/b.mkv": 1_000_000} {
		if err := os.WriteFile(filepath.Join(p.folder, name), bytes.Repeat([]byte("heron "), size/6), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	p.files()
	const disk, large = 2 << 30, 960197124096
	devices := p.loops(map[string]int64{"sdb": disk, "sdc": disk, "sdd": disk, "md0": 3 * disk, "sdx": large, "sdy": large}, "sdx", "sdy")
	prepared, err := p.inhabit(t.Context(), devices, p.past())
	if err != nil {
		t.Fatalf("the place cannot be made: %v\n%s", err, prepared)
	}
	pages := p.pages()
	slots := make(chan bool, 1) // others are measured beside them
	names := slices.Sorted(maps.Keys(pages))
	chosen := map[string]bool{"README.md": true}
	for i := range trials.Of(len(names)) {
		chosen[names[i]] = true
	}
	for name, blocks := range pages {
		if !chosen[name] {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			slots <- true
			defer func() { <-slots }()
			mine := &place{t: t, folder: t.TempDir()}
			must(t, "cp", "-a", p.folder+"/srv", p.folder+"/here", p.folder+"/data", p.folder+"/mnt", mine.folder)
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
			defer cancel()
			text, err := mine.inhabit(ctx, devices, typed(blocks))
			if err != nil {
				var failed *exec.ExitError
				if !errors.As(err, &failed) || ctx.Err() != nil {
					t.Errorf("%v\n%s", err, text)
				}
			}
			said := 0
			for _, part := range bytes.Split(text, []byte{1})[1:] {
				said++
				where, rest, _ := strings.Cut(string(part), "\x03")
				command, rest, _ := strings.Cut(rest, "\n")
				words, code, ended := strings.Cut(rest, "\x02")
				code, seconds, _ := strings.Cut(strings.TrimSpace(code), " ")
				want := []string{"0"}
				switch {
				case stays.MatchString(command):
					want = []string{"124"}
				case elsewhere[command] != "":
					if want = []string{"1"}; !strings.Contains(words, elsewhere[command]) {
						t.Errorf("%s: %s\nsays not %q:\n%s", where, command, elsewhere[command], words)
					}
				case strings.Contains(command, "--fail-if"):
					want = []string{"0", "1", "4"} // the answer: no, yes, not shown
				}
				if !ended || !slices.Contains(want, code) {
					t.Errorf("%s: %s\nends with %q:\n%s", where, command, code, words)
				}
				if testing.Verbose() {
					t.Logf("%s: %s (%s, %s s)\n%s", where, command, code, seconds, words)
				}
			}
			if lines := strings.Count(typed(blocks), "\\001"); said != lines {
				t.Errorf("%d of %d commands were typed", said, lines)
			}
		})
	}
}

// files are those that lie where the reader is: of the demo, and small ones of his own.
func (p *place) files() {
	t := p.t
	here := filepath.Join(p.folder, "here")
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(here, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var plain string
	for name, setup := range map[string]string{"plain.yaml": "plain-parity", "four.yaml": "four-ssds", "cached.yaml": "read-cache"} {
		path, err := demo.WriteSetup(t.TempDir(), setup)
		if err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if write(name, string(text)); name == "plain.yaml" {
			plain = string(text)
		}
	}
	write("photographs.yaml", "classes: [{name: photographs, number: 20, size: 50KiB}]\n")
	write("my-files.yaml", "stages:\n  - load: {files: 20 x 64KiB, task: put, passes: 1}\n")
	write("know.yaml", know)
	write("station.yaml", "name: What the station needs\nsurvives: [any member]\nuses:\n  - name: ledger\n    load: {block: 8KiB, reads: 70%, order: random, depth: 8, span: 16MiB, warmUp: 0s, for: 400ms}\n    bounds: {iops: at least 200, p99: at most 900ms}\n")
	write("afternoon.yaml", "name: An afternoon\ncapacity: 2TB\nuses:\n  - name: ledger\n    load: {block: 8KiB, reads: 60%, order: random, depth: 16, span: 200GiB, warmUp: 500ms, for: 1s}\n    bounds: {iops: at least 400}\n")
	write("dealer.yaml", "name: A dealer\nlevels: [raid10, raid5]\ndrives:\n  - {name: disk, price: 100, counts: [4, 6], members: {medium: hard disk, capacity: 2TB}}\ncontrollers:\n  - {name: controller, price: 400, controller: {operations: 100k, throughput: 1GB/s}}\nenclosures:\n  - {name: small, price: 200, bays: 6}\n")
	write("pool.yaml", "layout: {level: raid5}\n")
	write("planned.yaml", "layout: {level: raid6}\n")
	write("zoned.yaml", "name: zones\nmembers: {count: 2, medium: ssd, capacity: 8GiB, zone: 8MiB, openZones: 4}\nlayout: {level: concatenation}\nempty: 70%\n")
	write("failing.yaml", "name: failing\nmembers: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid5}\nfaults: [{kind: member fails, at: 5s, member: 1}]\n")
	write("my-plan.yaml", strings.ReplaceAll(know, "100GiB", "16MiB"))
	write("guess.yaml", plain)
	write("users.yaml", "- {user: reader, secret: not-so-secret-at-all}\n")
	write("p.yaml", know)
}

const know = `name: What is known
stages:
  - {name: small, load: {block: 4KiB, order: random, depth: 16, span: 100GiB, warmUp: 500ms, for: 1s}}
  - {name: large, load: {block: 256KiB, order: sequential, depth: 8, span: 100GiB, warmUp: 500ms, for: 1s}}
  - {name: single, load: {block: 4KiB, order: random, depth: 1, span: 100GiB, warmUp: 500ms, for: 1s}}
  - {name: ledger, load: {block: 8KiB, reads: 70%, order: random, depth: 8, span: 100GiB, warmUp: 500ms, for: 1s}}
`

// past is what was done in the place before the docs are read.
func (p *place) past() string {
	return `set -e
add() { heron volume add "$(heron array add "$1" --name "$2")" --name "$2" >/dev/null; }
add plain.yaml pool; add cached.yaml pool-with-cache; add four.yaml new-pool
for n in 1 2 3 4; do add plain.yaml node-$n; done
for n in $(seq 8); do heron measure pool --plan know.yaml --repeats 3 >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }; heron measure pool-with-cache --plan know.yaml --repeats 3 >/dev/null 2>/media/past.log; done
heron measure iscsi://filer.example/iqn.2026-01.example:store/0 --span 16MiB --for 400ms >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron volume consent store-0 --overwrite-size 2147483648 --serial "$(heron look store-0 --json | sed -n 's/.*"serial": "\(.*\)".*/\1/p' | head -1)" >/dev/null
heron volume add /dev/sdy --name spare --overwrite-size 960197124096 --holds xfs >/dev/null
heron measure /dev/md0 /dev/sdb /dev/sdc /dev/sdd --for 400ms --repeats 3 >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron tune pool --try depth=2,8 --rounds 3 >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron measure pool pool-with-cache --for 2s --repeats 3 --race >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron measure array:zoned.yaml --stores 1 --requests put:1 --zone 8MiB --span 2GiB --for 2s >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron measure array:failing.yaml --depth 8 --for 6s >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
for n in 1 2 3; do heron compare 1 2 --name "kept $n" >/dev/null; sed "s/What the station needs/Need $n/" station.yaml >n.yaml; heron need add n.yaml >/dev/null; done; sed "s/What the station needs/A day at the station/" station.yaml >n.yaml; heron need add n.yaml >/dev/null; rm n.yaml
for n in "a twin" "another twin"; do heron twin fit pool --runs 1 --name "$n" >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }; done
heron twin fit pool --name mine >/dev/null 2>/media/past.log || { tail -3 /media/past.log; exit 1; }
heron run list --json >/media/runs.json
`
}

// pages are the commands of each page, and of the help of each group of commands.
func (p *place) pages() map[string][]block {
	t := p.t
	pages := map[string][]block{}
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range append(files, "../../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		joined := strings.ReplaceAll(string(text), "\\\n", " ")
		for n, found := range regexp.MustCompile("(?ms)^```sh\n(.*?)^```").FindAllStringSubmatch(joined, -1) {
			b := block{where: fmt.Sprintf("%s, block %d", filepath.Base(file), n+1)}
			for line := range strings.Lines(found[1]) {
				if strings.HasPrefix(line, "heron ") || strings.HasPrefix(line, "  heron ") {
					b.lines = append(b.lines, strings.TrimSpace(line))
				}
			}
			pages[filepath.Base(file)] = append(pages[filepath.Base(file)], b)
		}
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Example != "" {
			b := block{where: c.CommandPath() + " --help"}
			for line := range strings.Lines(strings.ReplaceAll(c.Example, "\\\n", " ")) {
				b.lines = append(b.lines, strings.TrimSpace(line))
			}
			page := "help of " + strings.TrimPrefix(c.CommandPath(), "heron ")
			pages[page] = append(pages[page], b)
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.Root())
	return pages
}

package main

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// scripts are what is typed in the terminals, by the name of the picture. What
// stands before the line of dashes is typed before the photograph.
var scripts = map[string]string{
	"terminal": `mkdir pool
---
say heron volume add pool --name pool
say heron measure pool --block 8KiB --reads 70% --depth 16 --span 256MiB --warm-up 1s --for 3s --repeats 2
say heron run list`,
	"terminal-compare": `cat >plain.yaml <<END
name: Plain parity array
members: {count: 6, medium: hard disk, capacity: 4TB}
layout: {level: raid5, chunk: 64KiB}
END
(cat plain.yaml; echo "caches: [{name: controller memory, size: 4GiB, block: 16KiB, mode: write-back, protected: true}]") >cached.yaml
for array in plain cached; do
  heron volume add array:$array.yaml --name $array
  heron preset show ledger >/dev/null
  heron measure $array --plan plan.yaml
done >/dev/null 2>&1
---
say heron look cached --span 1TiB '|' head -13
say heron compare 1 2
say heron compare 1 2 --fail-if "'p99 of \"entries\" better by 10%'" '>/dev/null;' echo "ended with \$?"`,
}

// comparedPlan is what the terminal's arrays are measured with.
const comparedPlan = `name: Ledger and backup
stages:
  - {name: lookups, load: {block: 8KiB, reads: 100%, depth: 16, span: 1TiB, for: 5s}, repeats: 5, settle: {pause: 60s}}
  - {name: entries, load: {block: 8KiB, reads: 0%, depth: 16, span: 32GiB, for: 5s}, repeats: 5, settle: {pause: 600s}}
  - {name: backup, load: {block: 1MiB, reads: 100%, order: sequential, depth: 8, span: 512GiB, for: 5s}, repeats: 5, settle: {pause: 600s}}
`

// terminal photographs commands in a terminal window on a display of its
// own, such as ":77".
func terminal(ctx context.Context, heron, folder, name, display string) error {
	heron, err := filepath.Abs(heron)
	if err != nil {
		return err
	}
	place, err := os.MkdirTemp("/var/tmp", "sedgewater-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(place)
	if err := os.WriteFile(filepath.Join(place, "plan.yaml"), []byte(comparedPlan), 0o600); err != nil {
		return err
	}
	before, shown, _ := strings.Cut(scripts[name], "\n---\n")
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1280x800x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("start a display: %w", err)
	}
	// Asked to end, it takes its socket away, which the next one would be taken for.
	defer func() { _ = screen.Process.Signal(syscall.SIGTERM); _ = screen.Wait() }()
	script := "cd " + place + "\n" + before + `
say() { printf '\033[1m$ %s\033[0m\n' "$*"; eval "$*" 2>/dev/null; echo; }
clear
` + shown + "\ntouch done; sleep 60"
	file := filepath.Join(place, "script")
	// The commands shown need no --here: a function adds it.
	hidden := `heron() { if [ "$1" = -- ]; then shift; fi; ` + heron + ` --data ` + place + `/data --here "$@"; }` + "\n"
	if err := os.WriteFile(file, []byte(hidden+script), 0o600); err != nil {
		return err
	}
	window := exec.CommandContext(ctx, "xterm", "-geometry", "120x40+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10.5",
		"-bg", "#fbf8f1", "-fg", "#26343f", "-e", "bash", file)
	window.Env = append(os.Environ(), "DISPLAY="+display)
	for try := 0; ; try++ {
		if to, err := net.Dial("unix", "/tmp/.X11-unix/X"+display[1:]); err == nil || try > 50 {
			if err == nil {
				_ = to.Close()
			}
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err := window.Start(); err != nil {
		return fmt.Errorf("open a terminal: %w", err)
	}
	defer func() { _ = window.Process.Kill(); _ = window.Wait() }()
	for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		if _, err := os.Stat(filepath.Join(place, "done")); err == nil {
			break
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the commands in the terminal do not end")
		}
	}
	time.Sleep(500 * time.Millisecond)
	picture := exec.CommandContext(ctx, "import", "-window", "root", "-crop", "1000x726+0+0", filepath.Join(folder, name+".png"))
	picture.Env = window.Env
	if out, err := picture.CombinedOutput(); err != nil {
		return fmt.Errorf("photograph the terminal: %w\n%s", err, out)
	}
	return nil
}

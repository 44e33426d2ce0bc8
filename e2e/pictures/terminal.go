package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// terminal photographs a command in a terminal window on a display of its
// own.
func terminal(ctx context.Context, heron, folder string) error {
	heron, err := filepath.Abs(heron)
	if err != nil {
		return err
	}
	place, err := os.MkdirTemp("/var/tmp", "sedgewater-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(place)
	pool := filepath.Join(place, "pool")
	if err := os.Mkdir(pool, 0o755); err != nil {
		return err
	}
	const display = ":77"
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1280x800x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("start a display: %w", err)
	}
	defer func() { _ = screen.Process.Kill(); _ = screen.Wait() }()
	script := `cd ` + place + `
say() { printf '\033[1m$ %s\033[0m\n' "$*"; "$@" 2>/dev/null; echo; }
say heron volume add ` + pool + ` --name pool
say heron measure pool --block 8KiB --reads 70% --depth 16 --span 256MiB --lead-in 1s --for 3s --repeats 2
say heron run list
touch done; sleep 60`
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
		if _, err := os.Stat("/tmp/.X11-unix/X77"); err == nil || try > 50 {
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
	picture := exec.CommandContext(ctx, "import", "-window", "root", "-crop", "1000x726+0+0", filepath.Join(folder, "terminal.png"))
	picture.Env = window.Env
	if out, err := picture.CombinedOutput(); err != nil {
		return fmt.Errorf("photograph the terminal: %w\n%s", err, out)
	}
	return nil
}

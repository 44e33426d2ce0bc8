package signature

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// ErrNoHelper is given where blkid is not installed.
var ErrNoHelper = errors.New("blkid is not installed")

// Ask asks blkid(8) what an opened file or device holds: its kind and, where
// it has one, its UUID; both are empty when blkid recognises nothing.
func Ask(ctx context.Context, file *os.File) (kind, uuid string, err error) {
	path, err := exec.LookPath("blkid")
	if err != nil {
		for _, known := range []string{"/usr/sbin/blkid", "/sbin/blkid"} {
			if _, missing := os.Stat(known); missing == nil {
				path, err = known, nil
				break
			}
		}
	}
	if err != nil {
		return "", "", ErrNoHelper
	}
	command := exec.CommandContext(ctx, path, "--probe", "--output", "export", "/proc/self/fd/3")
	command.ExtraFiles = []*os.File{file}
	command.Env = []string{"LC_ALL=C", "BLKID_FILE=/dev/null"}
	var trouble bytes.Buffer
	command.Stderr = &trouble
	out, err := command.Output()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		switch ended.ExitCode() {
		case 2: // nothing is recognised
			return "", "", nil
		case 8:
			return "several things at once", "", nil
		}
	}
	if err != nil {
		return "", "", fmt.Errorf("ask blkid: %w: %s", err, strings.TrimSpace(trouble.String()))
	}
	values := map[string]string{}
	for line := range strings.Lines(string(out)) {
		if key, value, found := strings.Cut(strings.TrimSpace(line), "="); found {
			values[key] = printable(value)
		}
	}
	if kind = values["TYPE"]; kind == "" && values["PTTYPE"] != "" {
		kind = "partition table (" + values["PTTYPE"] + ")"
	}
	if uuid = values["UUID"]; uuid == "" {
		uuid = values["PTUUID"]
	}
	return kind, uuid, nil
}

// printable leaves out what a disk may hold to deceive its reader.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, text)
}

package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service"
)

// keeping measures what keeping results durably takes from a run: the same load
// on zram through the whole service, with its data folder on a disk that takes
// thirty writes a second, and with it in memory.
func keeping() error {
	const size = 256 << 20
	device, remove, err := zram(size)
	if err != nil {
		return err
	}
	defer remove()
	slow, restore, err := slowFolder(30)
	if err != nil {
		return err
	}
	defer restore()
	p := plan.Plan{Stages: []plan.Stage{{Load: spec(func(s *workload.Spec) { s.Span, s.For, s.Interval = size, 4, 0.1 })}}}
	kept := func(folder string) func() (float64, error) {
		return func() (float64, error) { return throughService(folder, device, p) }
	}
	memory, err := os.MkdirTemp("/dev/shm", "heron-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(memory)
	slowly, err := paired(usual, kept(filepath.Join(slow, "data")), kept(filepath.Join(memory, "data")))
	if err != nil {
		return err
	}
	row("zram through the service, series every 100 ms: results kept on a disk of 30 writes a second against in memory", "within 1 %", "× %.4f (%.0f k against %.0f k a second)", slowly.ratio, slowly.ours/1e3, slowly.theirs/1e3)
	return nil
}

// throughService measures a device with a service on a data folder and gives the
// rate. Every interval has to be there.
func throughService(folder, device string, p plan.Plan) (float64, error) {
	ctx := context.Background()
	s, err := service.Open(ctx, service.Options{Folder: folder, Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, err
	}
	serving, stop := context.WithCancel(ctx)
	defer func() { stop(); s.Close() }()
	c := s.Client(serving)
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return 0, err
	}
	var volume resource.Volume
	if len(volumes) > 0 {
		volume = volumes[0]
	} else if volume, err = c.AddVolume(ctx, resource.NewVolume{Locator: device}); err != nil {
		return 0, err
	}
	run, err := c.StartRun(ctx, resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		return 0, err
	}
	if err := c.Watch(ctx, run.ID, client.Watcher{}); err != nil {
		return 0, err
	}
	detail, err := c.Run(ctx, run.ID)
	if err != nil {
		return 0, err
	}
	if detail.Status != resource.Finished {
		return 0, fmt.Errorf("run %d is %s: %s", run.ID, detail.Status, detail.Reason)
	}
	m := detail.Measurements[0]
	if series, err := c.Series(ctx, m.ID); err != nil || len(series.Intervals) < 40 {
		return 0, fmt.Errorf("%d intervals were kept: %w", len(series.Intervals), err)
	}
	return float64(m.Summary.Total.Rate), nil
}

// slowFolder is a folder on a file system whose device takes so many writes a
// second of this process (cgroup v1, blkio.throttle.write_iops_device).
func slowFolder(writes int) (folder string, restore func(), err error) {
	var undo []func()
	restore = func() {
		for i := len(undo) - 1; i >= 0; i-- {
			undo[i]()
		}
	}
	fail := func(err error) (string, func(), error) { restore(); return "", nil, err }
	place, err := os.MkdirTemp("", "heron-bench-")
	if err != nil {
		return fail(err)
	}
	undo = append(undo, func() { os.RemoveAll(place) })
	file, point := filepath.Join(place, "disk"), filepath.Join(place, "point")
	if err := errors.Join(os.WriteFile(file, nil, 0o600), os.Truncate(file, 512<<20), os.Mkdir(point, 0o700)); err != nil {
		return fail(err)
	}
	out, err := exec.Command("losetup", "--find", "--show", file).Output()
	if err != nil {
		return fail(fmt.Errorf("make a loop device: %w", err))
	}
	device := strings.TrimSpace(string(out))
	undo = append(undo, func() { _ = exec.Command("losetup", "--detach", device).Run() })
	if out, err := exec.Command("mkfs.ext4", "-q", device).CombinedOutput(); err != nil {
		return fail(fmt.Errorf("make a file system: %w: %s", err, out))
	}
	if err := unix.Mount(device, point, "ext4", 0, ""); err != nil {
		return fail(fmt.Errorf("mount a file system: %w", err))
	}
	undo = append(undo, func() { _ = unix.Unmount(point, unix.MNT_DETACH) })
	var stat unix.Stat_t
	if err := unix.Stat(device, &stat); err != nil {
		return fail(err)
	}
	group := fmt.Sprintf("/sys/fs/cgroup/blkio/heron-bench-%d", os.Getpid())
	if err := os.Mkdir(group, 0o755); err != nil {
		return fail(fmt.Errorf("make a control group: %w", err))
	}
	undo = append(undo, func() {
		_ = os.WriteFile("/sys/fs/cgroup/blkio/cgroup.procs", fmt.Append(nil, os.Getpid()), 0o200)
		for range 50 {
			if os.Remove(group) == nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	limit := fmt.Sprintf("%d:%d %d", unix.Major(stat.Rdev), unix.Minor(stat.Rdev), writes)
	if err := errors.Join(
		os.WriteFile(group+"/blkio.throttle.write_iops_device", []byte(limit), 0o200),
		os.WriteFile(group+"/cgroup.procs", fmt.Append(nil, os.Getpid()), 0o200),
	); err != nil {
		return fail(fmt.Errorf("limit a device: %w", err))
	}
	return point, restore, nil
}

package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service"
	"patientheron/service/look"
	"patientheron/service/store"
)

// middle is the median time of five calls, in milliseconds.
func middle(work func() error) (float64, error) {
	var times []float64
	for range 5 {
		began := time.Now()
		if err := work(); err != nil {
			return 0, err
		}
		times = append(times, time.Since(began).Seconds()*1e3)
	}
	return median(times), nil
}

// judging times all rules on an hour of one-second intervals.
func judging() error {
	random := rand.New(rand.NewPCG(1, 1))
	series := make([]measure.Interval, 3600)
	rate := 1000.0
	for i := range series {
		rate = 1000 + 0.8*(rate-1000) + 30*random.NormFloat64()
		series[i] = measure.Interval{
			Index: i, Start: quantity.Seconds(i), Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Operations: int64(rate)}},
			Beside: []measure.Beside{{CPU: make([]quantity.Share, 16), Devices: []measure.Device{{Name: "sda", Busy: 0.9}}}},
		}
	}
	paces := make([]measure.Pace, len(series))
	for i := range series {
		paces[i] = series[i].Pace()
	}
	load := workload.Default()
	load.Steady, load.Margin = true, 0.02
	took, err := middle(func() error {
		judge.Findings(judge.Observed{Load: load, Series: series, Summary: measure.Summary{Total: measure.Figures{Operations: 3_600_000, Rate: 1000, Latency: measure.Latency{Mean: 0.008}}}})
		judge.Watch(load)(paces, true)
		return nil
	})
	row("judging a measurement of 3,600 intervals, all rules", "under 15 ms", "%.2f ms", took)
	return err
}

// comparing times comparisons of nine runs of 200 points, from records with
// their histograms to the last byte of the service's answer.
func comparing() error {
	for _, repeats := range []int{1, 3} {
		if err := comparingWith(repeats, 0); err != nil {
			return err
		}
	}
	return comparingWith(3, 6)
}

// comparingWith compares nine runs, each on a volume of its own that has so many past runs.
func comparingWith(repeats, past int) (err error) {
	const sides = 9
	folder, err := os.MkdirTemp("", "heron-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	ctx := context.Background()
	volumes := 0
	if past > 0 {
		volumes = sides
	}
	groups, err := someRuns(ctx, folder, sides*(1+past), volumes, 200, repeats, func(m *resource.Measurement, point int) {
		m.Name, m.Point = "sweep", []plan.Setting{{Field: "span", Value: fmt.Sprintf("%dMiB", point+1)}}
	})
	if err != nil {
		return err
	}
	groups = groups[len(groups)-sides:]
	question, err := json.Marshal(resource.NewComparison{Baseline: groups[0], Candidates: groups[1:]})
	if err != nil {
		return err
	}
	took, err := asking(ctx, folder, "/comparisons", question)
	what, goal := fmt.Sprintf("comparing nine runs of 200 points, %d measurements of each", repeats), "under 500 ms"
	switch {
	case past > 0:
		what, goal = fmt.Sprintf("%s, with %d past runs of each", what, past), "under 1000 ms"
	case repeats == 1:
		goal = "under 300 ms"
	}
	row(what, goal, "%.0f ms", took)
	return err
}

// asking is the median time, in milliseconds, of asking a service over a folder.
func asking(ctx context.Context, folder, path string, question []byte) (took float64, err error) {
	s, err := service.Open(ctx, service.Options{Folder: folder, Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, err
	}
	defer s.Close()
	serving, stop := context.WithCancel(ctx)
	defer stop()
	addresses, failed := make(chan string, 1), make(chan error, 1)
	go func() { failed <- s.Listen(serving, "127.0.0.1:0", func(url string) { addresses <- url }) }()
	var address string
	select {
	case address = <-addresses:
	case err := <-failed:
		return 0, err
	}
	took, err = middle(func() error { return answered(address+"/api/v1"+path, s.Token, question) })
	stop()
	<-failed
	return took, err
}

// deciding times judging twelve setups of twenty stages each by twenty needs, from records to
// the last byte of the service's answer.
func deciding() (err error) {
	folder, err := os.MkdirTemp("", "heron-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	ctx := context.Background()
	groups, err := someRuns(ctx, folder, 12, 0, 20, 3, func(m *resource.Measurement, point int) { m.Name = fmt.Sprint("stage ", point) })
	if err != nil {
		return err
	}
	kept, err := store.Open(ctx, filepath.Join(folder, "heron.sqlite"))
	if err != nil {
		return err
	}
	for n := range 20 {
		sheet := fmt.Sprintf("name: need %d\nsurvives: [any member]\nuses:\n", n)
		for use := range 5 {
			sheet += fmt.Sprintf("  - {name: use %d, stage: stage %d, bounds: {iops: at least 900, p99: at most 20ms}}\n", use, (n+4*use)%20)
		}
		if _, err := kept.AddNeed(ctx, resource.NeedSheet{Name: fmt.Sprint("need ", n), Text: sheet}); err != nil {
			return errors.Join(err, kept.Close())
		}
	}
	if err := kept.Close(); err != nil {
		return err
	}
	question, err := json.Marshal(resource.NewVerdicts{Setups: groups})
	if err != nil {
		return err
	}
	took, err := asking(ctx, folder, "/needs/judge", question)
	row("judging twelve setups by twenty needs, from the store", "under 300 ms", "%.0f ms", took)
	return err
}

// answered sends a question and reads the whole answer.
func answered(url, token string, question []byte) error {
	request, err := http.NewRequest(http.MethodPost, url, bytes.NewReader(question))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil || answer.StatusCode != http.StatusOK {
		return fmt.Errorf("the service answered %s: %w", answer.Status, err)
	}
	return nil
}

// someRuns puts runs of so many points with some repeats into a store, in turn on so many real
// volumes where there are any; named says what a measurement is of.
func someRuns(ctx context.Context, folder string, runs, volumes, points, repeats int, named func(m *resource.Measurement, point int)) (groups []resource.Group, err error) {
	kept, err := store.Open(ctx, filepath.Join(folder, "heron.sqlite"))
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	random := rand.New(rand.NewPCG(9, 200))
	h := measure.NewHistogram()
	for range 20_000 {
		h.Record(int64(1e6 * random.ExpFloat64()))
	}
	for n := range runs {
		run := resource.Run{Name: fmt.Sprintf("run %d", n), Status: resource.Finished, Setup: setup.Setup{Facts: []setup.Fact{}}}
		if volumes > 0 {
			if run.VolumeID, err = volumeOf(ctx, kept, n%volumes); err != nil {
				return nil, err
			}
			run.Volume.Kind = "folder"
		}
		run, err := kept.AddRun(ctx, run)
		if err != nil {
			return nil, err
		}
		for point := range points {
			for repeat := range repeats {
				m := resource.Measurement{RunID: run.ID, Position: point*repeats + repeat + 1, Stage: 1, Repeat: repeat + 1, Repeats: repeats, Status: resource.Running, Load: workload.Default()}
				named(&m, point)
				m, err := kept.AddMeasurement(ctx, m)
				if err != nil {
					return nil, err
				}
				f := measure.Figures{Operations: h.Count(), Rate: quantity.OpRate(1000 + 50*random.NormFloat64()), Latency: h.Latency()}
				f.Throughput = quantity.ByteRate(f.Rate) * 4096
				m.Status, m.Summary = resource.Finished, &measure.Summary{Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}
				if err := kept.EndMeasurement(ctx, m, map[measure.Class]*measure.Histogram{measure.Read: h}); err != nil {
					return nil, err
				}
			}
		}
		groups = append(groups, resource.Group{Runs: []int64{run.ID}})
	}
	return groups, nil
}

// volumeOf is the volume of a number, which is added when it is first asked for.
func volumeOf(ctx context.Context, kept *store.Store, number int) (int64, error) {
	name := fmt.Sprint("volume ", number)
	all, _, err := kept.Volumes(ctx)
	if err != nil {
		return 0, err
	}
	if i := slices.IndexFunc(all, func(v resource.Volume) bool { return v.Name == name }); i >= 0 {
		return all[i].ID, nil
	}
	v, err := kept.AddVolume(ctx, resource.Volume{Name: name, Kind: "folder", Locator: "/srv/" + name})
	return v.ID, err
}

// looking times a look at a file system over 64 loop devices.
func looking() (err error) {
	folder, err := os.MkdirTemp("", "heron-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	var devices []string
	defer func() {
		for _, device := range devices {
			_ = exec.Command("losetup", "--detach", device).Run()
		}
	}()
	for i := range 64 {
		file := filepath.Join(folder, fmt.Sprint(i))
		if err := exec.Command("truncate", "--size", "256M", file).Run(); err != nil {
			return err
		}
		device, err := exec.Command("losetup", "--find", "--show", file).Output()
		if err != nil {
			return fmt.Errorf("make a loop device: %w", err)
		}
		devices = append(devices, strings.TrimSpace(string(device)))
	}
	if out, err := exec.Command("mkfs.btrfs", append([]string{"-q", "-f", "-d", "raid0", "-m", "raid1"}, devices...)...).CombinedOutput(); err != nil {
		return fmt.Errorf("make a file system: %w: %s", err, out)
	}
	point := filepath.Join(folder, "mounted")
	if err := os.Mkdir(point, 0o700); err != nil {
		return err
	}
	if out, err := exec.Command("mount", devices[0], point).CombinedOutput(); err != nil {
		return fmt.Errorf("mount: %w: %s", err, out)
	}
	defer func() { _ = exec.Command("umount", "--lazy", point).Run() }()
	members := ""
	took, err := middle(func() error {
		l := look.At(context.Background(), look.Request{Locator: point})
		members = l.Setup.Text("media[0].count")
		return nil
	})
	row("looking at a file system over 64 block devices", "under 2000 ms", "%.0f ms (%s members found; 250 ms of it watch whether they are idle)", took, members)
	return err
}

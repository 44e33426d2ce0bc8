package main

import (
	"bytes"
	"errors"
	"io"
	"os"
	"runtime/pprof"
)

// profile writes where the time goes in what the product spends its time with, which the
// compiler then makes faster (profile-guided optimisation). The file is there whole or not
// at all.
func profile(path string) error {
	var taken bytes.Buffer // what writes a profile does not tell of a full disk
	if err := profiled(&taken); err != nil {
		return err
	}
	plain, err := withoutPaths(taken.Bytes())
	if err != nil {
		return err
	}
	written := path + ".new"
	if err := os.WriteFile(written, plain, 0o644); err != nil {
		return errors.Join(err, os.Remove(written))
	}
	return os.Rename(written, path)
}

func profiled(into io.Writer) error {
	narrow = usual // nobody reads the ratios
	if err := pprof.StartCPUProfile(into); err != nil {
		return err
	}
	defer pprof.StopCPUProfile()
	for _, part := range []func() error{nullVolume, simulatedArrays, smallFiles, overISCSI, comparing} {
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

package uring

import (
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// ring opens a ring on a thread of the test's own.
func ring(t *testing.T, entries int) *Ring {
	t.Helper()
	runtime.LockOSThread()
	t.Cleanup(runtime.UnlockOSThread)
	r, err := Open(entries)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// all enters until so many answers came, and gives their results by token.
func all(t *testing.T, r *Ring, count int) map[uint64]int32 {
	t.Helper()
	results := map[uint64]int32{}
	for end := time.Now().Add(time.Minute); len(results) < count; {
		if err := r.Enter(100 * time.Millisecond); err != nil {
			t.Fatal(err)
		}
		for {
			token, result, ok := r.Take()
			if !ok {
				break
			}
			results[token] = result
		}
		if time.Now().After(end) {
			t.Fatalf("%d of %d were answered", len(results), count)
		}
	}
	return results
}

// What is handed over is done: with and without registered files and buffers, also
// many times around the ring.
func TestOperationsAreDone(t *testing.T) {
	for _, registered := range []bool{false, true} {
		r := ring(t, 8)
		file, err := os.Create(filepath.Join(t.TempDir(), "file"))
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		memory, err := unix.Mmap(-1, 0, 8*4096, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			t.Fatal(err)
		}
		buffers := make([][]byte, 8)
		for i := range buffers {
			buffers[i] = memory[i*4096 : (i+1)*4096]
		}
		fd, read, write := int(file.Fd()), ReadPlain, WritePlain
		if registered {
			if err := r.RegisterBuffers(buffers); err != nil {
				t.Fatal(err)
			}
			if err := r.RegisterFile(fd); err != nil {
				t.Fatal(err)
			}
			fd, read, write = 0, ReadFixed, WriteFixed
		}
		if f := r.Features(); f.Buffers != registered || f.Files != registered {
			t.Errorf("features %+v", f)
		}
		want := []byte{}
		for round := range 20 {
			for i := range 8 {
				for j := range buffers[i] {
					buffers[i][j] = byte(round*31 + i*7 + j)
				}
				r.Prepare(write, fd, buffers[i], int64(round*8+i)*4096, i, uint64(i))
				want = append(want, buffers[i]...)
			}
			for token, result := range all(t, r, 8) {
				if result != 4096 {
					t.Fatalf("write %d gave %d", token, result)
				}
			}
		}
		r.Prepare(Fsync, fd, nil, 0, 0, 99)
		if result := all(t, r, 1); result[99] != 0 {
			t.Errorf("a flush gave %d", result[99])
		}
		r.Prepare(read, fd, buffers[0], 5*4096, 0, 1)
		all(t, r, 1)
		got, err := os.ReadFile(file.Name())
		if err != nil || !bytes.Equal(got, want) || !bytes.Equal(buffers[0], want[5*4096:6*4096]) {
			t.Errorf("what was written is not in the file, or was read otherwise (%v)", err)
		}
		r.Prepare(read, fd, buffers[0], int64(len(want)), 0, 2)
		if result := all(t, r, 1); result[2] != 0 {
			t.Errorf("a read past the end gave %d", result[2])
		}
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	}
}

// Errors are negative numbers of the system.
func TestErrorsAreGivenBack(t *testing.T) {
	r := ring(t, 2)
	defer r.Close()
	r.Prepare(ReadPlain, 1<<20, make([]byte, 16), 0, 0, 7)
	if result := all(t, r, 1); syscall.Errno(-result[7]) != syscall.EBADF {
		t.Errorf("a read of no file gave %d", result[7])
	}
}

// A wait ends when its time is over, and at zero it only looks.
func TestWaitsEnd(t *testing.T) {
	r := ring(t, 2)
	defer r.Close()
	began := time.Now()
	for _, wait := range []time.Duration{0, 20 * time.Millisecond} {
		if err := r.Enter(wait); err != nil || r.Ready() != 0 {
			t.Errorf("waiting %s: %v, %d ready", wait, err, r.Ready())
		}
	}
	if took := time.Since(began); took < 20*time.Millisecond {
		t.Errorf("a wait of 20 ms took %s", took)
	}
	for range 20 { // also after others, and between those that what is ready ends
		r.Prepare(Nop, -1, nil, 0, 0, 1)
		all(t, r, 1)
		began = time.Now()
		for range 3 {
			if err := r.Enter(time.Millisecond); err != nil {
				t.Fatal(err)
			}
		}
		if took := time.Since(began); took < 3*time.Millisecond {
			t.Errorf("three waits of 1 ms took %s", took)
		}
	}
}

// A thread may have more rings than it can have references of its own to, and they are free
// for others when rings are closed.
func TestManyRingsOfOneThread(t *testing.T) {
	const most = 16 // IO_RINGFD_REG_MAX
	for round := range 3 {
		var rings []*Ring
		own := 0
		for i := range most + 4 {
			r := ring(t, 2)
			rings = append(rings, r)
			if r.enterFlags != 0 {
				own++
			}
			r.Prepare(Nop, -1, nil, 0, 0, uint64(i))
		}
		if own != 0 && own != most { // kernels before 5.18 know of none
			t.Errorf("round %d: %d rings have a reference of the thread's own", round, own)
		}
		for i, r := range rings {
			if result, ok := all(t, r, 1)[uint64(i)]; result != 0 || !ok {
				t.Errorf("ring %d gave %d", i, result)
			}
			if err := r.Close(); err != nil {
				t.Error(err)
			}
		}
	}
}

// Operations that wait for what never comes are called back, and those that are
// answered meanwhile are counted.
func TestCallBack(t *testing.T) {
	r := ring(t, 4)
	defer r.Close()
	var pipe [2]int
	if err := unix.Pipe2(pipe[:], unix.O_CLOEXEC); err != nil {
		t.Fatal(err)
	}
	defer unix.Close(pipe[0])
	defer unix.Close(pipe[1])
	for token := range uint64(3) {
		r.Prepare(ReadPlain, pipe[0], make([]byte, 16), 0, 0, token)
	}
	if err := r.Enter(0); err != nil {
		t.Fatal(err)
	}
	if left := r.CallBack(3, 10*time.Second); left != 0 {
		t.Errorf("%d of three reads of an empty pipe are still in flight", left)
	}
}

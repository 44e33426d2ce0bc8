package localfile

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// nobody is a user without any right of its own.
const nobody = 65534

// A trick is what somebody who may write to a measured folder does with a tree in it, to have
// the heron work elsewhere: done once, and undone.
type trick struct {
	play  func(folder, tree, outside string) bool
	times int  // how often it has to succeed
	root  bool // played by root, who alone can reach into a tree and mount
}

var tricks = map[string]trick{
	"a link in the place of the tree": {times: 10_000, play: func(folder, tree, outside string) bool {
		away := filepath.Join(folder, "away")
		if os.Rename(filepath.Join(folder, tree), away) != nil {
			return false
		}
		_ = os.Symlink(outside, filepath.Join(folder, tree))
		_ = os.Remove(filepath.Join(folder, tree))
		_ = os.Rename(away, filepath.Join(folder, tree))
		return true
	}},
	"a link that stays in the place of the tree": {times: 100, play: func(folder, tree, outside string) bool {
		return os.Rename(filepath.Join(folder, tree), filepath.Join(folder, "away")) == nil && os.Symlink(outside, filepath.Join(folder, tree)) == nil
	}},
	"a folder of links in the place of the tree": {times: 10_000, play: func(folder, tree, outside string) bool {
		away, mine := filepath.Join(folder, "away"), filepath.Join(folder, "mine")
		_ = os.Mkdir(mine, 0o777)
		_ = os.Symlink(outside, filepath.Join(mine, inTree))
		_ = os.Symlink(filepath.Join(outside, "precious"), filepath.Join(mine, "uncached"))
		_ = os.Symlink(filepath.Join(outside, "precious"), filepath.Join(mine, ownerName))
		if os.Rename(filepath.Join(folder, tree), away) != nil {
			return false
		}
		_ = os.Rename(mine, filepath.Join(folder, tree))
		_ = os.Rename(filepath.Join(folder, tree), mine)
		_ = os.Rename(away, filepath.Join(folder, tree))
		return true
	}},
	"a link in the place of a file": {times: 2000, root: true, play: func(folder, tree, outside string) bool {
		leaf := swappedLeaf()
		return linkedFor(filepath.Join(folder, tree, inTree, leaf), filepath.Join(outside, leaf))
	}},
	"a link in the place of a folder of files": {times: 2000, root: true, play: func(folder, tree, outside string) bool {
		of := filepath.Dir(swappedLeaf())
		return linkedFor(filepath.Join(folder, tree, inTree, of), filepath.Join(outside, of))
	}},
	"a mount over a file": {times: 2000, root: true, play: func(folder, tree, outside string) bool {
		leaf := swappedLeaf()
		return mountedFor(filepath.Join(folder, tree, inTree, leaf), filepath.Join(outside, leaf))
	}},
	"a mount over a folder of files": {times: 2000, root: true, play: func(folder, tree, outside string) bool {
		of := filepath.Dir(swappedLeaf())
		return mountedFor(filepath.Join(folder, tree, inTree, of), filepath.Join(outside, of))
	}},
	"a mount over all files": {times: 2000, root: true, play: func(folder, tree, outside string) bool {
		return mountedFor(filepath.Join(folder, tree, inTree), outside)
	}},
}

// swappedLeaf is one of the files of a swapped load.
var swappedLeaf = sync.OnceValue(func() string {
	files, err := loadfiles.Of(swappedLoad(loadfiles.Put)).WorkedOut()
	if err != nil {
		panic(err)
	}
	return string(files.Path(nil, 1))
})

// linkedFor puts a link in the place of something, for a moment.
func linkedFor(place, target string) bool {
	if os.Rename(place, place+".away") != nil {
		return false
	}
	linked := os.Symlink(target, place) == nil
	time.Sleep(100 * time.Microsecond)
	_ = os.Remove(place)
	_ = os.Rename(place+".away", place)
	return linked
}

// mountedFor mounts something over a place, for a moment.
func mountedFor(place, what string) bool {
	if unix.Mount(what, place, "", unix.MS_BIND, "") != nil {
		return false
	}
	time.Sleep(100 * time.Microsecond)
	for unix.Unmount(place, unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW) == nil { // what was there meanwhile comes to light again
	}
	return true
}

// TestSwapping is another process that plays tricks as another user, until it has done so as
// often as it was told.
func TestSwapping(t *testing.T) {
	trick, folder, outside := tricks[os.Getenv("HERON_TRICK")], os.Getenv("HERON_FOLDER"), os.Getenv("HERON_OUTSIDE")
	if trick.play == nil {
		return // an ordinary test run
	}
	done := 0
	for end := time.Now().Add(2 * time.Minute); done < trick.times && time.Now().Before(end); {
		entries, _ := os.ReadDir(folder)
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), treePrefix) && e.IsDir() && trick.play(folder, e.Name(), outside) {
				done++
			}
		}
		_ = os.Remove(filepath.Join(folder, "away")) // an empty tree that was moved
	}
	fmt.Println("played", done)
}

// outsideOf is a folder with files of the names that a tree has, which must stay as they are.
func outsideOf(t *testing.T, spec workload.Spec) (outside string, intact func() error) {
	t.Helper()
	outside = t.TempDir()
	files, err := loadfiles.Of(spec).WorkedOut()
	if err != nil {
		t.Fatal(err)
	}
	names := []string{"precious", ownerName, "uncached"}
	for i := range files.Len() {
		names = append(names, string(files.Path(nil, i)), filepath.Join(inTree, string(files.Path(nil, i))))
	}
	for _, name := range names {
		path := filepath.Join(outside, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte("precious"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	return outside, func() error {
		count := 0
		err := filepath.WalkDir(outside, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			count++
			if text, err := os.ReadFile(path); err != nil || string(text) != "precious" {
				return fmt.Errorf("%s was written over: %q (%v)", path, text, err)
			}
			return nil
		})
		if err == nil && count != len(names) {
			err = fmt.Errorf("%d files of %d are left", count, len(names))
		}
		return err
	}
}

// round makes a tree, works on it and removes it, as a run does. What the tricks break is said,
// and nothing else happens.
func round(t *testing.T, folder string, traces volume.Traces, spec workload.Spec) error {
	v, err := Opener{Traces: traces}.prepare(t.Context(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Files: []workload.Spec{spec}, NoBlocks: true})
	if err != nil {
		return err
	}
	defer v.Close()
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		return err
	}
	used, err := v.Use(t.Context(), spec)
	if err != nil {
		return err
	}
	defer used.Close()
	outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: used, Clock: load.NewMonotonic()})
	if err != nil {
		return err
	}
	return outcome.Failure
}

// tracesTogether are traces for several goroutines.
type tracesTogether struct {
	sync.Mutex
	of noted
}

func (n *tracesTogether) Note(path, nonce string) error {
	n.Lock()
	defer n.Unlock()
	return n.of.Note(path, nonce)
}
func (n *tracesTogether) Forget(path string) { n.Lock(); defer n.Unlock(); n.of.Forget(path) }
func (n *tracesTogether) Left(string)        {}

// left are the trees that were noted and not forgotten.
func (n *tracesTogether) left() noted {
	n.Lock()
	defer n.Unlock()
	all := noted{}
	for path, nonce := range n.of {
		all[path] = nonce
	}
	return all
}

func swappedLoad(task loadfiles.Task) workload.Spec {
	s := workload.Default()
	loadfiles.Use(&s, fileset.Set{Classes: []fileset.Class{{Name: "notes", Number: 12, Size: fileset.Sizes{Fixed: 3000}, Folders: fileset.Folders{Files: 4, Deep: 1}}}})
	loadfiles.Of(s).Tasks = []loadfiles.TaskShare{{Task: task, Weight: 1}}
	s.For, s.Passes, s.Depth, s.Cached = 0, 1, 4, true
	return s
}

// Whoever may write to a folder that is measured cannot have a service of root's write, read
// or remove anything anywhere else: not while a tree is made, worked on or removed, and not
// when what was left behind is removed later.
func TestTreesAreWorkedOnByDescriptorAlone(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("another user is needed, and so root")
		return
	}
	spec := swappedLoad(loadfiles.Put)
	for name, trick := range tricks {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // each in a folder of its own
			outside, intact := outsideOf(t, spec)
			folder := t.TempDir()
			if err := errors.Join(os.Chmod(folder, 0o777), os.Chown(folder, nobody, nobody), reachable(folder)); err != nil {
				t.Fatal(err)
			}
			helper := filepath.Join(t.TempDir(), "helper") // which the other user may run
			if out, err := exec.Command("cp", os.Args[0], helper).CombinedOutput(); err != nil {
				t.Fatal(string(out))
			}
			if err := errors.Join(os.Chmod(helper, 0o755), reachable(filepath.Dir(helper)), reachable(outside)); err != nil {
				t.Fatal(err)
			}
			other := exec.Command(helper, "-test.run=^TestSwapping$")
			other.Dir = folder
			other.Env = append(os.Environ(), "HERON_TRICK="+name, "HERON_FOLDER="+folder, "HERON_OUTSIDE="+outside)
			if !trick.root {
				other.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
			}
			out, err := other.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := other.Start(); err != nil {
				t.Fatal(err)
			}
			played := make(chan int, 1)
			go func() {
				for lines := bufio.NewScanner(out); lines.Scan(); {
					done := 0
					if _, err := fmt.Sscanf(lines.Text(), "played %d", &done); err == nil {
						played <- done
					}
				}
				close(played)
			}()
			spec := spec
			if trick.root {
				spec.Passes = 100 // for load to take as long as making and removal
			}
			traces := &tracesTogether{of: noted{}}
			rounds, through := 0, 0
			for over := false; !over; rounds++ {
				if round(t, folder, traces, spec) == nil {
					through++
				}
				for path, nonce := range traces.left() {
					if RemoveLeft(path, nonce) == nil {
						traces.Forget(path)
					}
				}
				select {
				case done := <-played:
					over = true
					if done < trick.times {
						t.Errorf("played %d times of %d", done, trick.times)
					}
				default:
				}
			}
			_ = other.Wait()
			t.Logf("%d rounds, %d of them undisturbed", rounds, through)
			if err := intact(); err != nil {
				t.Error(err)
			}
			for path, nonce := range traces.left() {
				if err := RemoveLeft(path, nonce); err == nil {
					continue
				} else if !strings.Contains(err.Error(), "stays") && !strings.Contains(err.Error(), "too many levels") && !strings.Contains(err.Error(), "not a directory") {
					t.Errorf("what is left is not named: %v", err)
				}
			}
			if err := intact(); err != nil {
				t.Error(err)
			}
		})
	}
}

// reachable lets others enter a folder of the test, and those above it.
func reachable(folder string) error {
	for at := folder; at != os.TempDir() && at != "/"; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err == nil {
			err = os.Chmod(at, info.Mode()|0o055)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// What is put within a tree, by somebody who may do anything, is not followed either: links
// in the place of files and folders, and what is mounted there.
func TestWhatIsPutWithinATreeIsNotFollowed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("mounts need root")
		return
	}
	spec := swappedLoad(loadfiles.Fetch)
	files, err := loadfiles.Of(spec).WorkedOut()
	if err != nil {
		t.Fatal(err)
	}
	leaf := string(files.Path(nil, 1))
	for name, c := range map[string]struct {
		put   func(t *testing.T, tree, outside string) error
		stays bool
	}{
		"a link in the place of a file": {func(_ *testing.T, tree, outside string) error {
			return errors.Join(os.Remove(filepath.Join(tree, inTree, leaf)), os.Symlink(filepath.Join(outside, leaf), filepath.Join(tree, inTree, leaf)))
		}, false},
		"a hard link in the place of a file": {func(_ *testing.T, tree, outside string) error {
			return errors.Join(os.Remove(filepath.Join(tree, inTree, leaf)), os.Link(filepath.Join(outside, "precious"), filepath.Join(tree, inTree, leaf+".more")))
		}, false},
		"a link in the place of a folder": {func(_ *testing.T, tree, outside string) error {
			folder := filepath.Join(tree, inTree, filepath.Dir(leaf))
			return errors.Join(os.Rename(folder, folder+".old"), os.Symlink(filepath.Join(outside, filepath.Dir(leaf)), folder))
		}, false},
		"a link in the place of all files": {func(_ *testing.T, tree, outside string) error {
			return errors.Join(os.Rename(filepath.Join(tree, inTree), filepath.Join(tree, "old")), os.Symlink(outside, filepath.Join(tree, inTree)))
		}, false},
		"a mount over a folder": {func(t *testing.T, tree, outside string) error {
			return bound(t, filepath.Join(outside, filepath.Dir(leaf)), filepath.Join(tree, inTree, filepath.Dir(leaf)))
		}, true},
		"a mount over all files": {func(t *testing.T, tree, outside string) error {
			return bound(t, outside, filepath.Join(tree, inTree))
		}, true},
		"a mount over a file": {func(t *testing.T, tree, outside string) error {
			return bound(t, filepath.Join(outside, "precious"), filepath.Join(tree, inTree, leaf))
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			outside, intact := outsideOf(t, spec)
			traces := noted{}
			v := planted(t, t.TempDir(), traces, spec)
			if err := v.Ready(t.Context(), spec, nil); err != nil {
				t.Fatal(err)
			}
			tree := v.trees[0].path
			nonce := traces[tree]
			if err := c.put(t, tree, outside); err != nil {
				t.Fatal(err)
			}
			for _, threads := range []bool{false, true} {
				for _, task := range []loadfiles.Task{loadfiles.Fetch, loadfiles.Save, loadfiles.Put} {
					more := swappedLoad(task)
					used, err := v.Use(t.Context(), more)
					if err != nil {
						continue
					}
					if threads {
						used = byThreads{used.(*openedTree)}
					}
					_, _ = load.Run(t.Context(), load.Job{Workload: more, Volume: used, Clock: load.NewMonotonic()})
					used.Close()
				}
			}
			if err := intact(); err != nil {
				t.Errorf("by the load: %v", err)
			}
			err := v.Close()
			var stays *StaysError
			if c.stays != errors.As(err, &stays) || !c.stays && err != nil {
				t.Errorf("removed: %v", err)
			}
			if err := intact(); err != nil {
				t.Errorf("by the removal: %v", err)
			}
			if c.stays {
				if !strings.Contains(err.Error(), "unmount") {
					t.Errorf("it does not say what to do: %v", err)
				}
				if err := RemoveLeft(tree, nonce); err == nil {
					t.Error("what was left behind with a mount in it is said to be removed")
				}
				if err := intact(); err != nil {
					t.Errorf("by removing what was left: %v", err)
				}
				_ = exec.Command("umount", "--lazy", stays.Path).Run()
				if err := RemoveLeft(tree, nonce); err != nil {
					t.Errorf("unmounted: %v", err)
				}
			}
			if _, err := os.Stat(tree); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("it is still there: %v", err)
			}
		})
	}
}

// bound mounts something over a place.
func bound(t *testing.T, what, over string) error {
	err := unix.Mount(what, over, "", unix.MS_BIND, "")
	t.Cleanup(func() { _ = unix.Unmount(over, unix.MNT_DETACH) })
	return err
}

// A folder under the name of a tree that bears another nonce, or none, stays.
func TestAFolderThatIsNotOursStays(t *testing.T) {
	for name, c := range map[string]struct {
		mode  fs.FileMode
		owner string
	}{
		"another nonce": {0o700, "another"}, "no nonce": {0o700, ""}, "open to others": {0o755, "nonce"},
	} {
		path := filepath.Join(t.TempDir(), treePrefix+"ABCDEFGHIJKLMNOPQRSTUVWX23")
		if err := errors.Join(os.Mkdir(path, c.mode), os.WriteFile(filepath.Join(path, "data"), []byte("x"), 0o600)); err != nil {
			t.Fatal(err)
		}
		if c.owner != "" {
			if err := os.WriteFile(filepath.Join(path, ownerName), []byte(c.owner), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		var stays *StaysError
		if err := RemoveLeft(path, "nonce"); !errors.As(err, &stays) {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := os.Stat(filepath.Join(path, "data")); err != nil {
			t.Errorf("%s: it was removed", name)
		}
	}
}

// Package peer runs real peers of the network protocols that the product speaks, as
// plain processes on loopback, for tests.
package peer

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// T is what peers need of a *testing.T.
type T interface {
	Helper()
	Fatal(...any)
	Fatalf(string, ...any)
	Cleanup(func())
}

// Tgt is a real iSCSI target (Debian's tgt) in a process of its own, with one logical
// unit, number 1, over a file.
type Tgt struct {
	Ports []string // of its portals, as address:port
	File  string   // that the unit is kept in

	t      T
	socket string
	daemon *exec.Cmd
}

const (
	// Target is its name, and Size that of its unit in bytes.
	Target = "iqn.2026-01.example:store"
	Size   = 64 << 20
)

// StartTgt starts one with so many portals on this host.
func StartTgt(t T, portals int) *Tgt {
	t.Helper()
	folder, err := os.MkdirTemp("", "tgt-") // a socket has to have a short name
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	g := &Tgt{t: t, socket: filepath.Join(folder, "socket"), File: filepath.Join(folder, "unit")}
	if err := os.WriteFile(g.File, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(g.File, Size); err != nil {
		t.Fatal(err)
	}
	for range portals {
		g.Ports = append(g.Ports, FreePort(t))
	}
	g.Start()
	return g
}

// program finds one that may be where only an administrator looks.
func program(t T, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		path, err = exec.LookPath("/usr/sbin/" + name)
	}
	if err != nil {
		t.Fatalf("%v; 'make install-test-needs' installs it", err)
	}
	return path
}

// FreePort is an address of this host on which nobody listens.
func FreePort(t T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// Start starts it again after Stop, with the unit as it was.
func (g *Tgt) Start() {
	g.t.Helper()
	g.daemon = exec.Command(program(g.t, "tgtd"), "-f", "-C", "7", "--iscsi", "portal="+strings.Join(g.Ports, ",portal="))
	g.daemon.Env = append(os.Environ(), "TGT_IPC_SOCKET="+g.socket)
	var says bytes.Buffer
	g.daemon.Stderr, g.daemon.Stdout = &says, &says
	if err := g.daemon.Start(); err != nil {
		g.t.Fatal(err)
	}
	g.t.Cleanup(g.Stop)
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		out, err := g.try("--lld", "iscsi", "--op", "new", "--mode", "target", "--tid", "1", "-T", Target)
		if err == nil {
			break
		}
		if time.Now().After(end) {
			g.t.Fatalf("tgtd does not start: %v: %s%s", err, out, says.String())
		}
	}
	g.Admin("--lld", "iscsi", "--op", "new", "--mode", "logicalunit", "--tid", "1", "--lun", "1", "--backing-store", g.File)
	g.Admin("--lld", "iscsi", "--op", "update", "--mode", "logicalunit", "--tid", "1", "--lun", "1", "--params", "thin_provisioning=1")
	g.Admin("--lld", "iscsi", "--op", "bind", "--mode", "target", "--tid", "1", "-I", "ALL")
}

// Stop kills it, as a failure would.
func (g *Tgt) Stop() {
	if g.daemon != nil {
		_ = g.daemon.Process.Kill()
		_ = g.daemon.Wait()
		g.daemon = nil
		_ = os.Remove(g.socket)
	}
}

// Pause lets it hang, and go on.
func (g *Tgt) Pause(hang bool) {
	signal := syscall.SIGCONT
	if hang {
		signal = syscall.SIGSTOP
	}
	_ = g.daemon.Process.Signal(signal)
}

func (g *Tgt) try(arguments ...string) (string, error) {
	command := exec.Command(program(g.t, "tgtadm"), append([]string{"-C", "7"}, arguments...)...)
	command.Env = append(os.Environ(), "TGT_IPC_SOCKET="+g.socket)
	out, err := command.CombinedOutput()
	return string(out), err
}

// Admin calls its administration (tgtadm).
func (g *Tgt) Admin(arguments ...string) {
	g.t.Helper()
	if out, err := g.try(arguments...); err != nil {
		g.t.Fatalf("tgtadm %s: %v: %s", strings.Join(arguments, " "), err, out)
	}
}

// Set limits what the target agrees to.
func (g *Tgt) Set(key, value string) {
	g.t.Helper()
	g.Admin("--lld", "iscsi", "--op", "update", "--mode", "target", "--tid", "1", "--name", key, "--value", value)
}

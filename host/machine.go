package host

import (
	"path/filepath"
	"strings"

	"github.com/prometheus/procfs"

	"patientheron/core/quantity"
)

// machine reads what matters of the host itself.
func (w *walk) machine() {
	if proc, err := procfs.NewFS(w.proc); err == nil {
		if memory, err := ask(w.ctx, w.limit, w.proc, "memory", proc.Meminfo); err == nil && memory.MemTotalBytes != nil {
			w.know("host.memory", quantity.Bytes(*memory.MemTotalBytes)/quantity.MiB*quantity.MiB)
		} else {
			w.trouble("the memory of this host cannot be read")
		}
		if cores, err := ask(w.ctx, w.limit, w.proc, "cores", proc.CPUInfo); err == nil && len(cores) > 0 {
			w.know("host.cores", len(cores))
			if model := cores[0].ModelName; model != "" {
				w.know("host.cpu", model)
			}
		}
	}
	nodes := 0
	for _, name := range w.names(w.ctx, w.sys, "devices/system/node") {
		if number, found := strings.CutPrefix(name, "node"); found && strings.Trim(number, "0123456789") == "" {
			nodes++
		}
	}
	if nodes > 0 {
		w.know("host.numaNodes", nodes)
	}
	if kernel, err := w.text(w.ctx, w.proc, "sys/kernel/osrelease"); err == nil {
		w.know("host.kernel", kernel)
	}
	if governor, err := w.text(w.ctx, w.sys, "devices/system/cpu/cpu0/cpufreq/scaling_governor"); err == nil {
		w.know("host.governor", governor)
	}
}

// session reads the parameters of the iSCSI session that a disk came over.
func (w *walk) session(real string) bool {
	for part := range strings.SplitSeq(real, "/") {
		number, isSession := strings.CutPrefix(part, "session")
		if !isSession || strings.Trim(number, "0123456789") != "" || number == "" {
			continue
		}
		w.know("transport.protocol", "iscsi")
		folder := filepath.Join(w.sys, "class/iscsi_session", part)
		for _, name := range []string{"first_burst_len", "max_burst_len", "initial_r2t", "immediate_data", "max_outstanding_r2t", "recovery_tmo"} {
			if text, err := w.text(w.ctx, folder, name); err == nil && text != "" {
				w.know("session."+name, text)
			}
		}
		connection := filepath.Join(w.sys, "class/iscsi_connection/connection"+number+":0")
		if address, err := w.text(w.ctx, connection, "address"); err == nil {
			w.know("transport.address", address)
			w.link(address)
		}
		return true
	}
	return false
}

// fabric reads where the namespace of an NVMe controller that is reached over a
// network is, and reports whether it is one.
func (w *walk) fabric(name, real string) bool {
	controllers := []string{filepath.Dir(real)}
	for _, entry := range w.names(w.ctx, filepath.Dir(real)) { // below a subsystem, which several may serve
		if number, is := strings.CutPrefix(entry, "nvme"); is && strings.HasPrefix(name, entry+"n") && strings.Trim(number, "0123456789") == "" {
			controllers = append(controllers, filepath.Join(filepath.Dir(real), entry))
		}
	}
	for _, folder := range controllers {
		transport, err := w.text(w.ctx, folder, "transport")
		if err != nil || transport == "pcie" || transport == "" {
			continue
		}
		w.know("transport.protocol", "nvme")
		w.know("transport.options", transport)
		address, _ := w.text(w.ctx, folder, "address")
		for part := range strings.SplitSeq(address, ",") {
			if to, is := strings.CutPrefix(part, "traddr="); is {
				w.know("transport.address", to)
				w.link(to)
			}
		}
		return true
	}
	return false
}

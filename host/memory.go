package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"

	"patientheron/core/quantity"
)

// MemoryLeft is how much memory this process can still take: what the host has
// available (proc_meminfo(5), MemAvailable), or less where a control group
// limits it.
func MemoryLeft() (quantity.Bytes, error) { return memoryLeft("/") }

func memoryLeft(root string) (quantity.Bytes, error) {
	proc, err := procfs.NewFS(filepath.Join(root, "proc"))
	if err != nil {
		return 0, fmt.Errorf("look at this host's memory: %w", err)
	}
	memory, err := proc.Meminfo()
	if err != nil || memory.MemAvailableBytes == nil {
		return 0, fmt.Errorf("look at this host's memory: %w", err)
	}
	left := quantity.Bytes(*memory.MemAvailableBytes)
	for _, g := range memoryGroups(root) {
		if limit, used := g.number("limit"), g.number("used"); limit > 0 && used >= 0 {
			left = min(left, max(limit-used, 0))
		}
	}
	return left, nil
}

// MemoryLimit is the limit that control groups set to this process; 0 for none.
func MemoryLimit() quantity.Bytes { return memoryLimit("/") }

func memoryLimit(root string) (lowest quantity.Bytes) {
	for _, g := range memoryGroups(root) {
		if limit := g.number("limit"); limit > 0 && (lowest == 0 || limit < lowest) {
			lowest = limit
		}
	}
	return lowest
}

// group is a control group that accounts for memory.
type group map[string]string // files by what they hold

// number reads one of its files; 0 where it sets no limit, -1 where there is
// none.
func (g group) number(what string) quantity.Bytes {
	text, err := os.ReadFile(g[what])
	if err != nil {
		return -1
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil || n >= 1<<60 { // "max", or what version 1 writes for none
		return 0
	}
	return quantity.Bytes(n)
}

// memoryGroups are the groups that account for this process's memory.
func memoryGroups(root string) (groups []group) {
	for _, g := range controlGroups(root, "memory") {
		limit, used := "memory.max", "memory.current"
		if g.first {
			limit, used = "memory.limit_in_bytes", "memory.usage_in_bytes"
		}
		groups = append(groups, group{"limit": filepath.Join(g.folder, limit), "used": filepath.Join(g.folder, used)})
	}
	return groups
}

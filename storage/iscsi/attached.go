package iscsi

import (
	"os"
	"path/filepath"
	"strings"
)

// attached says whether this host has the unit of a name as a block device too, over an
// initiator of its own: who writes over one way does not see who uses the other.
func attached(name string) string {
	if name == "" {
		return ""
	}
	places, _ := filepath.Glob("/sys/class/block/*/device/wwid")
	for _, place := range places {
		if text, err := os.ReadFile(place); err == nil && strings.TrimSpace(string(text)) == name {
			device := filepath.Base(filepath.Dir(filepath.Dir(place)))
			return "this host has it attached as /dev/" + device
		}
	}
	return ""
}

// Package setup holds the facts about what stands behind a volume.
//
// So far it knows what one look at a locator tells: how large, how free, on
// which file system and device. It reads nothing itself; package storage and
// package host do.
package setup

import "patientheron/core/quantity"

// Facts describe what a locator names, as it was found.
type Facts struct {
	Size       quantity.Bytes `json:"sizeBytes" doc:"Bytes that can be addressed; of a folder, the size of its file system"`
	Free       quantity.Bytes `json:"freeBytes" doc:"Bytes free for a test file in a folder; otherwise zero"`
	Alignment  quantity.Bytes `json:"alignmentBytes" doc:"What offsets and lengths of uncached access must be multiples of, as far as it is known before opening"`
	FileSystem string         `json:"fileSystem,omitempty" doc:"Type of the file system the path is on"`
	Devices    []string       `json:"devices,omitempty" doc:"Block devices whose counters move with this volume, as the kernel names them"`
	Serial     string         `json:"serial,omitempty" doc:"Serial number of a block device, where it tells one"`
	Writable   bool           `json:"writable" doc:"Whether this service may write there"`
}

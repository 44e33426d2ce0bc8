package storage

import (
	"errors"
	"reflect"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

func TestParse(t *testing.T) {
	folder := t.TempDir()
	for text, want := range map[string]volume.Locator{
		"null":       {Scheme: "null", Kind: "null", Name: "1TiB"},
		"null:64GiB": {Scheme: "null", Kind: "null", Name: "64GiB"},
		folder + "/": {Kind: "folder", Name: folder},
	} {
		got, err := Parse(text)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
		if again, err := Parse(got.String()); err != nil || !reflect.DeepEqual(again, got) {
			t.Errorf("%q printed as %q reads back as %+v, %v", text, got, again, err)
		}
	}
	for _, text := range []string{"", "somewhere", "null:0", "null:lots", "./here", "array:here.yaml", "iscsi://host/name/0", "NFS://host/films", "a:b"} {
		if _, err := Parse(text); !errors.Is(err, volume.ErrLocator) {
			t.Errorf("%q: %v", text, err)
		}
	}
	// As it is typed: a path from here, or what says itself where it is.
	t.Chdir(folder)
	for text, want := range map[string]string{"pool": folder + "/pool", "array:pool.yaml": "array:" + folder + "/pool.yaml", "null:2GiB": "null:2GiB", "null": "null:1TiB", "nfs://host/films": "", "": "", "array:": "array:" + folder} {
		if got, err := Absolute(text); got != want || (err == nil) != (want != "") {
			t.Errorf("%q is %q, %v", text, got, err)
		}
	}
	if _, err := Parse(folder + "/missing"); err == nil {
		t.Error("a missing path was accepted")
	}
}

func TestNullVolumeIsReadyAtOnce(t *testing.T) {
	l, _ := Parse("null:1GiB")
	v, err := Bounds{}.Prepare(t.Context(), l, volume.Request{})
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	opened, err := v.Use(t.Context(), workload.Default())
	if err != nil || opened.Facts().Size != quantity.GiB {
		t.Errorf("%+v, %v", opened, err)
	}
	if facts, err := (Bounds{}).Look(t.Context(), l); err != nil || facts.Size != quantity.GiB || !facts.Writable {
		t.Errorf("%+v, %v", facts, err)
	}
}

// Whatever is typed as a locator, it is understood or refused, and understood
// again as what it was understood as.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"null:1GiB", "null", "array:/a/b.yaml", "/", "/tmp/../etc", "", "array:", "null:-1", "null:9e99TiB", "/dev/null", "\x00", "/a\x00b", "array:/\x00"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(l.String())
		if err != nil || !reflect.DeepEqual(again, l) {
			t.Errorf("%q is %+v, and that is %+v (%v)", text, l, again, err)
		}
	})
}

package look

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/resource"
	"patientheron/storage"
)

func result(l resource.Look, name string) setup.Result {
	for _, c := range l.Checks {
		if c.Name == name {
			return c.Result
		}
	}
	return ""
}

// Every kind of volume is looked at through one way, and what cannot be looked at is
// a check that failed, never an error.
func TestEveryKindIsLookedAt(t *testing.T) {
	folder := t.TempDir()
	file, array := filepath.Join(folder, "ledger"), filepath.Join(folder, "pair.yaml")
	for path, text := range map[string]string{
		file: strings.Repeat("x", 1<<16), array: "members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nlink: {rate: 1250MB/s}\n",
	} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	at := func(locator string, asked setup.Asked) resource.Look {
		return At(t.Context(), Request{Tries: true, Bounds: storage.Bounds{Arrays: []string{folder}}, Locator: locator, Asked: asked})
	}
	for locator, kind := range map[string]string{"null:1GiB": "null", "array:" + array: "array", folder: "folder", file: "file"} {
		if l := at(locator, setup.Asked{Span: quantity.MiB}); l.Kind != kind || l.Facts == nil || result(l, "reachable") != setup.Passed || len(l.Chain) == 0 {
			t.Errorf("%s: %+v", locator, l)
		}
	}
	if l := at("array:"+array, setup.Asked{}); l.Setup.Text("layout.level") != "raid1" || l.Setup.Text("link[0].rate") != "1250MB/s" || l.Setup.Text("host.cores") != "" {
		t.Errorf("an array is described by its file alone: %+v", l.Setup.Facts)
	}
	if l := at("null:1GiB", setup.Asked{}); l.Setup.Text("host.cores") == "" {
		t.Errorf("the null volume stands on this host: %+v", l.Setup.Facts)
	}
	if l := at(folder, setup.Asked{Span: quantity.MiB}); result(l, "test-file") != setup.Passed {
		t.Errorf("%+v", l.Checks)
	}
	if left, err := os.ReadDir(folder); err != nil || len(left) != 2 {
		t.Errorf("looking left something behind: %v (%v)", left, err)
	}
	if l := at(file, setup.Asked{Writes: true}); result(l, "writable") != setup.Failed {
		t.Errorf("writing without consent: %+v", l.Checks)
	}
	for _, locator := range []string{filepath.Join(folder, "gone"), "array:" + filepath.Join(folder, "gone.yaml"), "array:/etc/passwd", "iscsi://host/pool/0", "null:lots", ""} {
		if l := at(locator, setup.Asked{}); l.Facts != nil || result(l, "reachable") != setup.Failed {
			t.Errorf("%q: %+v", locator, l)
		}
	}
}

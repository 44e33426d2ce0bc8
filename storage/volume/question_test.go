package volume

import (
	"reflect"
	"testing"

	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Each field of a request makes another question, but for those that only follow it; and the same
// values make the same one, wherever they lie.
func TestQuestionsOfRequests(t *testing.T) {
	changes := map[string]func(*Request){
		"Size": func(r *Request) { r.Size = 1 }, "Files": func(r *Request) { r.Files = []workload.Spec{workload.Default()} },
		"NoBlocks": func(r *Request) { r.NoBlocks = true }, "Writes": func(r *Request) { r.Writes = true }, "Cached": func(r *Request) { r.Cached = true },
		"Content": func(r *Request) { r.Content.Seed = 9 }, "Consent": func(r *Request) { r.Consent = &Claim{Identity: &setup.Identity{Serial: "a"}} },
		"Memory": func(r *Request) { r.Memory = 1 }, "Progress": nil, "Pause": nil,
	}
	plain := Request{}.Question("check")
	seen := map[string]string{plain: "nothing"}
	for i := range reflect.TypeFor[Request]().NumField() {
		name := reflect.TypeFor[Request]().Field(i).Name
		change, known := changes[name]
		if !known {
			t.Errorf("%s is a new field of a request: say whether it makes another question", name)
		}
		if change == nil {
			continue
		}
		var one, same Request
		change(&one)
		change(&same)
		q := one.Question("check")
		if before, there := seen[q]; there || q != same.Question("check") {
			t.Errorf("%s: %s, as of %s; and once more %s", name, q, before, same.Question("check"))
		}
		seen[q] = name
	}
	a, b := Request{Consent: &Claim{Identity: &setup.Identity{Serial: "a"}}}, Request{Consent: &Claim{Identity: &setup.Identity{Serial: "b"}}}
	if a.Question("check") == b.Question("check") || Question("agree", Claim{Size: 1}) == Question("agree", Claim{Size: 2}) {
		t.Error("two identities ask the same")
	}
}

package volume

import (
	"encoding/json"
	"fmt"
)

// Question names a call about a volume so that calls which ask the same can share one answer:
// what is asked, and every value that the answer depends on. Values behind pointers count, not
// where they lie.
func Question(what string, values ...any) string {
	text, err := json.Marshal(values)
	if err != nil { // a value that JSON has no form for: nobody shares this call
		return fmt.Sprintf("%s %p", what, &values)
	}
	return what + " " + string(text)
}

// Question names a call about what the request asks for. How it is followed and held up does not
// change the answer.
func (r Request) Question(what string) string {
	return Question(what, r.Size, r.Files, r.NoBlocks, r.Writes, r.Cached, r.Content, r.Consent, r.Memory)
}

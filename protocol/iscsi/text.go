package iscsi

import (
	"bytes"
	"fmt"
	"strings"
)

// Bounds of texts: the standard's own for keys and values, and ours for what one
// negotiation may come to, so that a peer cannot make us keep what it sends.
const (
	longestKey   = 63
	longestValue = 8192
	longestText  = 64 << 10
)

// Pair is a text key and its value.
type Pair struct{ Key, Value string }

// Text is what is said in the data of a login or text PDU, in order.
type Text []Pair

// Value is that of a key; there reports whether it was said.
func (t Text) Value(key string) (value string, there bool) {
	for _, p := range t {
		if p.Key == key {
			return p.Value, true
		}
	}
	return "", false
}

// Append appends the text as it is sent: each pair ends with a zero byte.
func (t Text) Append(to []byte) []byte {
	for _, p := range t {
		to = append(append(append(append(to, p.Key...), '='), p.Value...), 0)
	}
	return to
}

// String is the text on one line, for a log; what proves an identity is left out.
func (t Text) String() string {
	var words []string
	for _, p := range t {
		if p.Key == "CHAP_R" || p.Key == "CHAP_C" {
			p.Value = "…"
		}
		words = append(words, p.Key+"="+p.Value)
	}
	return strings.Join(words, " ")
}

// ParseText reads the data of a login or text PDU, or of several that belong together.
func ParseText(data []byte) (Text, error) {
	if len(data) > longestText {
		return nil, fmt.Errorf("%w: a text of %d bytes; at most %d are taken", ErrProtocol, len(data), longestText)
	}
	var t Text
	for len(data) > 0 {
		pair, rest, ended := bytes.Cut(data, []byte{0})
		if !ended {
			return nil, fmt.Errorf("%w: the text %q does not end with a zero byte", ErrProtocol, shortened(pair))
		}
		data = rest
		if len(pair) == 0 { // some fill up with zeros
			continue
		}
		key, value, found := strings.Cut(string(pair), "=")
		switch {
		case !found || key == "":
			return nil, fmt.Errorf("%w: %q is not key=value", ErrProtocol, shortened(pair))
		case len(key) > longestKey || !plain(key):
			return nil, fmt.Errorf("%w: %q is not a key", ErrProtocol, shortened([]byte(key)))
		case len(value) > longestValue:
			return nil, fmt.Errorf("%w: the value of %s has %d bytes; at most %d are allowed", ErrProtocol, key, len(value), longestValue)
		}
		t = append(t, Pair{key, value})
	}
	return t, nil
}

// plain reports whether a key is of the letters that keys are of.
func plain(key string) bool {
	return !strings.ContainsFunc(key, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune(".-+@_/#", r)
	})
}

func shortened(text []byte) []byte {
	const enough = 80
	return text[:min(len(text), enough)]
}

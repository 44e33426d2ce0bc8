package iscsi

import (
	"encoding/hex"
	"testing"
)

// The response is MD5 over identifier, secret and challenge (RFC 1994, 4.1); the value is
// worked out with another program: printf '\x27my secret\x01\x02\x03\x04' | md5sum.
func TestResponse(t *testing.T) {
	if got := hex.EncodeToString(chapResponse(0x27, "my secret", []byte{1, 2, 3, 4})); got != "eb569e779217a3cddf71170eb3bf3fca" {
		t.Error(got)
	}
}

func TestBinaryValues(t *testing.T) {
	for text, want := range map[string]string{"0x0aFF": "0aff", "0X1": "01", "0bCv8=": "0aff", "0x": ""} {
		if b, err := readBinary(text); err != nil || hex.EncodeToString(b) != want {
			t.Errorf("%s: %x (%v)", text, b, err)
		}
	}
	for _, text := range []string{"", "12", "0xzz", "0b!!", "x0"} {
		if b, err := readBinary(text); err == nil {
			t.Errorf("%q is %x", text, b)
		}
	}
}

package iscsi

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
)

// Proof is a name with the secret that goes with it (CHAP, RFC 1994).
type Proof struct{ Name, Secret string }

const (
	chapMD5       = "5" // the one algorithm that all have to know (RFC 7143, 12.1.3)
	longestBinary = 1024
	challengeSize = 16
)

// chapResponse is what proves that one knows the secret.
func chapResponse(identifier byte, secret string, challenge []byte) []byte {
	sum := md5.New()
	sum.Write([]byte{identifier})
	sum.Write([]byte(secret))
	sum.Write(challenge)
	return sum.Sum(nil)
}

// challenge is what one side asks the other to prove itself by.
type challenge struct {
	identifier byte
	bytes      []byte
}

func newChallenge() challenge {
	random := make([]byte, 1+challengeSize)
	_, _ = rand.Read(random) // which never fails
	return challenge{random[0], random[1:]}
}

func (c challenge) text() Text {
	return Text{{"CHAP_I", strconv.Itoa(int(c.identifier))}, {"CHAP_C", binaryText(c.bytes)}}
}

// readChallenge reads the other side's.
func readChallenge(t Text) (c challenge, err error) {
	identifier, there := t.Value("CHAP_I")
	n, bad := number(identifier)
	if !there || bad != nil || n < 0 || n > 255 {
		return c, fmt.Errorf("%w: CHAP_I=%q is not a number from 0 to 255", ErrProtocol, identifier)
	}
	text, _ := t.Value("CHAP_C")
	if c.bytes, err = readBinary(text); err != nil || len(c.bytes) == 0 {
		return c, fmt.Errorf("%w: CHAP_C is not a challenge", ErrProtocol)
	}
	c.identifier = byte(n)
	return c, nil
}

// answer proves to the side that asked that p's secret is known.
func (c challenge) answer(p Proof) Text {
	return Text{{"CHAP_N", p.Name}, {"CHAP_R", binaryText(chapResponse(c.identifier, p.Secret, c.bytes))}}
}

// accepts reports whether an answer proves it.
func (c challenge) accepts(t Text, p Proof) bool {
	name, _ := t.Value("CHAP_N")
	text, _ := t.Value("CHAP_R")
	response, err := readBinary(text)
	right := subtle.ConstantTimeCompare(response, chapResponse(c.identifier, p.Secret, c.bytes)) == 1
	return err == nil && right && name == p.Name
}

func binaryText(b []byte) string { return "0x" + hex.EncodeToString(b) }

// readBinary reads one of the two forms of binary values.
func readBinary(text string) ([]byte, error) {
	if len(text) < 2 || text[0] != '0' {
		return nil, strconv.ErrSyntax
	}
	var b []byte
	var err error
	switch digits := text[2:]; strings.ToLower(text[:2]) {
	case "0x":
		if len(digits)%2 == 1 {
			digits = "0" + digits
		}
		b, err = hex.DecodeString(digits)
	case "0b":
		b, err = base64.StdEncoding.DecodeString(digits)
	default:
		err = strconv.ErrSyntax
	}
	if err == nil && len(b) > longestBinary {
		err = strconv.ErrRange
	}
	return b, err
}

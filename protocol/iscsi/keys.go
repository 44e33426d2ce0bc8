package iscsi

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Rule says what comes of the values that two sides give to a key.
type Rule string

// The rules.
const (
	Least    Rule = "the smaller"         // of two numbers
	Greatest Rule = "the larger"          // of two numbers
	Both     Rule = "yes where both say"  // so
	Either   Rule = "yes where one says"  // so
	First    Rule = "the first in common" // of what is offered
	Declared Rule = "each says its own"   // and the other keeps to it
)

// Key is one that the two sides of a session agree on.
type Key struct {
	Name     string
	Rule     Rule
	From, To int64  // of numbers
	Default  string // in effect while nobody speaks of it
	Of       string // what it is about, in words
}

// The names of keys that are also used by themselves.
const (
	HeaderDigest   = "HeaderDigest"
	DataDigest     = "DataDigest"
	InitialR2T     = "InitialR2T"
	ImmediateData  = "ImmediateData"
	SegmentLength  = "MaxRecvDataSegmentLength"
	MaxBurst       = "MaxBurstLength"
	FirstBurst     = "FirstBurstLength"
	OutstandingR2T = "MaxOutstandingR2T"
	MaxConnections = "MaxConnections"
	RecoveryLevel  = "ErrorRecoveryLevel"
	TimeToWait     = "DefaultTime2Wait"
	TimeToRetain   = "DefaultTime2Retain"
)

const (
	yes     = "Yes"
	no      = "No"
	none    = "None"
	crc32c  = "CRC32C"
	most24  = 1<<24 - 1
	minimum = 512 // of lengths of segments and bursts

	notUnderstood = "NotUnderstood"
	irrelevant    = "Irrelevant"
	rejected      = "Reject"
)

// keys are all of them, in the order in which they are offered (RFC 7143, 13).
var keys = []Key{
	{Name: HeaderDigest, Rule: First, Default: none, Of: "checksum of headers"},
	{Name: DataDigest, Rule: First, Default: none, Of: "checksum of data"},
	{Name: SegmentLength, Rule: Declared, From: minimum, To: most24, Default: "8192", Of: "most data that one PDU brings"},
	{Name: InitialR2T, Rule: Either, Default: yes, Of: "written data wait to be asked for"},
	{Name: ImmediateData, Rule: Both, Default: yes, Of: "written data come along with the command"},
	{Name: MaxBurst, Rule: Least, From: minimum, To: most24, Default: "262144", Of: "most data in one sequence"},
	{Name: FirstBurst, Rule: Least, From: minimum, To: most24, Default: "65536", Of: "most data that come unasked"},
	{Name: OutstandingR2T, Rule: Least, From: 1, To: 65535, Default: "1", Of: "sequences of a command that are asked for at a time"},
	{Name: MaxConnections, Rule: Least, From: 1, To: 65535, Default: "1", Of: "connections of a session"},
	{Name: RecoveryLevel, Rule: Least, From: 0, To: 2, Default: "0", Of: "what is recovered after an error"},
	{Name: TimeToWait, Rule: Greatest, From: 0, To: 3600, Default: "2", Of: "seconds to wait before connecting again"},
	{Name: TimeToRetain, Rule: Least, From: 0, To: 3600, Default: "20", Of: "seconds that tasks are kept after a connection was lost"},
	{Name: "DataPDUInOrder", Rule: Either, Default: yes, Of: "data of a sequence come in order"},
	{Name: "DataSequenceInOrder", Rule: Either, Default: yes, Of: "sequences come in order"},
}

// Keys are all that are negotiated, in the order in which they are offered.
func Keys() []Key { return slices.Clone(keys) }

// KeyNamed finds a key, whatever the case of its letters.
func KeyNamed(name string) (Key, error) {
	for _, k := range keys {
		if strings.EqualFold(k.Name, name) {
			return k, nil
		}
	}
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.Name
	}
	return Key{}, fmt.Errorf("%q is not a key of a session; there are %s", name, strings.Join(names, ", "))
}

// Check reports a value that the key does not take.
func (k Key) Check(value string) error {
	switch k.Rule {
	case Both, Either:
		if value != yes && value != no {
			return fmt.Errorf("%s=%s: it takes Yes or No", k.Name, value)
		}
	case First:
		for one := range strings.SplitSeq(value, ",") {
			if one != none && one != crc32c {
				return fmt.Errorf("%s=%s: it takes CRC32C, None, or both with the preferred one first", k.Name, value)
			}
		}
	default:
		if n, err := number(value); err != nil || n < k.From || n > k.To {
			return fmt.Errorf("%s=%s: it takes a number from %d to %d", k.Name, value, k.From, k.To)
		}
	}
	return nil
}

// number reads one of the forms that numbers have: decimal or hexadecimal.
func number(value string) (int64, error) {
	if hex, is := strings.CutPrefix(strings.ToLower(value), "0x"); is {
		return strconv.ParseInt(hex, 16, 64)
	}
	if strings.HasPrefix(value, "+") {
		return 0, strconv.ErrSyntax
	}
	return strconv.ParseInt(value, 10, 64)
}

// result is what comes of an offer and the other side's own wish. There is none where
// lists have nothing in common.
func (k Key) result(offered, own string) (value string, any bool) {
	switch k.Rule {
	case Both, Either:
		wins := map[Rule]string{Both: no, Either: yes}[k.Rule]
		if offered == wins || own == wins {
			return wins, true
		}
		return offered, true
	case First:
		for one := range strings.SplitSeq(offered, ",") {
			if slices.Contains(strings.Split(own, ","), one) {
				return one, true
			}
		}
		return "", false
	case Declared:
		return own, true
	}
	a, _ := number(offered)
	b, _ := number(own)
	if k.Rule == Greatest {
		return strconv.FormatInt(max(a, b), 10), true
	}
	return strconv.FormatInt(min(a, b), 10), true
}

// allows reports whether an answer is one that the offer leaves room for. Some targets
// answer None where nothing else was offered; that is what is then in effect.
func (k Key) allows(offered, answered string) bool {
	if k.Rule == First {
		return answered == none || slices.Contains(strings.Split(offered, ","), answered)
	}
	// The answer is the result of the offer and some wish of the other side exactly
	// where it stays as it is when it is taken for that wish.
	value, _ := k.result(offered, answered)
	if k.Rule == Both || k.Rule == Either || k.Rule == Declared {
		return value == answered
	}
	a, _ := number(value)
	b, _ := number(answered)
	return a == b
}

// settled reports whether an offer decides by itself, so that it need not be answered.
func (k Key) settled(offered string) bool {
	return k.Rule == Both && offered == no || k.Rule == Either && offered == yes
}

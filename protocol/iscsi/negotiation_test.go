package iscsi

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// What the standard says of each key, written down apart from the table (RFC 7143, 13):
// what comes of an initiator's and a target's value, and the default.
var standard = map[string]struct {
	result   func(a, b string) string
	standing string
	values   func(*rand.Rand) string
}{
	"HeaderDigest":        {firstCommon, "None", digests},
	"DataDigest":          {firstCommon, "None", digests},
	"InitialR2T":          {or, "Yes", truth},
	"ImmediateData":       {and, "Yes", truth},
	"MaxBurstLength":      {smaller, "262144", numbers(512, 1<<24-1)},
	"FirstBurstLength":    {smaller, "65536", numbers(512, 1<<24-1)},
	"MaxOutstandingR2T":   {smaller, "1", numbers(1, 65535)},
	"MaxConnections":      {smaller, "1", numbers(1, 65535)},
	"ErrorRecoveryLevel":  {smaller, "0", numbers(0, 2)},
	"DefaultTime2Wait":    {larger, "2", numbers(0, 3600)},
	"DefaultTime2Retain":  {smaller, "20", numbers(0, 3600)},
	"DataPDUInOrder":      {or, "Yes", truth},
	"DataSequenceInOrder": {or, "Yes", truth},
}

func or(a, b string) string {
	if a == "Yes" || b == "Yes" {
		return "Yes"
	}
	return "No"
}

func and(a, b string) string {
	if a == "Yes" && b == "Yes" {
		return "Yes"
	}
	return "No"
}

func smaller(a, b string) string {
	var x, y int
	fmt.Sscan(a, &x)
	fmt.Sscan(b, &y)
	return fmt.Sprint(min(x, y))
}

func larger(a, b string) string {
	var x, y int
	fmt.Sscan(a, &x)
	fmt.Sscan(b, &y)
	return fmt.Sprint(max(x, y))
}

// firstCommon is the first of a's list that b has too; without one the default stays.
func firstCommon(a, b string) string {
	for _, x := range strings.Split(a, ",") {
		for _, y := range strings.Split(b, ",") {
			if x == y {
				return x
			}
		}
	}
	return "None"
}

func truth(r *rand.Rand) string { return []string{"Yes", "No"}[r.IntN(2)] }

func digests(r *rand.Rand) string {
	return []string{"None", "CRC32C", "CRC32C,None", "None,CRC32C"}[r.IntN(4)]
}

func numbers(from, to int) func(*rand.Rand) string {
	return func(r *rand.Rand) string {
		switch r.IntN(4) {
		case 0:
			return fmt.Sprint(from)
		case 1:
			return fmt.Sprint(to)
		}
		return fmt.Sprint(from + r.IntN(to-from+1))
	}
}

// Two sides with drawn wishes agree on what the standard says, and each knows it.
func TestTwoSidesAgreeAsTheStandardSays(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 43))
	for range 5000 {
		wishes := [2]Wishes{{}, {}}
		value := func(side int, key string) string {
			if v, is := wishes[side][key]; is {
				return v
			}
			return standard[key].standing
		}
		for key, of := range standard {
			for side := range wishes {
				if r.IntN(3) > 0 && key != "FirstBurstLength" {
					wishes[side][key] = of.values(r)
				}
			}
		}
		segments := [2]string{"8192", "8192"}
		for side := range wishes {
			if r.IntN(2) == 0 {
				segments[side] = numbers(512, 1<<24-1)(r)
				wishes[side]["MaxRecvDataSegmentLength"] = segments[side]
			}
			if err := wishes[side].Check(); err != nil {
				t.Fatal(err)
			}
		}
		i, target := NewNegotiation(Initiator, wishes[0]), NewNegotiation(Target, wishes[1])
		var answers Text
		for _, p := range i.Offer() {
			var err error
			var known bool
			if answers, known, err = target.Hear(p, answers); err != nil || !known {
				t.Fatalf("%v: %v, %v", p, known, err)
			}
		}
		for _, p := range answers {
			if _, _, err := i.Hear(p, nil); err != nil {
				t.Fatalf("%v: %v", p, err)
			}
		}
		facts := map[string]Fact{}
		for n, f := range i.Facts() {
			facts[f.Key] = f
			if theirs := target.Facts()[n]; theirs.InEffect != f.InEffect || theirs.Offered != f.Offered || theirs.Answered != f.Answered {
				t.Fatalf("the initiator has %+v, the target %+v", f, theirs)
			}
		}
		for key, of := range standard {
			want := of.result(value(0, key), value(1, key))
			if key == "FirstBurstLength" { // no more than in all
				want = smaller(smaller(value(0, key), value(0, "MaxBurstLength")), smaller(value(1, key), value(1, "MaxBurstLength")))
			}
			if facts[key].InEffect != want {
				t.Fatalf("%s: %s and %s came to %s, and the standard says %s", key, value(0, key), value(1, key), facts[key].InEffect, want)
			}
		}
		ours, theirs := i.Parameters(), target.Parameters()
		if got := [2]string{fmt.Sprint(ours.TakeSegment), fmt.Sprint(theirs.TakeSegment)}; got != segments {
			t.Fatalf("segments of %d and %d, and they are %v", ours.TakeSegment, theirs.TakeSegment, segments)
		}
		if ours.SendSegment != theirs.TakeSegment || theirs.SendSegment != ours.TakeSegment {
			t.Fatalf("one takes %d and %d is sent, the other takes %d and %d is sent", ours.TakeSegment, theirs.SendSegment, theirs.TakeSegment, ours.SendSegment)
		}
		ours.SendSegment, ours.TakeSegment = theirs.SendSegment, theirs.TakeSegment
		if ours != theirs {
			t.Fatalf("the initiator has %+v, the target %+v", ours, theirs)
		}
	}
}

// Answers that no target may give are refused, and those that only leave things as they
// are by default are not.
func TestAnswersThatCannotBe(t *testing.T) {
	wishes := Wishes{MaxBurst: "65536", TimeToWait: "5", InitialR2T: "Yes", ImmediateData: "No", HeaderDigest: "CRC32C,None", OutstandingR2T: "4"}
	for _, c := range []struct {
		answer Pair
		wrong  bool
		effect string
	}{
		{Pair{MaxBurst, "65536"}, false, "65536"}, {Pair{MaxBurst, "512"}, false, "512"}, {Pair{MaxBurst, "0x1000"}, false, "0x1000"},
		{Pair{MaxBurst, "65537"}, true, ""}, {Pair{MaxBurst, "511"}, true, ""}, {Pair{MaxBurst, "many"}, true, ""}, {Pair{MaxBurst, ""}, true, ""}, {Pair{MaxBurst, "-1"}, true, ""}, {Pair{MaxBurst, "+1024"}, true, ""},
		{Pair{TimeToWait, "5"}, false, "5"}, {Pair{TimeToWait, "9"}, false, "9"}, {Pair{TimeToWait, "4"}, true, ""}, {Pair{TimeToWait, "3601"}, true, ""},
		{Pair{InitialR2T, "No"}, true, ""}, {Pair{InitialR2T, "Yes"}, false, "Yes"}, {Pair{ImmediateData, "Yes"}, true, ""}, {Pair{ImmediateData, "yes"}, true, ""},
		{Pair{HeaderDigest, "CRC32C"}, false, "CRC32C"}, {Pair{HeaderDigest, "None"}, false, "None"}, {Pair{HeaderDigest, "MD5"}, true, ""}, {Pair{HeaderDigest, "CRC32C,None"}, true, ""},
		{Pair{OutstandingR2T, "NotUnderstood"}, false, "1"}, {Pair{OutstandingR2T, "Irrelevant"}, false, "1"}, {Pair{OutstandingR2T, "Reject"}, false, "1"}, {Pair{OutstandingR2T, "8"}, true, ""},
		{Pair{SegmentLength, "511"}, true, ""}, {Pair{SegmentLength, "16777216"}, true, ""},
	} {
		n := NewNegotiation(Initiator, wishes)
		n.Offer()
		_, _, err := n.Hear(c.answer, nil)
		if (err != nil) != c.wrong {
			t.Errorf("%s=%s: %v", c.answer.Key, c.answer.Value, err)
		}
		if !c.wrong && n.value(keyOf(c.answer.Key)) != c.effect {
			t.Errorf("%s=%s: %s is in effect", c.answer.Key, c.answer.Value, n.value(keyOf(c.answer.Key)))
		}
		if _, _, err := n.Hear(c.answer, nil); err == nil {
			t.Errorf("%s was said twice", c.answer.Key)
		}
	}
}

// Who made less of an offer is told.
func TestWhoCutAnOffer(t *testing.T) {
	i, target := NewNegotiation(Initiator, Wishes{MaxBurst: "1048576", FirstBurst: "4096", InitialR2T: "No", DataDigest: "CRC32C,None"}), NewNegotiation(Target, Wishes{MaxBurst: "65536", FirstBurst: "8192"})
	var answers Text
	for _, p := range i.Offer() {
		answers, _, _ = target.Hear(p, answers)
	}
	for _, p := range answers {
		if _, _, err := i.Hear(p, nil); err != nil {
			t.Fatal(err)
		}
	}
	for side, want := range map[*Negotiation]map[string]Side{
		i:      {MaxBurst: Target, InitialR2T: Target, DataDigest: Target},
		target: {MaxBurst: Target, InitialR2T: Target, DataDigest: Target, FirstBurst: Initiator},
	} {
		for _, f := range side.Facts() {
			if f.Cut != want[f.Key] {
				t.Errorf("the %s says of %+v", side.side, f)
			}
		}
	}
}

func TestWishesThatCannotBe(t *testing.T) {
	for name, value := range map[string]string{
		"MaxBurstLength": "511", "FirstBurstLength": "16777216", "ErrorRecoveryLevel": "3", "InitialR2T": "maybe", "HeaderDigest": "MD5", "Colour": "red",
	} {
		if err := (Wishes{name: value}).Check(); err == nil {
			t.Errorf("%s=%s is taken", name, value)
		}
	}
	if err := (Wishes{MaxBurst: "4096", FirstBurst: "8192"}).Check(); err == nil {
		t.Error("more comes unasked than in all")
	}
}

func FuzzText(f *testing.F) {
	f.Add([]byte("TargetName=iqn.2026-01.example:store\x00TargetAddress=192.0.2.1:3260,1\x00"))
	f.Add([]byte("MaxBurstLength=1\x00\x00\x00InitialR2T=No"))
	f.Fuzz(func(t *testing.T, data []byte) {
		text, err := ParseText(data)
		if err != nil {
			return
		}
		again, err := ParseText(text.Append(nil))
		if err != nil || fmt.Sprint(again) != fmt.Sprint(text) {
			t.Fatalf("%q became %q (%v)", text, again, err)
		}
		n := NewNegotiation(Target, nil)
		for _, p := range text {
			if _, _, err := n.Hear(p, nil); err != nil {
				break
			}
		}
		n.Parameters()
		n.Facts()
	})
}

// A target may answer anything to a login: it ends, without more than was agreed on.
func FuzzLogin(f *testing.F) {
	answer := NewHeader(LoginResponse)
	answer[1] = 0x87
	answer.SetTag(1)
	f.Add(append(answer[:], "AuthMethod=CHAP\x00CHAP_A=5\x00CHAP_I=1\x00CHAP_C=0x00\x00"...), true)
	f.Add(append(answer[:], "MaxBurstLength=512\x00"...), false)
	through := answer
	through[1] = 0x83 // from the security stage to the end, without a word
	f.Add(through[:], true)
	f.Fuzz(func(t *testing.T, data []byte, proves bool) {
		o := LoginOptions{Name: "iqn.2026-01.example:i", Target: "iqn.2026-01.example:t", FirstTask: 1}
		if proves {
			o.Proof, o.Expected = Proof{"a", "secret of a"}, Proof{"b", "secret of b"}
		}
		l := NewLogin(o)
		l.First()
		for range mostExchanges + 1 {
			var p PDU
			n := copy(p.Header[:], data)
			p.Header[0], p.Header[4] = byte(LoginResponse), 0
			p.Data = data[n:]
			_, done, err := l.Next(p)
			if proves && done && !l.proved {
				t.Fatal("through, and the target did not prove who it is")
			}
			if done || err != nil {
				return
			}
		}
		t.Fatal("it does not end")
	})
}

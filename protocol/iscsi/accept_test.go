package iscsi

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// meet lets an initiator log in to a target, and gives how it went for both.
func meet(l *Login, a *Accept) (ofInitiator, ofTarget error) {
	for request := l.First(); ; {
		answer, through, err := a.Next(request, 77)
		var refused *DeniedError
		if err != nil && !errors.As(err, &refused) {
			return nil, err
		}
		next, done, wrong := l.Next(answer)
		if err != nil || wrong != nil {
			return wrong, err
		}
		if done != through {
			return fmt.Errorf("through for the initiator: %v, for the target: %v", done, through), nil
		}
		if done {
			return nil, nil
		}
		request = next
	}
}

// Whoever may log in does, and nobody else, whatever the two want of each other; and both
// then have the same in effect.
func TestWhoMayLogIn(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	secrets := []string{"", "the first secret", "the second secret"}
	for range 3000 {
		o := LoginOptions{Name: "iqn.2026-01.example:i", Target: []string{"iqn.2026-01.example:t", "iqn.2026-01.example:other", ""}[r.IntN(3)], FirstTask: 9, Wishes: Wishes{}}
		admission := Admission{Wishes: Wishes{}, Group: "3"}
		if s := secrets[r.IntN(3)]; s != "" {
			o.Proof = Proof{"reader", s}
			if s := secrets[r.IntN(3)]; s != "" {
				o.Expected = Proof{"store", s}
			}
		}
		if s := secrets[r.IntN(3)]; s != "" {
			admission.Users = []Proof{{"writer", "another secret"}, {"reader", s}}
		}
		if s := secrets[r.IntN(3)]; s != "" {
			admission.Own = Proof{"store", s}
		}
		for _, w := range []Wishes{o.Wishes, admission.Wishes} {
			w["MaxBurstLength"], w["InitialR2T"], w["MaxRecvDataSegmentLength"] = numbers(512, 1<<24-1)(r), truth(r), numbers(512, 1<<24-1)(r)
		}
		l := NewLogin(o)
		a := NewAccept(func(target string) (Admission, bool) {
			return admission, target == "" || target == "iqn.2026-01.example:t"
		})
		ofInitiator, ofTarget := meet(l, a)

		may := o.Target != "iqn.2026-01.example:other"
		if len(admission.Users) > 0 && o.Proof.Secret != admission.Users[1].Secret {
			may = false
		}
		if o.Expected.Secret != "" && (len(admission.Users) == 0 || admission.Own != o.Expected) {
			may = false
		}
		if got := ofInitiator == nil && ofTarget == nil; got != may {
			t.Fatalf("logged in: %v (%v, %v)\n%+v\n%+v", got, ofInitiator, ofTarget, o, admission)
		}
		if !may {
			continue
		}
		if a.Initiator != o.Name || a.Target != o.Target || l.Handle != 77 || l.ExpectedStatus() != a.Status() || l.Command != a.Command {
			t.Fatalf("%+v, %+v", l, a)
		}
		ours, theirs := l.Negotiation().Parameters(), a.Negotiation().Parameters()
		if ours.SendSegment != theirs.TakeSegment || theirs.SendSegment != ours.TakeSegment {
			t.Fatalf("%+v, %+v", ours, theirs)
		}
		ours.SendSegment, ours.TakeSegment = theirs.SendSegment, theirs.TakeSegment
		if ours != theirs || o.Target != "" && l.Group != "3" {
			t.Fatalf("%+v, %+v, group %s", ours, theirs, l.Group)
		}
	}
}

// A text that comes in parts is one.
func TestTextInParts(t *testing.T) {
	a := NewAccept(func(string) (Admission, bool) { return Admission{}, true })
	whole := Text{{"InitiatorName", "iqn.2026-01.example:i"}, {"SessionType", "Discovery"}, {"AuthMethod", "None"}, {"X-note", strings.Repeat("x", 3000)}}.Append(nil)
	for at := 0; at < len(whole); at += 1000 {
		part := whole[at:min(at+1000, len(whole))]
		p := PDU{Header: NewHeader(LoginRequest), Data: part}
		last := at+1000 >= len(whole)
		p.Header.SetFinal(last)
		p.Header.SetContinues(!last)
		if last {
			p.Header[1] |= operational
		}
		answer, done, err := a.Next(p, 1)
		if err != nil || done || answer.Header.Final() != last {
			t.Fatalf("%+v, %v, %v", answer, done, err)
		}
		if text, _ := ParseText(answer.Data); last {
			if v, _ := text.Value("X-note"); v != notUnderstood {
				t.Errorf("%v", text)
			}
		}
	}
}

// Whatever comes in the place of a login, nobody is let in who did not prove who it is.
func FuzzAccept(f *testing.F) {
	h := NewHeader(LoginRequest)
	h[1] = 0x87
	f.Add(append(h[:], "InitiatorName=iqn.2026-01.example:i\x00TargetName=iqn.2026-01.example:t\x00"...))
	f.Add(append(h[:], "InitiatorName=i\x00SessionType=Discovery\x00AuthMethod=CHAP\x00CHAP_A=5\x00CHAP_N=reader\x00CHAP_R=0x00\x00"...))
	f.Fuzz(func(t *testing.T, data []byte) {
		a := NewAccept(func(string) (Admission, bool) { return Admission{Users: []Proof{{"reader", "a secret"}}}, true })
		for len(data) >= HeaderLength {
			var p PDU
			data = data[copy(p.Header[:], data):]
			n := min(p.Header.DataLength(), len(data))
			p.Data, data = data[:n], data[n:]
			_, done, err := a.Next(p, 1)
			if done {
				t.Fatal("let in")
			}
			if err != nil {
				return
			}
		}
	})
}

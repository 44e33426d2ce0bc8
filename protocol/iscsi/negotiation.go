package iscsi

import (
	"fmt"
	"strconv"
	"strings"
)

// Side is one end of a session.
type Side string

// The two sides.
const (
	Initiator Side = "initiator"
	Target    Side = "target"
)

// Wishes are the values that a side would have keys take, by their names. What is not
// there is left at its default.
type Wishes map[string]string

// Check reports wishes that cannot be.
func (w Wishes) Check() error {
	for name, value := range w {
		k, err := KeyNamed(name)
		if err == nil {
			err = k.Check(value)
		}
		if err != nil {
			return err
		}
	}
	first, most := w.of(keyOf(FirstBurst)), w.of(keyOf(MaxBurst))
	if f, _ := number(first); w[FirstBurst] != "" && f > 0 {
		if m, _ := number(most); f > m {
			return fmt.Errorf("FirstBurstLength=%s: it cannot be more than MaxBurstLength, which is %s", first, most)
		}
	}
	return nil
}

// of is the wish for a key.
func (w Wishes) of(k Key) string {
	if value, is := w[k.Name]; is {
		return value
	}
	return k.Default
}

func keyOf(name string) Key {
	k, err := KeyNamed(name)
	if err != nil {
		panic(err)
	}
	return k
}

// Fact is what became of a key in a session.
type Fact struct {
	Key      string
	Offered  string // what the initiator offered, or declared for itself; "" where it said nothing
	Answered string // what the target answered, or declared for itself; "" where it said nothing
	InEffect string
	Cut      Side // the side that did not take what the other wished; "" for neither
}

// Negotiation is the talk about keys at a login, as one side has it.
type Negotiation struct {
	side    Side
	wishes  Wishes
	said    map[string]string // by this side
	heard   map[string]string // from the other
	inForce map[string]string
}

// NewNegotiation begins one.
func NewNegotiation(side Side, wishes Wishes) *Negotiation {
	return &Negotiation{side: side, wishes: wishes, said: map[string]string{}, heard: map[string]string{}, inForce: map[string]string{}}
}

// Offer says all that this side wishes, as an initiator does.
func (n *Negotiation) Offer() (t Text) {
	for _, k := range keys {
		t = n.say(t, k.Name, n.wish(k))
	}
	return t
}

// wish is what this side would have of a key; it never asks for more unasked than in all.
func (n *Negotiation) wish(k Key) string {
	value := n.wishes.of(k)
	if k.Name == FirstBurst && n.wishes[FirstBurst] == "" {
		most, _ := number(n.wishes.of(keyOf(MaxBurst)))
		if first, _ := number(value); first > most {
			return strconv.FormatInt(most, 10)
		}
	}
	return value
}

func (n *Negotiation) say(t Text, key, value string) Text {
	n.said[key] = value
	return append(t, Pair{key, value})
}

// Hear takes a key that the other side speaks of. It gives the answer to an offer, and
// reports whether the key is one of those that are negotiated here.
func (n *Negotiation) Hear(p Pair, answer Text) (Text, bool, error) {
	k, err := KeyNamed(p.Key)
	if err != nil || k.Name != p.Key {
		return answer, false, nil
	}
	if _, again := n.heard[k.Name]; again {
		return answer, true, fmt.Errorf("%w: %s was said twice", ErrProtocol, k.Name)
	}
	n.heard[k.Name] = p.Value
	offered, asked := n.said[k.Name]
	if asked && (p.Value == notUnderstood || p.Value == irrelevant || p.Value == rejected) && k.Rule != Declared {
		return answer, true, nil // the default stays
	}
	offersList := !asked && k.Rule == First // of which some may be unknown here
	if err := k.Check(p.Value); err != nil && !offersList {
		if !asked && k.Rule != Declared {
			return n.say(answer, k.Name, rejected), true, nil
		}
		return answer, true, fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	switch {
	case k.Rule == Declared && n.side == Target && !asked:
		return n.say(answer, k.Name, n.wish(k)), true, nil
	case k.Rule == Declared:
	case asked:
		if !k.allows(offered, p.Value) {
			return answer, true, fmt.Errorf("%w: the answer to %s=%s was %s", ErrProtocol, k.Name, offered, p.Value)
		}
		n.inForce[k.Name] = p.Value
	default:
		value, any := k.result(p.Value, n.wish(k))
		if !any {
			return n.say(answer, k.Name, rejected), true, nil
		}
		n.inForce[k.Name] = value
		answer = n.say(answer, k.Name, value)
	}
	return answer, true, nil
}

// value is what is in effect for a key that both agreed on.
func (n *Negotiation) value(k Key) string {
	if value, is := n.inForce[k.Name]; is {
		return value
	}
	if offered, is := n.said[k.Name]; is && k.settled(offered) {
		return offered
	}
	return k.Default
}

// Parameters are what is in effect, as one side sees it.
type Parameters struct {
	HeaderDigest, DataDigest bool
	InitialR2T               bool // nothing is sent unasked beyond the command
	ImmediateData            bool
	SendSegment              int // bytes of data in one PDU at most, that this side sends
	TakeSegment              int // and that it takes
	MaxBurst, FirstBurst     int
	OutstandingR2T           int
	RecoveryLevel            int
	TimeToWait, TimeToRetain int // seconds
}

// Parameters gives what is in effect after all that was said so far.
func (n *Negotiation) Parameters() Parameters {
	value := func(name string) string { return n.value(keyOf(name)) }
	whole := func(text string) int {
		v, _ := number(text)
		return int(v)
	}
	declared := func(by map[string]string) int {
		if text, is := by[SegmentLength]; is {
			return whole(text)
		}
		return whole(keyOf(SegmentLength).Default)
	}
	p := Parameters{
		HeaderDigest: value(HeaderDigest) == crc32c, DataDigest: value(DataDigest) == crc32c,
		InitialR2T: value(InitialR2T) == yes, ImmediateData: value(ImmediateData) == yes,
		SendSegment: declared(n.heard), TakeSegment: declared(n.said),
		MaxBurst: whole(value(MaxBurst)), FirstBurst: whole(value(FirstBurst)), OutstandingR2T: whole(value(OutstandingR2T)),
		RecoveryLevel: whole(value(RecoveryLevel)), TimeToWait: whole(value(TimeToWait)), TimeToRetain: whole(value(TimeToRetain)),
	}
	p.FirstBurst = min(p.FirstBurst, p.MaxBurst)
	return p
}

// Facts tell of each key what was offered, answered and is in effect.
func (n *Negotiation) Facts() (facts []Fact) {
	offered, answered := n.said, n.heard
	if n.side == Target {
		offered, answered = n.heard, n.said
	}
	for _, k := range keys {
		f := Fact{Key: k.Name, Offered: offered[k.Name], Answered: answered[k.Name], InEffect: n.value(k)}
		if k.Rule == Declared {
			f.InEffect = orDefault(f.Answered, k.Default) + " to the target, " + orDefault(f.Offered, k.Default) + " to the initiator"
		} else {
			f.Cut = n.cut(k, f)
		}
		facts = append(facts, f)
	}
	return facts
}

func orDefault(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// cut is the side that did not take what the other wished. A target's wish is known to
// itself alone.
func (n *Negotiation) cut(k Key, f Fact) Side {
	switch {
	case f.Offered != "" && firstOf(f.Offered) != f.InEffect:
		return Target
	case n.side == Target && f.Offered != "" && firstOf(n.wish(k)) != f.InEffect:
		return Initiator
	}
	return ""
}

// firstOf is what a list prefers.
func firstOf(list string) string {
	first, _, _ := strings.Cut(list, ",")
	return first
}

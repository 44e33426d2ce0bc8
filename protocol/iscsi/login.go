package iscsi

import (
	"errors"
	"fmt"
	"strings"
)

// Stages of a login.
const (
	security    = 0
	operational = 1
	fullFeature = 3
)

// mostExchanges is how many answers a login may take.
const mostExchanges = 32

// ErrRefused is wrapped by a target's refusal of a login.
var ErrRefused = errors.New("the target refused the login")

// RedirectError is a target's word that it is to be found elsewhere.
type RedirectError struct {
	To        string // address:port, with ,group behind
	Permanent bool
}

func (e *RedirectError) Error() string {
	return "the target is to be found at " + e.To
}

// PDU is one message without what fills it up, and without digests.
type PDU struct {
	Header Header
	Data   []byte
}

// LoginOptions say who logs in to what.
type LoginOptions struct {
	Name      string // of the initiator
	Target    string // "" for a discovery session
	Session   [6]byte
	Handle    uint16 // TSIH; 0 for a new session
	Wishes    Wishes
	Proof     Proof // of the initiator; a zero one for none
	Expected  Proof // that the target has to give; a zero one for none
	FirstTask uint32
}

// Login is the initiator's part in a login: a machine that is given answers and says what
// to send next.
type Login struct {
	options     LoginOptions
	negotiation *Negotiation
	stage       int
	waiting     Text      // still to be said
	text        []byte    // of an answer that goes on
	challenge   challenge // ours to the target
	asked       bool      // we gave it
	proved      bool      // the target proved who it is
	offered     bool
	exchanges   int
	status      uint32 // next StatSN that is expected

	// Handle is the target's of the session, and Group that of the portal, when the login
	// is through.
	Handle uint16
	Group  string
	// CommandNumbers are the first and the last that may be sent.
	Command, MostCommand uint32
}

// NewLogin begins one. Its first PDU is what Next gives for no answer.
func NewLogin(o LoginOptions) *Login {
	l := &Login{options: o, negotiation: NewNegotiation(Initiator, o.Wishes), Command: 1}
	l.waiting = Text{{"InitiatorName", o.Name}}
	if o.Target == "" {
		l.waiting = append(l.waiting, Pair{"SessionType", "Discovery"})
	} else {
		l.waiting = append(l.waiting, Pair{"TargetName", o.Target}, Pair{"SessionType", "Normal"})
	}
	methods := none
	switch {
	case o.Expected.Secret != "":
		methods = "CHAP"
	case o.Proof.Secret != "":
		methods = "CHAP,None"
	}
	l.waiting = append(l.waiting, Pair{"AuthMethod", methods})
	return l
}

// Negotiation is what was said of keys.
func (l *Login) Negotiation() *Negotiation { return l.negotiation }

// ExpectedStatus is the StatSN that comes next.
func (l *Login) ExpectedStatus() uint32 { return l.status }

// First is the first PDU.
func (l *Login) First() PDU { return l.request(l.options.Proof.Secret == "") }

// request says all that waits to be said; on asks to go on to the next stage.
func (l *Login) request(on bool) PDU {
	p := PDU{Header: NewHeader(LoginRequest), Data: l.waiting.Append(nil)}
	l.waiting = nil
	h := &p.Header
	h.SetImmediate()
	h.SetFinal(on)
	h[1] |= byte(l.stage << 2)
	if on {
		h[1] |= byte(l.next())
	}
	copy(h[8:14], l.options.Session[:])
	h.putShort(14, l.options.Handle)
	h.SetTag(l.options.FirstTask)
	h.SetCommandNumber(l.Command)
	h.SetExpectedStatus(l.status)
	h.SetDataLength(len(p.Data))
	return p
}

func (l *Login) next() int {
	if l.stage == security {
		return operational
	}
	return fullFeature
}

// Next takes an answer, and gives what to send; done when the login is through.
func (l *Login) Next(answer PDU) (send PDU, done bool, err error) {
	h := &answer.Header
	if l.exchanges++; l.exchanges > mostExchanges {
		return send, false, fmt.Errorf("%w: the login does not end after %d answers", ErrProtocol, mostExchanges)
	}
	if h.Opcode() != LoginResponse {
		return send, false, fmt.Errorf("%w: the answer to a login was a %s", ErrProtocol, h.Opcode())
	}
	if h.Tag() != l.options.FirstTask {
		return send, false, fmt.Errorf("%w: the answer to a login is about another task", ErrProtocol)
	}
	if class, detail := h[36], h[37]; class != 0 {
		text, _ := ParseText(answer.Data)
		return send, false, refusal(class, detail, text)
	}
	if l.status != 0 && h.StatusNumber() != l.status {
		return send, false, fmt.Errorf("%w: StatSN %d came in the place of %d", ErrProtocol, h.StatusNumber(), l.status)
	}
	l.status = h.StatusNumber() + 1
	if l.text = append(l.text, answer.Data...); len(l.text) > longestText {
		return send, false, fmt.Errorf("%w: a text of more than %d bytes", ErrProtocol, longestText)
	}
	if h.Continues() {
		if h.Final() {
			return send, false, fmt.Errorf("%w: a login that goes on and ends", ErrProtocol)
		}
		return l.request(false), false, nil
	}
	text, err := ParseText(l.text)
	l.text = nil
	if err != nil {
		return send, false, err
	}
	if stage := int(h[1] >> 2 & 3); stage != l.stage {
		return send, false, fmt.Errorf("%w: the answer is of stage %d of the login, and the request was of %d", ErrProtocol, stage, l.stage)
	}
	if err := l.hear(text); err != nil {
		return send, false, err
	}
	if h.Final() {
		if len(l.waiting) > 0 {
			return send, false, fmt.Errorf("%w: the target goes on before it heard an answer", ErrProtocol)
		}
		switch to := int(h[1] & 3); {
		case to <= l.stage || to == 2:
			return send, false, fmt.Errorf("%w: the login goes from stage %d to %d", ErrProtocol, l.stage, to)
		case l.stage == security && l.options.Expected.Secret != "" && !l.proved:
			return send, false, fmt.Errorf("%w: it does not prove who it is, and it has to", ErrRefused)
		case to == fullFeature:
			l.Handle, l.Command, l.MostCommand = h.short(14), h.ExpectedCommand(), h.MostCommand()
			if !l.offered && l.stage == security {
				l.offered = true // nothing was negotiated: all is at its default
			}
			return send, true, nil
		default:
			l.stage = to
		}
	}
	if l.stage == operational && !l.offered {
		l.offered = true
		offer := l.negotiation.Offer()
		if l.options.Target == "" {
			offer = ofDiscovery(offer)
		}
		l.waiting = append(l.waiting, offer...)
	}
	return l.request(l.stage == operational || l.stage == security && l.answered()), false, nil
}

// answered reports whether this side has said all that its security stage asks of it.
func (l *Login) answered() bool {
	_, proves := l.waiting.Value("CHAP_R")
	return proves || l.options.Proof.Secret == "" || l.proved || !l.asked && len(l.waiting) == 0
}

// ofDiscovery leaves the keys that a discovery session has.
func ofDiscovery(t Text) (left Text) {
	for _, p := range t {
		switch p.Key {
		case HeaderDigest, DataDigest, SegmentLength:
			left = append(left, p)
		}
	}
	return left
}

// hear takes what the target says.
func (l *Login) hear(t Text) error {
	for _, p := range t {
		switch p.Key {
		case "TargetPortalGroupTag":
			l.Group = p.Value
			continue
		case "AuthMethod":
			switch {
			case p.Value == none && l.options.Expected.Secret == "":
			case p.Value == "CHAP" && l.options.Proof.Secret != "":
				l.waiting = append(l.waiting, Pair{"CHAP_A", chapMD5})
			default:
				return fmt.Errorf("%w: it wants %s as proof of who logs in; give a user and a secret for it", ErrRefused, p.Value)
			}
			continue
		case "CHAP_A":
			if p.Value != chapMD5 {
				return fmt.Errorf("%w: it wants a CHAP algorithm (%s) that was not offered", ErrProtocol, p.Value)
			}
			if err := l.prove(t); err != nil {
				return err
			}
			continue
		case "CHAP_N":
			if l.asked {
				if !l.challenge.accepts(t, l.options.Expected) {
					return fmt.Errorf("%w: the target did not prove that it is %s; is its secret right?", ErrRefused, l.options.Expected.Name)
				}
				l.proved = true
			}
			continue
		case "CHAP_I", "CHAP_C", "CHAP_R", "TargetAlias":
			continue // read with the others, or of no use
		}
		answer, known, err := l.negotiation.Hear(p, nil)
		if err != nil {
			return err
		}
		if !known && p.Value != notUnderstood {
			answer = Text{{p.Key, notUnderstood}}
		}
		l.waiting = append(l.waiting, answer...)
	}
	return nil
}

// prove answers the target's challenge, with one of our own where it has to prove itself.
func (l *Login) prove(t Text) error {
	if l.stage != security || l.options.Proof.Secret == "" {
		return fmt.Errorf("%w: a challenge that was not asked for", ErrProtocol)
	}
	theirs, err := readChallenge(t)
	if err != nil {
		return err
	}
	l.waiting = append(l.waiting, theirs.answer(l.options.Proof)...)
	if l.options.Expected.Secret != "" {
		if l.challenge = newChallenge(); string(l.challenge.bytes) == string(theirs.bytes) {
			l.challenge = newChallenge()
		}
		l.asked = true
		l.waiting = append(l.waiting, l.challenge.text()...)
	}
	return nil
}

// Codes of refusals (RFC 7143, 11.13.5).
const (
	classRedirect    = 1
	classInitiator   = 2
	classTarget      = 3
	detailTemporary  = 1
	detailProof      = 1
	detailForbidden  = 2
	detailNotFound   = 3
	detailRemoved    = 4
	detailTooMany    = 6
	detailMissing    = 7
	detailNoSession  = 10
	detailResources  = 2
	detailNotAllowed = 8
)

var refusalWords = map[[2]byte]string{
	{classInitiator, 0}:                "it found an error in the request",
	{classInitiator, detailProof}:      "who logs in was not proved: the user or the secret is wrong, or one is needed",
	{classInitiator, detailForbidden}:  "this initiator may not use the target",
	{classInitiator, detailNotFound}:   "there is no such target",
	{classInitiator, detailRemoved}:    "the target was removed",
	{classInitiator, 5}:                "it does not speak this version",
	{classInitiator, detailTooMany}:    "too many connections",
	{classInitiator, detailMissing}:    "something is missing in the request",
	{classInitiator, detailNotAllowed}: "the session cannot have another connection",
	{classInitiator, 9}:                "it does not know this type of session",
	{classInitiator, detailNoSession}:  "there is no such session",
	{classTarget, 0}:                   "an error of the target",
	{classTarget, 1}:                   "it is not there at the moment",
	{classTarget, detailResources}:     "it is out of resources",
}

// refusal is the error of a status other than success.
func refusal(class, detail byte, t Text) error {
	if class == classRedirect {
		to, there := t.Value("TargetAddress")
		if !there {
			return fmt.Errorf("%w: it sends elsewhere and does not say where", ErrProtocol)
		}
		return &RedirectError{to, detail != detailTemporary}
	}
	words, known := refusalWords[[2]byte{class, detail}]
	if !known {
		words = fmt.Sprintf("status class %d, detail %d", class, detail)
	}
	return fmt.Errorf("%w: %s", ErrRefused, words)
}

// ValidName reports whether a name is one that initiators and targets can have (RFC 7143,
// 4.2.7).
func ValidName(name string) bool {
	if len(name) > 223 || strings.ContainsFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && !strings.ContainsRune("-.:", r) && r < 0x80
	}) {
		return false
	}
	kind, rest, found := strings.Cut(name, ".")
	return found && rest != "" && (kind == "iqn" || kind == "eui" || kind == "naa")
}

package iscsi

import (
	"fmt"
	"slices"
	"strings"
)

// Admission says how somebody may log in to a target.
type Admission struct {
	Wishes Wishes
	Users  []Proof // who may; none for anybody
	Own    Proof   // what the target proves itself by when it is asked to; a zero one for nothing
	Group  string  // of the portal
	Alias  string  // of the target
}

// DeniedError is a status that ends a login, with the reason.
type DeniedError struct {
	Class, Detail byte
	Why           string
}

func (e *DeniedError) Error() string { return "login refused: " + e.Why }

func denied(detail byte, format string, arguments ...any) error {
	return &DeniedError{classInitiator, detail, fmt.Sprintf(format, arguments...)}
}

// Accept is the target's part in a login: a machine that is given requests and says what to
// answer.
type Accept struct {
	admit       func(target string) (Admission, bool)
	admission   Admission
	negotiation *Negotiation
	stage       int
	begun       bool
	proves      bool // who logs in has to prove who it is
	proved      bool
	challenge   challenge
	asked       bool // the challenge was given
	text        []byte
	status      uint32
	exchanges   int

	// Who logged in to what, when the login is through. Target is "" for a discovery
	// session.
	Initiator string
	Target    string
	Session   [6]byte
	Handle    uint16 // TSIH that was asked for; 0 for a new session
	Command   uint32 // CmdSN of the first command
}

// NewAccept begins one. Admit tells how a target may be logged in to, "" standing for
// discovery; false where there is none of that name.
func NewAccept(admit func(target string) (Admission, bool)) *Accept {
	return &Accept{admit: admit, stage: security, status: 1}
}

// Negotiation is what was said of keys.
func (a *Accept) Negotiation() *Negotiation { return a.negotiation }

// Status is the StatSN of the next answer.
func (a *Accept) Status() uint32 { return a.status }

// Next takes a request and gives the answer; done when the login is through. With an error
// the answer tells of it, and the connection is to be closed when it was sent; where it is
// no DeniedError there is no answer.
func (a *Accept) Next(request PDU, handle uint16) (answer PDU, done bool, err error) {
	h := &request.Header
	if h.Opcode() != LoginRequest {
		return answer, false, fmt.Errorf("%w: a %s in the place of a login", ErrProtocol, h.Opcode())
	}
	if a.exchanges++; a.exchanges > mostExchanges {
		return answer, false, fmt.Errorf("%w: a login of more than %d requests", ErrProtocol, mostExchanges)
	}
	said, on, err := a.take(request)
	if refused, is := err.(*DeniedError); is {
		answer = a.answer(h, nil, false, 0)
		answer.Header[36], answer.Header[37] = refused.Class, refused.Detail
		return answer, false, err
	}
	if err != nil {
		return answer, false, err
	}
	answer = a.answer(h, said, on, handle)
	if on {
		a.stage = int(h[1] & 3)
	}
	return answer, on && a.stage == fullFeature, nil
}

func (a *Accept) answer(h *Header, said Text, on bool, handle uint16) PDU {
	p := PDU{Header: NewHeader(LoginResponse), Data: said.Append(nil)}
	to := &p.Header
	to[1] = byte(a.stage << 2)
	if on {
		to.SetFinal(true)
		to[1] |= h[1] & 3
	}
	copy(to[8:14], h[8:14])
	if on && h[1]&3 == fullFeature {
		to.putShort(14, handle)
	} else {
		to.putShort(14, h.short(14))
	}
	to.SetTag(h.Tag())
	to.SetStatusNumber(a.status)
	to.SetExpectedCommand(h.CommandNumber())
	to.SetMostCommand(h.CommandNumber())
	to.SetDataLength(len(p.Data))
	a.status++
	return p
}

// take takes a request, and gives what to say, and whether to go on to the next stage.
func (a *Accept) take(request PDU) (said Text, on bool, err error) {
	h := &request.Header
	final, continues := h.Final(), h.Continues()
	stage, next := int(h[1]>>2&3), int(h[1]&3)
	switch {
	case h[3] > 0:
		return nil, false, denied(5, "it speaks version %d and later", h[3])
	case final && continues, stage == 2, final && (next <= stage || next == 2):
		return nil, false, denied(0, "stage %d goes to %d", stage, next)
	case !a.begun && stage == operational:
		a.stage = stage // it leaves the first stage out
	case stage != a.stage:
		return nil, false, denied(0, "a request of stage %d in stage %d", stage, a.stage)
	}
	if a.text = append(a.text, request.Data...); len(a.text) > longestText {
		return nil, false, fmt.Errorf("%w: a text of more than %d bytes", ErrProtocol, longestText)
	}
	if continues {
		return nil, false, nil
	}
	text, err := ParseText(a.text)
	if a.text = nil; err != nil {
		return nil, false, err
	}
	if !a.begun {
		if said, err = a.begin(h, text); err != nil {
			return nil, false, err
		}
	}
	if a.stage == security {
		security, err := a.prove(text)
		if err != nil {
			return nil, false, err
		}
		said = append(said, security...)
	} else if a.proves && !a.proved {
		return nil, false, denied(detailProof, "%s does not prove who it is", a.Initiator)
	}
	for _, p := range text {
		if known(p.Key) {
			continue
		}
		var is bool
		if said, is, err = a.negotiation.Hear(p, said); err != nil {
			return nil, false, denied(0, "%v", err)
		}
		if !is && p.Value != notUnderstood {
			said = append(said, Pair{p.Key, notUnderstood})
		}
	}
	return said, final && (!a.proves || a.proved), nil
}

// known reports keys that are no matter of negotiation.
func known(key string) bool {
	return strings.HasPrefix(key, "CHAP_") || slices.Contains([]string{"InitiatorName", "InitiatorAlias", "TargetName", "SessionType", "AuthMethod"}, key)
}

// begin takes what the first request has to say.
func (a *Accept) begin(h *Header, text Text) (said Text, err error) {
	a.begun = true
	copy(a.Session[:], h[8:14])
	a.Handle, a.Command = h.short(14), h.CommandNumber()
	a.Initiator, _ = text.Value("InitiatorName")
	a.Target, _ = text.Value("TargetName")
	kind, said1 := text.Value("SessionType")
	switch {
	case a.Initiator == "":
		return nil, denied(detailMissing, "the name of the initiator is missing")
	case !said1 || kind == "Normal":
		if a.Target == "" {
			return nil, denied(detailMissing, "the name of the target is missing")
		}
	case kind == "Discovery":
		a.Target = ""
	default:
		return nil, denied(9, "a session of type %q", kind)
	}
	var is bool
	if a.admission, is = a.admit(a.Target); !is {
		return nil, denied(detailNotFound, "there is no target %s", a.Target)
	}
	a.proves = len(a.admission.Users) > 0
	a.negotiation = NewNegotiation(Target, a.admission.Wishes)
	if a.Target != "" {
		said = append(said, Pair{"TargetPortalGroupTag", orDefault(a.admission.Group, "1")})
		if a.admission.Alias != "" {
			said = append(said, Pair{"TargetAlias", a.admission.Alias})
		}
	}
	return said, nil
}

// prove takes what is said of proofs.
func (a *Accept) prove(text Text) (said Text, err error) {
	if methods, offered := text.Value("AuthMethod"); offered {
		method := none
		if a.proves {
			method = "CHAP"
		}
		if !slices.Contains(strings.Split(methods, ","), method) {
			return nil, denied(detailProof, "%s offers to prove itself by %s, and %s is wanted", a.Initiator, methods, method)
		}
		said = append(said, Pair{"AuthMethod", method})
	}
	if algorithms, offered := text.Value("CHAP_A"); offered {
		if !a.proves || !slices.Contains(strings.Split(algorithms, ","), chapMD5) {
			return nil, denied(detailProof, "%s offers CHAP with algorithm %s", a.Initiator, algorithms)
		}
		a.challenge, a.asked = newChallenge(), true
		said = append(append(said, Pair{"CHAP_A", chapMD5}), a.challenge.text()...)
	}
	name, proves := text.Value("CHAP_N")
	if !proves {
		return said, nil
	}
	if !a.asked || !slices.ContainsFunc(a.admission.Users, func(p Proof) bool { return p.Name == name && a.challenge.accepts(text, p) }) {
		return nil, denied(detailProof, "%s does not prove that it is %q", a.Initiator, name)
	}
	a.proved, a.asked = true, false
	if _, asks := text.Value("CHAP_C"); asks {
		theirs, err := readChallenge(text)
		if err != nil {
			return nil, err
		}
		if a.admission.Own.Secret == "" || string(theirs.bytes) == string(a.challenge.bytes) {
			return nil, denied(detailProof, "%s asks for a proof that the target does not give", a.Initiator)
		}
		said = append(said, theirs.answer(a.admission.Own)...)
	}
	return said, nil
}

// Package iscsi is what initiator and target say to each other: PDUs, text keys and how
// they are negotiated, login with CHAP, and digests. It neither reads nor writes
// connections.
//
// Layouts, numbers and rules are those of RFC 7143.
package iscsi

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// HeaderLength is that of the basic header segment with which each PDU begins.
const HeaderLength = 48

// Port is the registered one.
const Port = 3260

// ErrProtocol is wrapped by whatever does not follow the standard.
var ErrProtocol = errors.New("not according to the iSCSI standard")

// Opcode says what a PDU is.
type Opcode uint8

// Those of an initiator.
const (
	NopOut        Opcode = 0x00
	Command       Opcode = 0x01
	TaskRequest   Opcode = 0x02
	LoginRequest  Opcode = 0x03
	TextRequest   Opcode = 0x04
	DataOut       Opcode = 0x05
	LogoutRequest Opcode = 0x06
	SnackRequest  Opcode = 0x10
)

// Those of a target.
const (
	NopIn          Opcode = 0x20
	Response       Opcode = 0x21
	TaskResponse   Opcode = 0x22
	LoginResponse  Opcode = 0x23
	TextResponse   Opcode = 0x24
	DataIn         Opcode = 0x25
	LogoutResponse Opcode = 0x26
	ReadyToTake    Opcode = 0x31 // R2T: ready to transfer
	Asynchronous   Opcode = 0x32
	Reject         Opcode = 0x3f
)

var opcodeWords = map[Opcode]string{
	NopOut: "NOP-Out", Command: "SCSI Command", TaskRequest: "Task Management Request", LoginRequest: "Login Request",
	TextRequest: "Text Request", DataOut: "Data-Out", LogoutRequest: "Logout Request", SnackRequest: "SNACK Request",
	NopIn: "NOP-In", Response: "SCSI Response", TaskResponse: "Task Management Response", LoginResponse: "Login Response",
	TextResponse: "Text Response", DataIn: "Data-In", LogoutResponse: "Logout Response", ReadyToTake: "R2T",
	Asynchronous: "Asynchronous Message", Reject: "Reject",
}

// String is its name in the standard.
func (o Opcode) String() string {
	if words, known := opcodeWords[o]; known {
		return words
	}
	return fmt.Sprintf("PDU of opcode 0x%02x", uint8(o))
}

const (
	opcodeBits   = 0x3f // of the first byte
	immediateBit = 0x40
	finalBit     = 0x80 // of the second
	continueBit  = 0x40
)

// NoTag stands for no task.
const NoTag = 0xffffffff

// Header is a basic header segment. The places of its fields that all PDUs have in
// common have methods; those that only some have are named for them.
type Header [HeaderLength]byte

// NewHeader makes one of a kind, final and not immediate.
func NewHeader(o Opcode) Header {
	var h Header
	h[0], h[1] = byte(o), finalBit
	return h
}

// Opcode says what the PDU is.
func (h *Header) Opcode() Opcode { return Opcode(h[0] & opcodeBits) }

// Immediate reports whether it is to be taken outside the order of commands.
func (h *Header) Immediate() bool { return h[0]&immediateBit != 0 }

// SetImmediate makes it so.
func (h *Header) SetImmediate() { h[0] |= immediateBit }

// Final reports whether it ends a sequence; in a login that its sender is ready to go on.
func (h *Header) Final() bool { return h[1]&finalBit != 0 }

// SetFinal says whether it does.
func (h *Header) SetFinal(final bool) { h.flag(finalBit, final) }

// Continues reports whether more of a text follows in another PDU.
func (h *Header) Continues() bool { return h[1]&continueBit != 0 }

// SetContinues says whether it does.
func (h *Header) SetContinues(continues bool) { h.flag(continueBit, continues) }

func (h *Header) flag(bit byte, set bool) {
	if h[1] &^= bit; set {
		h[1] |= bit
	}
}

// Flags are all of the second byte.
func (h *Header) Flags() byte { return h[1] }

// SetFlags sets flags, with those that are there.
func (h *Header) SetFlags(flags byte) { h[1] |= flags }

// Extra is the length of the additional header segments in bytes.
func (h *Header) Extra() int { return int(h[4]) * 4 }

// DataLength is the length of the data segment in bytes, without what fills it up.
func (h *Header) DataLength() int { return int(h[5])<<16 | int(h[6])<<8 | int(h[7]) }

// SetDataLength sets it.
func (h *Header) SetDataLength(n int) { h[5], h[6], h[7] = byte(n>>16), byte(n>>8), byte(n) }

// LUN is the address of the logical unit, in the eight bytes of SAM.
func (h *Header) LUN() uint64 { return binary.BigEndian.Uint64(h[8:]) }

// SetLUN sets it.
func (h *Header) SetLUN(lun uint64) { binary.BigEndian.PutUint64(h[8:], lun) }

func (h *Header) at(place int) uint32           { return binary.BigEndian.Uint32(h[place:]) }
func (h *Header) put(place int, value uint32)   { binary.BigEndian.PutUint32(h[place:], value) }
func (h *Header) short(place int) uint16        { return binary.BigEndian.Uint16(h[place:]) }
func (h *Header) putShort(place int, to uint16) { binary.BigEndian.PutUint16(h[place:], to) }

// Tag is the initiator's tag of the task.
func (h *Header) Tag() uint32 { return h.at(16) }

// SetTag sets it.
func (h *Header) SetTag(tag uint32) { h.put(16, tag) }

// TargetTag is the target's tag of a transfer.
func (h *Header) TargetTag() uint32 { return h.at(20) }

// SetTargetTag sets it.
func (h *Header) SetTargetTag(tag uint32) { h.put(20, tag) }

// Of what an initiator sends.

// ExpectedLength is how many bytes a command moves.
func (h *Header) ExpectedLength() uint32 { return h.at(20) }

// SetExpectedLength sets it.
func (h *Header) SetExpectedLength(n uint32) { h.put(20, n) }

// CommandNumber is the CmdSN.
func (h *Header) CommandNumber() uint32 { return h.at(24) }

// SetCommandNumber sets it.
func (h *Header) SetCommandNumber(n uint32) { h.put(24, n) }

// ExpectedStatus is the ExpStatSN: all answers before it were seen.
func (h *Header) ExpectedStatus() uint32 { return h.at(28) }

// SetExpectedStatus sets it.
func (h *Header) SetExpectedStatus(n uint32) { h.put(28, n) }

// Block is the command descriptor block.
func (h *Header) Block() []byte { return h[32:48] }

// ReferencedTag is the task that a task management request is about.
func (h *Header) ReferencedTag() uint32 { return h.at(20) }

// SetReferencedTag sets it.
func (h *Header) SetReferencedTag(tag uint32) { h.put(20, tag) }

// ReferencedNumber is the CmdSN of that task.
func (h *Header) ReferencedNumber() uint32 { return h.at(32) }

// SetReferencedNumber sets it.
func (h *Header) SetReferencedNumber(n uint32) { h.put(32, n) }

// Of what a target sends.

// StatusNumber is the StatSN.
func (h *Header) StatusNumber() uint32 { return h.at(24) }

// SetStatusNumber sets it.
func (h *Header) SetStatusNumber(n uint32) { h.put(24, n) }

// ExpectedCommand is the ExpCmdSN: all commands before it arrived.
func (h *Header) ExpectedCommand() uint32 { return h.at(28) }

// SetExpectedCommand sets it.
func (h *Header) SetExpectedCommand(n uint32) { h.put(28, n) }

// MostCommand is the MaxCmdSN: the last command that may be sent.
func (h *Header) MostCommand() uint32 { return h.at(32) }

// SetMostCommand sets it.
func (h *Header) SetMostCommand(n uint32) { h.put(32, n) }

// Answer is the response code of the answer to a command, a task management request or a
// logout, or the reason of a reject.
func (h *Header) Answer() byte { return h[2] }

// SetAnswer sets it.
func (h *Header) SetAnswer(code byte) { h[2] = code }

// Status is that of the SCSI command.
func (h *Header) Status() byte { return h[3] }

// SetStatus sets it.
func (h *Header) SetStatus(status byte) { h[3] = status }

// Of data, both ways, and of what asks for them.

// DataNumber is the DataSN, or the R2TSN.
func (h *Header) DataNumber() uint32 { return h.at(36) }

// SetDataNumber sets it.
func (h *Header) SetDataNumber(n uint32) { h.put(36, n) }

// Offset is where in the data of the command the segment belongs.
func (h *Header) Offset() uint32 { return h.at(40) }

// SetOffset sets it.
func (h *Header) SetOffset(n uint32) { h.put(40, n) }

// DesiredLength is how much a target is ready to take.
func (h *Header) DesiredLength() uint32 { return h.at(44) }

// SetDesiredLength sets it.
func (h *Header) SetDesiredLength(n uint32) { h.put(44, n) }

// Residual is how many bytes were not moved, or would have been too many.
func (h *Header) Residual() uint32 { return h.at(44) }

// SetResidual sets it.
func (h *Header) SetResidual(n uint32) { h.put(44, n) }

// Flags of commands, of data and of answers.
const (
	ReadsFlag    = 0x40 // of a command
	WritesFlag   = 0x20
	SimpleTask   = 0x01
	StatusFlag   = 0x01 // of Data-In: it carries the status
	AskedFlag    = 0x40 // of Data-In: acknowledge it
	OverflowFlag = 0x04
	ShortFlag    = 0x02 // underflow: fewer bytes than expected
)

// Functions of task management, answered with TaskDone or TaskUnknown.
const (
	AbortTask       = 1
	AbortTaskSet    = 2
	ClearTaskSet    = 4
	ResetLUN        = 5
	ResetTargetWarm = 6
	ResetTargetCold = 7
	TaskDone        = 0
	TaskUnknown     = 1
	TaskNoLUN       = 2
	TaskUnsupported = 5
)

// Reasons of logouts.
const (
	CloseSession    = 0
	CloseConnection = 1
)

// Reasons of rejects.
const (
	RejectDigest      = 0x02
	RejectSnack       = 0x03
	RejectProtocol    = 0x04
	RejectUnsupported = 0x05
	RejectInvalid     = 0x09
	RejectNegotiation = 0x0b
)

var rejectWords = map[byte]string{
	RejectDigest: "a data digest was wrong", RejectSnack: "a SNACK was refused", RejectProtocol: "a protocol error",
	RejectUnsupported: "a command it does not support", 0x06: "too many immediate commands", 0x07: "a task in progress",
	0x08: "an acknowledgement of data that are not known", RejectInvalid: "an invalid field", 0x0a: "a bookmark that cannot be had",
	RejectNegotiation: "a negotiation that was reset", 0x0c: "that it waits for a logout",
}

// RejectInWords is the reason of a reject.
func RejectInWords(reason byte) string {
	if words, known := rejectWords[reason]; known {
		return words
	}
	return fmt.Sprintf("reason 0x%02x", reason)
}

// Events of asynchronous messages.
const (
	EventSCSI        = 0 // sense data follow
	EventLogout      = 1 // the target asks for a logout
	EventConnection  = 2 // it drops a connection
	EventSession     = 3 // it drops all of them
	EventNegotiation = 4 // it asks to negotiate anew
)

// Event is that of an asynchronous message.
func (h *Header) Event() byte { return h[36] }

// WaitBefore is how many seconds to wait before connecting again, as a logout response
// and the events that drop connections say.
func (h *Header) WaitBefore() uint16 { return h.short(40) }

// Padded is a length with what fills it up to whole words.
func Padded(n int) int { return (n + 3) &^ 3 }

// Before reports whether serial number a comes before b (RFC 1982).
func Before(a, b uint32) bool { return int32(a-b) < 0 }

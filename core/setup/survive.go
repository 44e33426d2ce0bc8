package setup

import (
	"fmt"
	"strings"

	"patientheron/core/quantity"
)

// Failure is something that may go wrong with storage, which a use may have to survive.
type Failure string

// The failures.
const (
	AnyMember     Failure = "any member"
	AnyTwoMembers Failure = "any two members"
	APath         Failure = "a path"
	AShelf        Failure = "a shelf"
	AController   Failure = "a controller"
	APowerCut     Failure = "a power cut"
	ASite         Failure = "a site"
)

// Failures lists them all.
func Failures() []Failure {
	return []Failure{AnyMember, AnyTwoMembers, APath, AShelf, AController, APowerCut, ASite}
}

// ParseFailure reads one.
func ParseFailure(text string) (Failure, error) {
	names := []string{}
	for _, f := range Failures() {
		if string(f) == strings.TrimSpace(text) {
			return f, nil
		}
		names = append(names, string(f))
	}
	return "", fmt.Errorf("%q is no failure that is known here; there are: %s", text, strings.Join(names, ", "))
}

// Answer says whether something is so, as far as the facts tell.
type Answer string

// The answers.
const (
	Yes      Answer = "yes"
	No       Answer = "no"
	NotKnown Answer = "not known"
)

// Aftermath is what a failure does to a setup.
type Aftermath struct {
	Failure  Failure `json:"failure" enum:"any member,any two members,a path,a shelf,a controller,a power cut,a site"`
	Survives Answer  `json:"survives" enum:"yes,no,not known" doc:"Whether all data stay intact and accessible"`
	Words    string  `json:"words" doc:"Why, or which fact would tell"`
}

// After says what is left of a setup after a failure. What nobody knows makes it not
// known, unless something that is known decides.
func (s Setup) After(f Failure) Aftermath {
	var of func() (Answer, string)
	switch f {
	case AnyMember:
		of = func() (Answer, string) { return s.without(1) }
	case AnyTwoMembers:
		of = func() (Answer, string) { return s.without(2) }
	case APath:
		of = s.withoutPath
	case AShelf:
		of = s.withoutShelf
	case AController:
		of = s.withoutController
	case APowerCut:
		of = s.withoutPower
	default:
		of = s.withoutSite
	}
	answer, words := of()
	return Aftermath{f, answer, words}
}

// mayMiss is how many members of a set of a level may be missing whichever they are. Known
// is false when the level or the number is not.
func mayMiss(level string, members float64) (most int, known bool) {
	switch level {
	case "single", "concatenation", "raid0":
		return 0, true
	case "raid1":
		return int(members) - 1, members > 0
	case "raid10", "raid5": // of pairs the second may be the other one
		return 1, true
	case "raid6":
		return 2, true
	}
	return 0, false
}

// without says whether data stay when so many members fail, whichever they are: of the
// media, of tiers, and of caches that hold the only copy of what was written.
func (s Setup) without(many int) (Answer, string) {
	type set struct {
		name  string
		most  int
		known bool
		lacks string
	}
	members, known := s.members()
	level := s.level()
	most, of := mayMiss(level, members)
	missing := int(s.Number("layout.missing"))
	sets := []set{{"the media", most - missing, of && (known || level != "raid1"), "layout.level and media[0].count"}}
	for i := range s.tiers() {
		at := TierAt(i)
		most, of := mayMiss(s.Text(at+"level"), s.Number(at+"count"))
		sets = append(sets, set{"the " + TierName(i), most, of, at + "level"})
	}
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		switch medium := s.cacheMedium(at); {
		case s.Text(at+"mode") != "write-back" || medium == "memory":
		case medium == "":
			sets = append(sets, set{"the " + Part(at), 0, false, at + "medium"})
		default:
			sets = append(sets, set{"the " + Part(at), truth(s.Is(at + "protected")), s.Text(at+"protected") != "", at + "protected"})
		}
	}
	words := []string{}
	answer := Yes
	for _, one := range sets {
		switch {
		case !one.known:
			if answer == Yes {
				answer = NotKnown
			}
			words = append(words, fmt.Sprintf("that of %s is not known; tell %s", one.name, one.lacks))
		case one.most < many:
			answer = No
			words = append(words, fmt.Sprintf("%s may lose %s", one.name, upTo(one.most)))
		default:
			words = append(words, fmt.Sprintf("%s may lose %s, whichever", one.name, upTo(one.most)))
		}
	}
	if missing > 0 {
		words = append(words, fmt.Sprintf("%d is missing already", missing))
	}
	return answer, strings.Join(words, "; ")
}

// cacheMedium is what a cache is made of; "" where nobody knows. Devices are SSDs.
func (s Setup) cacheMedium(at string) string {
	if medium := s.Text(at + "medium"); medium != "" || s.Number(at+"devices") == 0 {
		return medium
	}
	return "ssd"
}

func truth(is bool) int {
	if is {
		return 1
	}
	return 0
}

func upTo(members int) string {
	if members < 1 {
		return "none"
	}
	return fmt.Sprint(members)
}

func (s Setup) withoutPath() (Answer, string) {
	links := s.Count("link")
	for i := range links {
		at := fmt.Sprintf("link[%d].count", i)
		switch n := s.Number(at); {
		case n == 0 && s.madeUp(), n == 1:
			return No, "there is one link"
		case n == 0:
			return NotKnown, "how many links there are is not known; tell " + at
		}
	}
	switch {
	case links > 0:
		return Yes, "there is another link"
	case s.madeUp() || s.Text("transport.protocol") == "local":
		return Yes, "there is no link between the host and its storage"
	}
	return NotKnown, "whether there is a link, and another one, is not known; tell link[0].count"
}

// withoutController says whether another controller carries on, and with all that was written: what
// one has in its own memory alone is lost with it, whether a battery keeps it or not.
func (s Setup) withoutController() (Answer, string) {
	n := s.Number("controller.count")
	switch {
	case n == 0:
		return NotKnown, "how many there are is not known; tell controller.count"
	case n < 2:
		return No, "there is one"
	}
	words := fmt.Sprintf("there are %.0f, and any one can carry on alone", n)
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		if s.Text(at+"mode") != "write-back" || s.cacheMedium(at) == "ssd" {
			continue
		}
		switch s.Text(at + "mirrored") {
		case "":
			return NotKnown, fmt.Sprintf("%s; whether the dirty data of %s are mirrored is not known; tell %smirrored", words, "the "+Part(at), at)
		case "no":
			return No, fmt.Sprintf("%s, but the dirty data of %s are lost", words, "the "+Part(at))
		}
		words += fmt.Sprintf("; %s is mirrored", "the "+Part(at))
	}
	return Yes, words
}

// withoutPower says whether what was answered for stays: every memory that answers before it has
// passed on what it got must keep it. What was flushed stays even where one does not.
func (s Setup) withoutPower() (Answer, string) {
	if s.Is("power.protected") {
		return Yes, "the power is protected"
	}
	type memory struct{ name, key string }
	var memories []memory
	if s.Text("controller.policy") == "write-back" {
		memories = append(memories, memory{"the controller's memory", "controller.battery"})
	}
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		if s.Text(at+"mode") == "write-back" && s.cacheMedium(at) != "ssd" {
			memories = append(memories, memory{"the " + Part(at), at + "protected"})
		}
	}
	answer, words := Yes, []string{}
	for _, m := range memories {
		switch {
		case s.Text(m.key) == "":
			if answer == Yes {
				answer = NotKnown
			}
			words = append(words, fmt.Sprintf("whether %s keeps dirty data is not known; tell %s", m.name, m.key))
		case !s.Is(m.key):
			answer = No
			words = append(words, m.name+" loses dirty data")
		default:
			words = append(words, m.name+" keeps its data")
		}
	}
	if s.volatileDrives() {
		return No, strings.Join(append(words, "the drives' write caches lose data that were not flushed"), "; ")
	}
	if len(memories) > 0 {
		return answer, strings.Join(words, "; ")
	}
	if s.madeUp() || s.Text("controller.policy") != "" {
		return Yes, "no write is confirmed before it is on the media; data that were not flushed may be lost"
	}
	return NotKnown, "whether writes are confirmed before they are on the media is not known; tell controller.policy"
}

// volatileDrives reports drives that answer for writes out of memory that a power cut empties.
func (s Setup) volatileDrives() bool {
	for i := range s.Count("media") {
		if s.Is(fmt.Sprintf("media[%d].writeCache", i)) {
			return true
		}
	}
	for i := range s.tiers() {
		if s.Is(TierAt(i) + "writeCache") {
			return true
		}
	}
	return false
}

func (s Setup) withoutSite() (Answer, string) {
	switch s.Text("replication.mode") {
	case "synchronous":
		return Yes, "all written data are at another site"
	case "asynchronous":
		return No, "data that were not replicated yet are lost"
	}
	if s.madeUp() {
		return No, "there is no replication"
	}
	return NotKnown, "whether data are replicated is not known; tell replication.mode"
}

// Exposure is how long a set of members is without one at least, from when a new one is
// there: its size over the rate that it can be read at and written at. It is 0 where a
// level has nothing to rebuild from, or where that is not known; the words say which.
func (s Setup) Exposure() (least quantity.Seconds, words string) {
	members, _ := s.members()
	most, known := mayMiss(s.level(), members)
	switch {
	case !known:
		return 0, "the RAID level is not known; tell layout.level"
	case most == 0:
		return 0, "nothing is left to rebuild from"
	}
	for i := range s.Count("media") {
		at := fmt.Sprintf("media[%d].", i)
		size, rate := s.Bytes(at+"size"), s.ByteRate(at+"writeRate")
		if outer, inner := s.ByteRate(at+"readRate"), s.ByteRate(at+"innerRate"); inner > 0 && inner < outer && rate == 0 {
			rate = (outer + inner) / 2 // every track takes a turn: that is what a whole disk takes
		}
		if reads := s.ByteRate(at + "readRate"); rate == 0 || reads > 0 && reads < rate {
			rate = reads
		}
		if size == 0 || rate == 0 {
			return 0, fmt.Sprintf("that time is not known; tell %ssize and %swriteRate", at, at)
		}
		least = max(least, quantity.Seconds(float64(size)/float64(rate)))
	}
	return least, "at least " + least.String()
}

// Usable is the room that is left for data; 0 when that is not known, with the facts that
// would tell. Of members of several sizes each counts as the smallest, unless they stand
// one behind the other.
func (s Setup) Usable() (room quantity.Bytes, lacks string) {
	if told := s.Bytes("volume.usable"); told > 0 {
		return told, ""
	}
	const all = "volume.usable, or media[0].count, media[0].size and layout.level"
	members, known := s.members()
	var smallest, sum quantity.Bytes
	for i := range s.Count("media") {
		size, n := s.Bytes(fmt.Sprintf("media[%d].size", i)), s.Number(fmt.Sprintf("media[%d].count", i))
		if known = known && size > 0; i == 0 || size < smallest {
			smallest = size
		}
		sum += size * quantity.Bytes(n)
	}
	if !known {
		return 0, all
	}
	n := quantity.Bytes(members)
	parity := quantity.Bytes(1)
	switch s.level() {
	case "single", "concatenation":
		return sum, ""
	case "raid0":
		return smallest * n, ""
	case "raid1":
		return smallest, ""
	case "raid10":
		return smallest * n / 2, ""
	case "raid6":
		parity = 2
	case "raid5":
	default:
		return 0, all
	}
	if columns := quantity.Bytes(s.Number("layout.stripe")); columns > parity {
		return smallest * ((n - quantity.Bytes(s.Number("layout.spares"))) / columns) * (columns - parity), ""
	}
	return smallest * max(n-parity, 0), ""
}

package array

import "slices"

// shelf is an expander between the controller and the members behind it: its width carries what
// goes to them and what comes from them.
type shelf struct{ out, in server }

func newShelves(s Shelves) []shelf {
	shelves := make([]shelf, s.Count)
	for i := range shelves {
		shelves[i] = shelf{server{perByte: perSecond(float64(s.Rate))}, server{perByte: perSecond(float64(s.Rate))}}
	}
	return shelves
}

// toShelf lets what is written pass the expander on its way to a member.
func (m *member) toShelf(a *Array, id int32, c *command) {
	if m.shelf != nil && c.piece.write {
		if at := m.shelf.out.pass(a.now, c.piece.length); at > a.now {
			c.step = commandToMember
			a.events.add(at, partGoesOn, id)
			return
		}
	}
	m.submit(a, id, c)
}

// fromShelf lets what was read pass the expander on its way back, and reports whether that takes
// time.
func (m *member) fromShelf(a *Array, id int32, c *command) bool {
	if m.shelf == nil || c.piece.write || c.step == commandAcross || c.step == commandGivenUp {
		return false
	}
	at := m.shelf.in.pass(a.now, c.piece.length)
	if at == a.now {
		return false
	}
	c.step = commandAcross
	a.events.add(at, partGoesOn, id)
	return true
}

func (s Shelves) validate(members int) error {
	switch {
	case s.Count < 0 || s.Count > members:
		return wrong("shelves.count", "%d; from 1 to the %d members", s.Count, members)
	case s.Count == 0 && s != (Shelves{}):
		return wrong("shelves.count", "is missing; how many shelves the members stand in")
	case !(s.Rate >= 0):
		return wrong("shelves.rate", "%s; what each shelf carries in each direction, such as 4.8GB/s", s.Rate)
	case !slices.Contains([]Dealt{"", InOrder, InTurn}, s.Dealt):
		return wrong("shelves.dealt", "%q; in order or in turn", s.Dealt)
	}
	return nil
}

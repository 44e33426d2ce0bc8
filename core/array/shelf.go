package array

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

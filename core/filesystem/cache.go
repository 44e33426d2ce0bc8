package filesystem

// cache is the memory of the host for blocks of metadata, by a clock: a block that was
// used since the hand passed it stays (Corbató, A paging experiment with the Multics
// system, 1968). What is changed and not yet in its place stays in any case.
type cache struct {
	most  int
	at    map[uint32]int32
	slots []cached
	hand  int
}

type cached struct {
	block       uint32
	used, dirty bool
}

func (c *cache) clear() {
	c.at, c.slots, c.hand = map[uint32]int32{}, nil, 0
}

// has reports whether a block is there, and notes that it was used.
func (c *cache) has(block uint32) bool {
	i, is := c.at[block]
	if is {
		c.slots[i].used = true
	}
	return is
}

// put puts a block in, in place of one that was not used for long.
func (c *cache) put(block uint32) *cached {
	if i, is := c.at[block]; is {
		return &c.slots[i]
	}
	if len(c.slots) >= c.most {
		for range 2 * len(c.slots) {
			s := &c.slots[c.hand]
			i := int32(c.hand)
			if c.hand++; c.hand == len(c.slots) {
				c.hand = 0
			}
			if s.used || s.dirty {
				s.used = false
				continue
			}
			delete(c.at, s.block)
			*s = cached{block: block}
			c.at[block] = i
			return s
		}
	}
	c.slots = append(c.slots, cached{block: block})
	c.at[block] = int32(len(c.slots) - 1)
	return &c.slots[len(c.slots)-1]
}

func (c *cache) setDirty(block uint32, dirty bool) { c.put(block).dirty = dirty }

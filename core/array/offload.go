package array

// A copy that a host asks for and the array makes: what is at one place is read, passes the way
// that is there for it, and is written to another place, by way of all caches. Nothing but the
// command and its answer comes by the host's path.

// offloaded is an operation that copies: where from, and the part of it that reads.
type offloaded struct {
	source int64
	read   int32
}

// copy begins to copy.
func (a *Array) copy(n int32) {
	c := a.offloaded[n]
	j := a.jobs.at(n)
	j.step, j.level = stepCopied, -1
	length := j.length
	c.read = a.part(n, reads, c.source, length)
	a.offloaded[n] = c
	a.enter(c.read)
}

// copied takes a copy on that was read.
func (a *Array) copied(n int32) {
	c := a.offloaded[n]
	j := a.jobs.at(n)
	delete(a.offloaded, n)
	if j.failed {
		a.leave(n)
		return
	}
	if a.watch != nil {
		a.watch.copied(n, c.read, j.offset-c.source)
	}
	a.spend(j, placeCopying)
	a.after(a.copier.pass(a.now, j.length), n, stepCopyLands)
}

// copyLands writes a copy, to the far array as well.
func (a *Array) copyLands(n int32) {
	j := a.jobs.at(n)
	a.spend(j, placeMembers)
	j.step = stepWait
	w := a.part(n, writes, j.offset, j.length)
	if a.far != nil {
		a.replicate(w)
		return
	}
	a.enter(w)
}

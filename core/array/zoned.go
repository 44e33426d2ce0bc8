package array

// zones are the zones of a drive that the host manages: each is written in order, from
// its beginning to its end, and anew only after a reset (host-managed zoned block
// devices: INCITS 536, Zoned Block Commands).
type zones struct {
	size    int64
	pointer []int64 // bytes of each zone that were written
	most    int     // zones that may be written in part at a time; 0 for any number
	begun   int     // that are
}

func newZones(g Group, filled int64) *zones {
	z := &zones{size: int64(g.Zone), most: g.OpenZones, pointer: make([]int64, g.Capacity/g.Zone)}
	for i := range z.pointer {
		z.pointer[i] = min(max(filled-int64(i)*z.size, 0), z.size) / pageSize * pageSize
		if z.isBegun(i) {
			z.begun++
		}
	}
	return z
}

func (z *zones) isBegun(i int) bool { return z.pointer[i] > 0 && z.pointer[i] < z.size }

// write moves the pointer of a zone on. It reports false for a write that does not begin
// there, goes beyond the zone, or would begin one zone too many.
func (z *zones) write(from, to int64) bool {
	i := int(from / z.size)
	begin := int64(i) * z.size
	if from != begin+z.pointer[i] || to > begin+z.size {
		return false
	}
	if z.pointer[i] == 0 && z.most > 0 && z.begun == z.most && to-begin < z.size {
		return false
	}
	was := z.isBegun(i)
	z.pointer[i] = to - begin
	z.begun += bit(z.isBegun(i)) - bit(was)
	return true
}

// reset empties the zones that a range covers.
func (z *zones) reset(from, to int64) {
	for i := (from + z.size - 1) / z.size; (i+1)*z.size <= to; i++ {
		z.begun -= bit(z.isBegun(int(i)))
		z.pointer[i] = 0
	}
}

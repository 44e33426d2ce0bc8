package array

// zones are the zones of a drive that the host manages: each is written in order, from
// its beginning to its end, and anew only after a reset (host-managed zoned block
// devices: INCITS 536, Zoned Block Commands).
type zones struct {
	size    int64
	pointer []int64 // bytes of each zone that were written
	most    int     // zones that may be written in part at a time; 0 for any number
	begun   int     // that are
	touched int     // zones from the first to the last that was written or reset
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

// Refusal is why a zone did not take a write.
type Refusal uint8

// The refusals; the zero Refusal is none.
const (
	OutOfOrder  Refusal = iota + 1 // it does not begin where its zone goes on
	BeyondZone                     // it goes beyond its zone
	TooManyOpen                    // it would begin one zone too many
)

// String says it in words.
func (r Refusal) String() string {
	switch r {
	case OutOfOrder:
		return "it does not begin where its zone goes on"
	case BeyondZone:
		return "it goes beyond the end of its zone"
	case TooManyOpen:
		return "as many zones as the drive takes are written in part"
	}
	return ""
}

// write moves the pointer of a zone on, or says why it does not.
func (z *zones) write(from, to int64) Refusal {
	i := int(from / z.size)
	begin := int64(i) * z.size
	switch {
	case from != begin+z.pointer[i]:
		return OutOfOrder
	case to > begin+z.size:
		return BeyondZone
	case z.pointer[i] == 0 && z.most > 0 && z.begun == z.most && to-begin < z.size:
		return TooManyOpen
	}
	z.touched = max(z.touched, i+1)
	was := z.isBegun(i)
	z.pointer[i] = to - begin
	z.begun += bit(z.isBegun(i)) - bit(was)
	return 0
}

// reset empties the zones that a range covers.
func (z *zones) reset(from, to int64) {
	for i := (from + z.size - 1) / z.size; (i+1)*z.size <= to; i++ {
		z.touched = max(z.touched, int(i)+1)
		z.begun -= bit(z.isBegun(int(i)))
		z.pointer[i] = 0
	}
}

// mapCells is how many cells the map of zones has at most.
const mapCells = 64

// ZoneMap is how full the zones of all drives are, those that were ever touched: a digit for
// each, or for as many beside each other as it takes to make no more than 64, from 0 for
// empty to 9 for full. It is empty for an array without zones.
func (a *Array) ZoneMap() string {
	var shares []float64
	for i := range a.members {
		if z := a.members[i].zones; z != nil {
			for _, pointer := range z.pointer[:z.touched] {
				shares = append(shares, float64(pointer)/float64(z.size))
			}
		}
	}
	each := (len(shares) + mapCells - 1) / mapCells
	cells := make([]byte, 0, mapCells)
	for from := 0; from < len(shares); from += each {
		sum, part := 0.0, shares[from:min(from+each, len(shares))]
		for _, share := range part {
			sum += share
		}
		switch mean := sum / float64(len(part)); {
		case mean == 0:
			cells = append(cells, '0')
		case mean == 1:
			cells = append(cells, '9')
		default:
			cells = append(cells, '1'+byte(mean*8))
		}
	}
	return string(cells)
}

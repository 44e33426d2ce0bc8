// Package choose looks for what to buy: it combines parts that have prices into sensible
// designs, discards in closed form what cannot meet a need, and measures the rest as
// simulated arrays, the more of their time the longer they are in the race.
//
// It measures nothing by itself: who calls it says how an array is measured under a load.
// The answer is a need that was judged on those that are left, so that every word about
// them is the one that is said of what was really measured; only that it is simulated.
//
//	search := choose.Search{Need: n, Parts: parts, Measure: measure}
//	result, err := search.Run(ctx)
package choose

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/array"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by every error about parts that cannot be.
var ErrInvalid = errors.New("impossible parts")

func invalid(field, format string, arguments ...any) error {
	return mistake.In(ErrInvalid, field, format, arguments...)
}

// Item is what every part has.
type Item struct {
	Name  string  `json:"name"`
	Price float64 `json:"price" doc:"Of one"`
	Bays  int     `json:"bays,omitempty" doc:"Bays that one takes; of an enclosure, that it has"`
	Text  string  `json:"text,omitempty" doc:"What it is, as it stands in an array file"`
}

// Drive is a kind of drive that members are made of.
type Drive struct {
	Item
	Counts []int       `json:"counts" doc:"Numbers of members to try"`
	Member array.Group `json:"-"`
}

// Cache is one that may stand in front.
type Cache struct {
	Item
	Cache array.Cache `json:"-"`
}

// Tier is one that may hold what is used most.
type Tier struct {
	Item
	Tier array.Tier `json:"-"`
}

// Controller is what every operation passes.
type Controller struct {
	Item
	Count      int              `json:"count,omitempty" doc:"That are in it, of which any carries on alone; 0 for one"`
	Controller array.Controller `json:"-"`
}

// Link is a way to the hosts.
type Link struct {
	Item
	Link array.Link `json:"-"`
}

// Parts is a list of what can be bought, and of how it may be put together.
type Parts struct {
	Name        string           `json:"name"`
	Drives      []Drive          `json:"drives"`
	Caches      []Cache          `json:"caches,omitempty"`
	Tiers       []Tier           `json:"tiers,omitempty"`
	Controllers []Controller     `json:"controllers,omitempty"`
	Links       []Link           `json:"links,omitempty"`
	Enclosures  []Item           `json:"enclosures,omitempty"`
	Levels      []array.Level    `json:"levels"`
	Chunks      []quantity.Bytes `json:"chunks,omitempty" doc:"Sizes of chunks to try; one of 64 KiB where none is given"`
	Spares      int              `json:"spares,omitempty" doc:"Drives of the same kind that lie beside each design, and are paid for"`
}

// The most that a search goes over.
const (
	mostDesigns = 50_000
	mostOfOne   = 64 // parts of a kind
)

// Validate reports what cannot be of parts. Errors are of type *mistake.Error.
func (p Parts) Validate() error {
	switch {
	case p.Name == "":
		return invalid("name", "the list has no name")
	case len(p.Drives) == 0:
		return invalid("drives", "there is no drive")
	case len(p.Levels) == 0:
		return invalid("levels", "it names no RAID levels; try [raid10, raid5, raid6]")
	case p.Spares < 0 || p.Spares > 100:
		return invalid("spares", "%d", p.Spares)
	}
	known := []array.Level{array.Concatenation, array.Stripe, array.Mirror, array.MirrorStripe, array.Parity, array.DoubleParity}
	for i, l := range p.Levels {
		if !slices.Contains(known, l) {
			return invalid(fmt.Sprintf("levels[%d]", i), "%q; there are concatenation, raid0, raid1, raid10, raid5 and raid6", l)
		}
	}
	for i, c := range p.Chunks {
		if c < 4096 || c > 64*quantity.MiB || c%4096 != 0 {
			return invalid(fmt.Sprintf("chunks[%d]", i), "%s; a multiple of 4 KiB up to 64 MiB", c)
		}
	}
	seen := map[string]bool{}
	for _, kind := range p.items() {
		if len(kind.items) > mostOfOne {
			return invalid(kind.name, "%d of them; %d at most", len(kind.items), mostOfOne)
		}
		for i, item := range kind.items {
			at := fmt.Sprintf("%s[%d]", kind.name, i)
			switch {
			case item.Name == "":
				return invalid(at, "it has no name")
			case seen[item.Name]:
				return invalid(at, "two parts are called %q", item.Name)
			case !(item.Price > 0) || item.Price > 1e12:
				return invalid(at, "%q has no price", item.Name)
			case item.Bays < 0 || item.Bays > 10_000, kind.name == "enclosures" && item.Bays == 0:
				return invalid(at, "%q has %d bays", item.Name, item.Bays)
			}
			seen[item.Name] = true
		}
	}
	for i, t := range p.Tiers {
		if t.Tier.Members.Price != 0 || slices.ContainsFunc(t.Tier.Lower, func(l array.LowerTier) bool { return l.Members.Price != 0 }) {
			return invalid(fmt.Sprintf("tiers[%d]", i), "put the price of %q beside its members", t.Name)
		}
	}
	for i, d := range p.Drives {
		at := fmt.Sprintf("drives[%d]", i)
		if d.Member.Price != 0 {
			return invalid(at+".members.price", "put the price of %q beside its members", d.Name)
		}
		if len(d.Counts) == 0 || len(d.Counts) > 64 {
			return invalid(at+".counts", "it does not say how many of %q to try, such as [4, 6, 8]", d.Name)
		}
		for _, n := range d.Counts {
			if n < 1 || n > 1000 {
				return invalid(at+".counts", "%d of %q", n, d.Name)
			}
		}
	}
	if n := p.combinations(); n > mostDesigns {
		return invalid("", "the parts make %d designs; %d at most: try fewer counts, chunks or levels", n, mostDesigns)
	}
	return nil
}

type kindOfItem struct {
	name  string
	items []Item
}

func (p Parts) items() []kindOfItem {
	kinds := []kindOfItem{{name: "drives"}, {name: "caches"}, {name: "tiers"}, {name: "controllers"}, {name: "links"}, {"enclosures", p.Enclosures}}
	for _, d := range p.Drives {
		kinds[0].items = append(kinds[0].items, d.Item)
	}
	for _, c := range p.Caches {
		kinds[1].items = append(kinds[1].items, c.Item)
	}
	for _, t := range p.Tiers {
		kinds[2].items = append(kinds[2].items, t.Item)
	}
	for _, c := range p.Controllers {
		kinds[3].items = append(kinds[3].items, c.Item)
	}
	for _, l := range p.Links {
		kinds[4].items = append(kinds[4].items, l.Item)
	}
	return kinds
}

func (p Parts) combinations() int {
	n := 0
	for _, d := range p.Drives {
		n += len(d.Counts)
	}
	return n * len(p.Levels) * max(len(p.Chunks), 1) * (1 + len(p.Caches) + len(p.Tiers)) * max(len(p.Controllers), 1) * max(len(p.Links), 1)
}

// BillLine is one line of what a design is bought from.
type BillLine struct {
	Name   string  `json:"name"`
	Number int     `json:"number"`
	Price  float64 `json:"price" doc:"Of all of them"`
}

// Design is parts put together.
type Design struct {
	Name        string            `json:"name"`
	Price       float64           `json:"price"`
	Bill        []BillLine        `json:"bill"`
	Text        string            `json:"text" doc:"The array file of it"`
	Description array.Description `json:"-"`

	bays        int
	controllers int
}

// designs puts the parts together in every sensible way, in an order that is always the
// same: a cache or a tier, not both; the cheapest enclosure that has the bays. What no
// enclosure holds is given apart.
func (p Parts) designs() (all, tooLarge []Design) {
	chunks := p.Chunks
	if len(chunks) == 0 {
		chunks = []quantity.Bytes{64 * quantity.KiB}
	}
	for _, d := range p.Drives {
		for _, count := range d.Counts {
			for _, level := range p.Levels {
				if !sensible(level, count) {
					continue
				}
				for c, chunk := range chunks {
					if c > 0 && (level == array.Mirror || level == array.Concatenation) {
						break // which have none that matters
					}
					for _, front := range p.fronts() {
						for _, controller := range orNone(p.Controllers) {
							for _, link := range orNone(p.Links) {
								design, fits := p.design(d, count, level, chunk, len(chunks) > 1, front, controller, link)
								if !fits {
									tooLarge = append(tooLarge, design)
									continue
								}
								all = append(all, design)
							}
						}
					}
				}
			}
		}
	}
	return all, tooLarge
}

// sensible reports whether so many members make sense at a level.
func sensible(level array.Level, count int) bool {
	switch level {
	case array.Mirror:
		return count == 2
	case array.MirrorStripe:
		return count >= 4 && count%2 == 0
	case array.Parity:
		return count >= 3
	case array.DoubleParity:
		return count >= 4
	case array.Stripe:
		return count >= 2
	}
	return true
}

// front is what may stand in front of the members; all nil for nothing.
type front struct {
	cache *Cache
	tier  *Tier
}

func (p Parts) fronts() []front {
	all := []front{{}}
	for i := range p.Caches {
		all = append(all, front{cache: &p.Caches[i]})
	}
	for i := range p.Tiers {
		all = append(all, front{tier: &p.Tiers[i]})
	}
	return all
}

func orNone[T any](parts []T) []*T {
	if len(parts) == 0 {
		return []*T{nil}
	}
	all := make([]*T, len(parts))
	for i := range parts {
		all[i] = &parts[i]
	}
	return all
}

func (p Parts) design(drive Drive, count int, level array.Level, chunk quantity.Bytes, named bool, f front, controller *Controller, link *Link) (Design, bool) {
	d := Design{Name: fmt.Sprintf("%d × %s, %s", count, drive.Name, level)}
	if named {
		d.Name += " by " + chunk.String()
	}
	member := drive.Member
	member.Count = count
	d.Description = array.Description{Members: []array.Group{member}, Layout: array.Layout{Level: level, Chunk: chunk}}
	chunkText, _ := chunk.MarshalYAML() // cannot fail
	file := []string{"members: " + withCount(drive.Text, count), fmt.Sprintf("layout: {level: %s, chunk: %s}", level, chunkText)}
	add := func(i Item, number int, key string) {
		d.Bill = append(d.Bill, BillLine{i.Name, number, i.Price * float64(number)})
		d.Price += i.Price * float64(number)
		d.bays += i.Bays * number
		if key != "" {
			d.Name += ", " + i.Name
			file = append(file, key+": "+i.Text)
		}
	}
	if drive.Bays == 0 {
		drive.Bays = 1
	}
	add(drive.Item, count, "")
	if p.Spares > 0 {
		lying := drive.Item
		lying.Name, lying.Bays = drive.Name+", lying by", 0
		add(lying, p.Spares, "")
	}
	if f.cache != nil {
		d.Description.Caches = []array.Cache{f.cache.Cache}
		add(f.cache.Item, 1, "caches")
	}
	if f.tier != nil {
		tier := f.tier.Tier
		d.Description.Tier = &tier
		add(f.tier.Item, 1, "tier")
	}
	if controller != nil {
		d.Description.Controller = controller.Controller
		d.controllers = max(controller.Count, 1)
		key := "controller"
		if len(p.Controllers) == 1 {
			key = ""
			file = append(file, "controller: "+controller.Text)
		}
		add(controller.Item, 1, key)
	}
	if link != nil {
		d.Description.Link = link.Link
		key := "link"
		if len(p.Links) == 1 {
			key = ""
			file = append(file, "link: "+link.Text)
		}
		add(link.Item, 1, key)
	}
	if len(p.Enclosures) > 0 {
		holds, found := Item{}, false
		for _, e := range p.Enclosures {
			if e.Bays >= d.bays && (!found || e.Price < holds.Price) {
				holds, found = e, true
			}
		}
		if !found {
			return d, false
		}
		holds.Bays = 0
		add(holds, 1, "")
	}
	d.Description.Name, d.Description.Price = d.Name, d.Price
	d.Text = fmt.Sprintf("name: %q\nprice: %g\n%s\n", d.Name, d.Price, strings.Join(file, "\n"))
	return d, true
}

// withCount puts the number into the text of a group of members.
func withCount(text string, count int) string {
	return fmt.Sprintf("{count: %d, %s", count, strings.TrimPrefix(strings.TrimSpace(text), "{"))
}

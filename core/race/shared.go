package race

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// pegged is the share of time, or of what can be passed, from which on something held up
// those who shared it.
const pegged = 0.9

// shared says what racers shared, and whether it held them up: what one of them got the
// others then lacked, and the race says less about each than measuring it alone does.
func shared(racers []Racer) (cautions []string) {
	var here []Racer
	for _, r := range racers {
		if !r.Virtual {
			here = append(here, r)
		}
	}
	if len(here) < 2 {
		return nil
	}
	cautions = append(cautions, folders(here)...)
	cautions = append(cautions, devices(here)...)
	cautions = append(cautions, links(here)...)
	return append(cautions, host(here)...)
}

// by sorts the names of racers by what they have; keys that only one has are left out.
func by(racers []Racer, keys func(Racer) []string) map[string][]string {
	of := map[string][]string{}
	for _, r := range racers {
		for _, key := range slices.Compact(slices.Sorted(slices.Values(keys(r)))) {
			of[key] = append(of[key], r.Name)
		}
	}
	maps.DeleteFunc(of, func(key string, names []string) bool { return key == "" || len(names) < 2 })
	return of
}

// folders finds the folders from which files are put on several.
func folders(racers []Racer) (cautions []string) {
	of := by(racers, func(r Racer) []string { return []string{r.Load.Traits().Source} })
	for _, folder := range slices.Sorted(maps.Keys(of)) {
		cautions = append(cautions, fmt.Sprintf("The files of %s come from the same folder %s, which all of them read at once: what holds that up holds up all of them. Measure them in turn.", listed(of[folder]), folder))
	}
	return cautions
}

// devices finds the block devices on which several lie.
func devices(racers []Racer) (cautions []string) {
	of := by(racers, func(r Racer) []string {
		if r.Facts == nil {
			return nil
		}
		return r.Facts.Devices
	})
	for _, name := range slices.Sorted(maps.Keys(of)) {
		busy, known := 0.0, 0.0
		for _, r := range racers {
			each(r.Series, func(_ quantity.Seconds, beside measure.Beside) {
				for _, d := range beside.Devices {
					if d.Name == name {
						busy, known = busy+float64(d.Busy), known+1
					}
				}
			})
		}
		words := fmt.Sprintf("%s lie on the same device %s", listed(of[name]), name)
		if known > 0 {
			words += fmt.Sprintf(", which was busy for %s of the time", quantity.Share(busy/known))
		}
		if known > 0 && busy/known >= pegged {
			words += ": what one got, the other lacked. Measure them in turn"
		}
		cautions = append(cautions, words+".")
	}
	return cautions
}

// links finds the network interfaces that lead to several, and the storage that several
// are on.
func links(racers []Racer) (cautions []string) {
	interfaces := by(racers, func(r Racer) (names []string) {
		for i := range r.Setup.Count("link") {
			names = append(names, r.Setup.Text(fmt.Sprintf("link[%d].interface", i)))
		}
		return names
	})
	for _, name := range slices.Sorted(maps.Keys(interfaces)) {
		words := fmt.Sprintf("%s are reached through the same interface %s", listed(interfaces[name]), name)
		passed, most := quantity.ByteRate(0), quantity.ByteRate(0)
		for _, r := range racers {
			if slices.Contains(interfaces[name], r.Name) {
				rate, of := passing(r, name)
				passed, most = passed+rate, max(most, of)
			}
		}
		if most > 0 {
			words += fmt.Sprintf(", and had %s of its %s together", passed, most)
			if float64(passed) >= pegged*float64(most) {
				words += ": it held them up, and what one got, the other lacked. Measure them in turn"
			}
		}
		cautions = append(cautions, words+".")
	}
	addresses := by(racers, func(r Racer) []string { return []string{r.Setup.Text("transport.address")} })
	for _, address := range slices.Sorted(maps.Keys(addresses)) {
		cautions = append(cautions, fmt.Sprintf("%s are on the same storage, %s: what holds that up holds up all of them.", listed(addresses[address]), address))
	}
	return cautions
}

// passing is the larger of what a racer read and wrote through an interface, of which
// each direction can pass so much.
func passing(r Racer, name string) (passed, most quantity.ByteRate) {
	for i := range r.Setup.Count("link") {
		at := fmt.Sprintf("link[%d].", i)
		if r.Setup.Text(at+"interface") != name {
			continue
		}
		most = r.Setup.ByteRate(at + "rate")
		if mtu := int(r.Setup.Number(at + "mtuHere")); mtu > 0 {
			most *= quantity.ByteRate(setup.PayloadShare(mtu))
		}
	}
	read, written, length := quantity.Bytes(0), quantity.Bytes(0), quantity.Seconds(0)
	for _, i := range r.Series {
		read += i.Classes[measure.Read].Bytes
		written += i.Classes[measure.Write].Bytes
		length += i.Length
	}
	if length > 0 {
		passed = quantity.ByteRate(float64(max(read, written)) / float64(length))
	}
	return passed, most
}

// host tells whether the processors of the host held racers up.
func host(racers []Racer) []string {
	busy, waits, length := 0.0, 0.0, 0.0
	each(racers[0].Series, func(of quantity.Seconds, beside measure.Beside) {
		if len(beside.CPU) == 0 {
			return
		}
		sum := 0.0
		for _, core := range beside.CPU {
			sum += float64(core)
		}
		busy += float64(of) * sum / float64(len(beside.CPU))
		length += float64(of)
	})
	for _, r := range racers {
		sum, of := 0.0, 0.0
		each(r.Series, func(length quantity.Seconds, beside measure.Beside) {
			sum, of = sum+float64(length)*beside.WorkerWaits, of+float64(length)
		})
		if of > 0 {
			waits += sum / of
		}
	}
	if length == 0 || busy/length < pegged {
		return nil
	}
	words := fmt.Sprintf("The processors of this host, from which all are driven, were busy for %s of the time", quantity.Share(busy/length))
	if waits >= 0.05 {
		words += fmt.Sprintf(", and %s of the workers' threads waited for one on average", quantity.Digits(waits))
	}
	return []string{words + ": they may have held all of them up. Measure them in turn, or ask for less at once."}
}

// each goes through what was counted beside a series.
func each(series []measure.Interval, do func(quantity.Seconds, measure.Beside)) {
	for _, i := range series {
		for _, b := range i.Beside {
			do(i.Length, b)
		}
	}
}

func listed(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// Package kinds names every kind of load that the product has. Whoever reads loads from outside
// imports it; a further kind is a line here.
package kinds

import (
	_ "patientheron/core/workload/block"
	_ "patientheron/core/workload/files"
	_ "patientheron/core/workload/stores"
	_ "patientheron/core/workload/streams"
)

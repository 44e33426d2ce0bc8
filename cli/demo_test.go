package cli

import (
	"net"
	"strconv"
	"strings"
	"testing"
)

// Where a port is taken the next one that is free is said and taken; other addresses stay.
func TestTheNextFreePortIsTaken(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	var log strings.Builder
	got := nextFree(taken.Addr().String(), &log)
	if got == taken.Addr().String() || !strings.Contains(log.String(), "is taken; the demo listens on") {
		t.Errorf("%s, where %s is taken: %s", got, taken.Addr(), log.String())
	}
	_, first, _ := net.SplitHostPort(taken.Addr().String())
	_, port, err := net.SplitHostPort(got)
	from, _ := strconv.Atoi(first)
	if at, wrong := strconv.Atoi(port); err != nil || wrong != nil || at <= from || at > from+mostTaken {
		t.Errorf("%s after %s", got, taken.Addr())
	}
	log.Reset()
	for _, address := range []string{got, "no address", "127.0.0.1:none"} {
		if same := nextFree(address, &log); same != address || log.Len() > 0 {
			t.Errorf("%s became %s: %s", address, same, log.String())
		}
	}
}

package mistake

import (
	"context"
	"errors"
	"net"
	"strings"
	"syscall"
	"testing"
	"time"
)

// What a real network answers is said in words, and stays what it is.
func TestUnreachedInWords(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := l.Addr().String()
	l.Close()
	_, err = net.Dial("tcp", closed)
	if got := Unreached(closed, err); !strings.Contains(got.Error(), closed+" was refused") || strings.Contains(got.Error(), "dial") || !errors.Is(got, syscall.ECONNREFUSED) {
		t.Errorf("%v", got)
	}
	late, cancel := context.WithDeadline(t.Context(), time.Now().Add(-time.Second))
	defer cancel()
	_, err = (&net.Dialer{}).DialContext(late, "tcp", closed)
	if got := Unreached(closed, err); !strings.Contains(got.Error(), "in time") {
		t.Errorf("%v", got)
	}
	other := errors.New("something else")
	if got := Unreached(closed, other); got != other || Unreached(closed, nil) != nil {
		t.Errorf("%v", got)
	}
}

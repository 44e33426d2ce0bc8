// Package servicetest runs a whole service inside a test.
package servicetest

import (
	"log/slog"
	"testing"

	"patientheron/client"
	"patientheron/service"
)

// Run starts a service on a folder of its own, which ends with the test, and gives a
// client of it. Nothing leaves the process.
func Run(t testing.TB) *client.Client {
	t.Helper()
	s, err := service.Open(t.Context(), service.Options{Folder: t.TempDir(), Version: "test", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s.Client(t.Context())
}

package api

import (
	"io/fs"
	"net/http"
	"path"
	"reflect"
	"strings"
)

// consoleHandler serves the built console; every path that is no file is a
// page of the console and gets its index.
func consoleHandler(console fs.FS) http.Handler {
	files := http.FileServerFS(console)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, prefix) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write([]byte(`{"title":"Not Found","status":404,"detail":"there is no such call; the contract is at ` + prefix + `/openapi.json"}`))
			return
		}
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "only GET works here", http.StatusMethodNotAllowed)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(console, name); err == nil && !info.IsDir() {
			// Vite puts a digest of the content into the names of its assets.
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		index, err := fs.ReadFile(console, "index.html")
		if err != nil {
			http.Error(w, "the console was not built into this binary; run 'make build'", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.WriteHeader(http.StatusOK) // the router meant 404 for what it has no route for
		_, _ = w.Write(index)
	})
}

func typeOf[T any]() reflect.Type { return reflect.TypeFor[T]() }

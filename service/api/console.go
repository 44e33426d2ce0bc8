package api

import (
	"io/fs"
	"net/http"
	"path"
	"reflect"
	"strings"

	"patientheron/console"
)

// consoleHandler serves the built console: its files, and its index for the
// paths of its own pages. Any other path is not found, which a browser shows in
// the console's words and a program in plain ones.
func consoleHandler(built fs.FS) http.Handler {
	files := http.FileServerFS(built)
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
		if info, err := fs.Stat(built, name); err == nil && !info.IsDir() {
			// Vite puts a digest of the content into the names of its assets.
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		status := http.StatusOK
		if !console.IsPage(name) {
			status = http.StatusNotFound
			if !strings.Contains(r.Header.Get("Accept"), "text/html") {
				http.Error(w, "there is nothing here; the console is at / and the API's contract at "+prefix+"/openapi.json", status)
				return
			}
		}
		index, err := fs.ReadFile(built, "index.html")
		if err != nil {
			http.Error(w, "the console was not built into this binary; run 'make build'", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.WriteHeader(status)
		_, _ = w.Write(index)
	})
}

func typeOf[T any]() reflect.Type { return reflect.TypeFor[T]() }

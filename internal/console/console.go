// Package console holds the built web console.
package console

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// Handler serves the console: its files, and its one page for every other path.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if s, err := fs.Stat(files, name); err != nil || s.IsDir() {
			if _, err := fs.Stat(files, "index.html"); err != nil {
				http.Error(w, "this program was built without its console; run: make build", http.StatusNotImplemented)
				return
			}
			w.Header().Set("Cache-Control", "no-cache")
			http.ServeFileFS(w, r, files, "index.html")
			return
		}
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names hold a digest
		}
		server.ServeHTTP(w, r)
	})
}

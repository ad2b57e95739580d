package api

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"io/fs"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"
)

// noncePlace is where the console's page takes the nonce of its content security policy.
const noncePlace = "__NONCE__"

// serveConsole serves the built console. Every path that is no file and not under /api is the page
// itself: the console reads the address.
func serveConsole(r chi.Router, files fs.FS) {
	static := http.FileServerFS(files)
	r.Get("/assets/*", func(w http.ResponseWriter, req *http.Request) {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash of the content
		static.ServeHTTP(w, req)
	})
	r.Get("/favicon.svg", static.ServeHTTP)
	page := func(w http.ResponseWriter, req *http.Request) {
		if strings.HasPrefix(req.URL.Path, "/api/") {
			writeProblem(w, http.StatusNotFound, "no-such-address", "there is nothing at "+req.URL.Path)
			return
		}
		html, err := fs.ReadFile(files, "index.html")
		if err != nil {
			writeProblem(w, http.StatusNotFound, "no-console", "this program was built without its console: run  make build")
			return
		}
		var raw [16]byte
		_, _ = rand.Read(raw[:])
		nonce := base64.RawStdEncoding.EncodeToString(raw[:])
		h := w.Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Cache-Control", "no-store")
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		_, _ = w.Write(bytes.ReplaceAll(html, []byte(noncePlace), []byte(nonce)))
	}
	r.Get("/", page)
	r.Get("/*", page)
}

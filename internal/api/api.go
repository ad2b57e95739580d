// Package api is the HTTP interface: /api/v1 with its OpenAPI description, sign-in, health, and the
// console's files. Its types are those of service and core; nothing is computed here.
package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"dowsingrod/core/reading"
	"dowsingrod/internal/service"
)

// Version of the product.
const Version = "0.1.0"

// Config says how the interface is served.
type Config struct {
	Service *service.Service
	// Console holds the built console; nil serves none.
	Console fs.FS
	// Secure marks the session cookie for TLS only. It must be set wherever the service is reached
	// over TLS.
	Secure bool
	Log    *slog.Logger
	// SignInsPerMinute bounds attempts to sign in from one address; 0 takes 20.
	SignInsPerMinute int
}

type server struct{ Config }

// New returns the handler of the whole interface.
func New(c Config) http.Handler {
	if c.SignInsPerMinute == 0 {
		c.SignInsPerMinute = 20
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	s := &server{Config: c}
	r := chi.NewMux()
	r.Use(middleware.RequestID, s.log, recoverer(c.Log), headers)
	r.Use(http.NewCrossOriginProtection().Handler)
	r.Use(middleware.Compress(5, "application/json", "application/problem+json", "text/html", "text/css", "text/javascript", "image/svg+xml"))
	r.Use(limitPaths(httprate.LimitBy(c.SignInsPerMinute, time.Minute, peer), "/api/v1/session", "/api/v1/session/link"))
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.ready)
	s.register(humachi.New(r, config()))
	r.NotFound(func(w http.ResponseWriter, req *http.Request) {
		writeProblem(w, http.StatusNotFound, "no-such-address", "there is nothing at "+req.URL.Path)
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, req *http.Request) {
		writeProblem(w, http.StatusMethodNotAllowed, "method-not-allowed", req.Method+" is not done here")
	})
	if c.Console != nil {
		serveConsole(r, c.Console)
	}
	return r
}

func init() { huma.DefaultArrayNullable = false } // an empty list is [], never null

func config() huma.Config {
	c := huma.DefaultConfig("Dowsing Rod", Version)
	c.DocsPath = ""
	c.SchemasPath = ""
	c.CreateHooks = nil
	c.OpenAPIPath = "" // served by an operation of its own, to those who are signed in
	c.Info.Description = "Names the congested component and the noisy neighbour of a virtualization estate's storage, with evidence."
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A token made with `dowse token add`"},
		"session": {Type: "apiKey", In: "cookie", Name: cookieName, Description: "Set by signing in"},
	}
	c.Components.Schemas.RegisterTypeAlias(reflect.TypeFor[reading.Row](), reflect.TypeFor[[]*float64]())
	c.Components.Schemas.RegisterTypeAlias(reflect.TypeFor[reading.Figure](), reflect.TypeFor[*float64]())
	return c
}

// OpenAPI returns the description of the interface, version 3.1, as JSON.
func OpenAPI() ([]byte, error) {
	a := humachi.New(chi.NewMux(), config())
	(&server{}).register(a)
	return a.OpenAPI().MarshalJSON()
}

// peer is who is connected. Headers that name somebody else are not believed; behind a proxy all who
// come through it share one allowance.
func peer(r *http.Request) (string, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	return host, err
}

func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 3*time.Second)
	defer cancel()
	if err := s.Service.Ready(ctx); err != nil {
		writeProblem(w, http.StatusServiceUnavailable, "database-unavailable", "the database does not answer")
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

package live

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// State is what the lab tells of itself.
type State struct {
	Time    time.Time `json:"time"` // up to which it has been run
	Sources []string  `json:"sources"`
	Faults  []Begun   `json:"faults"`
}

// Ask begins a fault.
type Ask struct {
	Fault string  `json:"fault"`
	Part  int     `json:"part"`
	Seed  uint64  `json:"seed"`
	Ramp  float64 `json:"ramp_s"`
	Force float64 `json:"force"`
}

// Handler serves the estate to who has the token.
//
//	GET /feeds/{source}       a feed
//	GET /state                time, sources and faults
//	POST /faults              begins a fault
//	DELETE /faults/{id}       ends it
//	POST /remedies            tries a remedy
func (l *Live) Handler(token string) http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Compress(1, feed.MediaType, "application/json"))
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+token)) != 1 {
				w.Header().Set("WWW-Authenticate", "Bearer")
				problem(w, http.StatusUnauthorized, "send the token of the lab as Authorization: Bearer")
				return
			}
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/feeds/{source}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", feed.MediaType)
		if err := l.Feed(chi.URLParam(r, "source"), w); errors.Is(err, ErrNoSource) {
			problem(w, http.StatusNotFound, err.Error())
		}
	})
	r.Get("/state", func(w http.ResponseWriter, _ *http.Request) {
		s := State{Time: l.Until(), Faults: l.Faults()}
		for _, x := range l.Sources() {
			s.Sources = append(s.Sources, x.Name)
		}
		answer(w, s)
	})
	r.Post("/faults", func(w http.ResponseWriter, r *http.Request) {
		var a Ask
		if !read(w, r, &a) {
			return
		}
		b, err := l.Begin(a.Fault, a.Part, a.Seed, time.Duration(a.Ramp*float64(time.Second)), a.Force)
		if err != nil {
			problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		answer(w, b)
	})
	r.Delete("/faults/{id}", func(w http.ResponseWriter, r *http.Request) {
		id, err := strconv.Atoi(chi.URLParam(r, "id"))
		if err != nil {
			problem(w, http.StatusBadRequest, "a fault is ended by its number")
			return
		}
		b, err := l.End(id)
		if err != nil {
			problem(w, http.StatusNotFound, err.Error())
			return
		}
		answer(w, b)
	})
	r.Post("/remedies", func(w http.ResponseWriter, r *http.Request) {
		var x lab.Remedy
		if !read(w, r, &x) {
			return
		}
		said, err := l.Apply(x)
		if err != nil {
			problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		answer(w, map[string]string{"done": said})
	})
	return r
}

func read(w http.ResponseWriter, r *http.Request, into any) bool {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		problem(w, http.StatusBadRequest, "the request cannot be read: "+err.Error())
		return false
	}
	return true
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"status": status, "title": http.StatusText(status), "detail": detail})
}

package api

import (
	"context"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/service"
)

type body[T any] struct{ Body T }

// open registers an operation that needs no session.
func open[I, O any](api huma.API, op huma.Operation, f func(context.Context, *I) (*O, error)) {
	op.Tags = []string{"access"}
	huma.Register(api, op, f)
}

// add registers an operation for those who have the role, and turns its errors into problems.
func add[I, O any](s *server, api huma.API, role service.Role, op huma.Operation, f func(context.Context, *I) (O, error)) {
	op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	op.Description = "Needs the role " + string(role) + "."
	op.Middlewares = append(op.Middlewares, s.guard(api, role))
	huma.Register(api, op, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, s.explain(ctx, err)
		}
		return &body[O]{out}, nil
	})
}

func get(id, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: http.MethodGet, Path: "/api/v1" + path, Summary: summary}
}

// WindowInput is a window of time as text.
type WindowInput struct {
	From string `query:"from" doc:"Start of the window: RFC 3339, or back from now as -2h. Two hours before the end where absent" example:"-2h"`
	To   string `query:"to" doc:"End of the window; now where absent" example:"2026-03-02T16:20:00Z"`
}

func (s *server) window(in WindowInput) (service.Window, error) {
	now := s.Service.Now()
	from, err := service.ParseTime(in.From, now)
	if err != nil {
		return service.Window{}, err
	}
	to, err := service.ParseTime(in.To, now)
	if err != nil {
		return service.Window{}, err
	}
	return s.Service.Window(from, to)
}

// OfInput names an object.
type OfInput struct {
	Of string `query:"of" required:"true" minLength:"1" maxLength:"600" doc:"The object: kind:id, kind:id@source, a name, or any identifier in any notation" example:"vm:manifest-db-02"`
}

// OfWindow names an object over a window.
type OfWindow struct {
	OfInput
	WindowInput
}

// OfAt names an object at a moment.
type OfAt struct {
	OfInput
	At string `query:"at" doc:"As of this moment; now where absent"`
}

func windowed[O any](s *server, f func(context.Context, string, service.Window) (O, error)) func(context.Context, *OfWindow) (O, error) {
	return func(ctx context.Context, in *OfWindow) (O, error) {
		w, err := s.window(in.WindowInput)
		if err != nil {
			var none O
			return none, err
		}
		return f(ctx, in.Of, w)
	}
}

func (s *server) register(api huma.API) {
	s.registerAccess(api)
	s.registerLimits(api)
	s.registerSources(api)
	add(s, api, service.Viewer, get("overview", "/estate", "The estate in a few figures"),
		func(ctx context.Context, _ *struct{}) (service.Overview, error) { return s.Service.Overview(ctx) })
	add(s, api, service.Viewer, get("describe", "/openapi.json", "This description, OpenAPI 3.1"),
		func(context.Context, *struct{}) (any, error) { return api.OpenAPI(), nil })
	add(s, api, service.Viewer, get("metrics", "/metrics", "The catalogue of metrics"),
		func(context.Context, *struct{}) ([]reading.Metric, error) { return reading.Catalogue, nil })
	add(s, api, service.Viewer, get("find", "/find", "Objects by any name or identifier, best first"),
		func(ctx context.Context, in *struct {
			Q     string      `query:"q" required:"true" minLength:"1" maxLength:"200" doc:"Part of a name, WWN, NAA, IQN, UUID, serial, or a LUN number"`
			Kind  estate.Kind `query:"kind" doc:"Only this kind"`
			Limit int         `query:"limit" minimum:"1" maximum:"500" default:"20" doc:"At most so many"`
			At    string      `query:"at" doc:"As of this moment; now where absent"`
		}) (service.Found, error) {
			at, err := service.ParseTime(in.At, s.Service.Now())
			if err != nil {
				return service.Found{}, err
			}
			return s.Service.Find(ctx, in.Q, in.Kind, in.Limit, at)
		})
	add(s, api, service.Viewer, get("list", "/objects", "Objects of a kind by name, page by page"),
		func(ctx context.Context, in *struct {
			Kind   estate.Kind `query:"kind" required:"true" doc:"The kind"`
			Cursor string      `query:"cursor" doc:"As the page before gave it"`
			Limit  int         `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"At most so many"`
		}) (service.Found, error) {
			return s.Service.List(ctx, in.Kind, in.Cursor, in.Limit)
		})
	add(s, api, service.Viewer, get("show", "/object", "All that is known of one object"), windowed(s, s.show))
	add(s, api, service.Viewer, get("section", "/section", "All routes of an object with the figures of every node"),
		func(ctx context.Context, in *struct {
			OfWindow
			Unfold []string `query:"unfold,explode" maxItems:"200" doc:"Groups of a large section to show by their members, as their ref"`
		}) (service.SectionView, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return service.SectionView{}, err
			}
			return s.Service.Section(ctx, in.Of, w, in.Unfold)
		})
	add(s, api, service.Viewer, get("strata", "/strata", "Latency split by layer over time"), windowed(s, s.strata))
	add(s, api, service.Viewer, get("suspects", "/suspects", "Tenants of a component side by side, before and after it became slow"), windowed(s, s.suspects))
	s.registerDiagnosis(api)
	s.registerMap(api)
	op := huma.Operation{OperationID: "import", Method: http.MethodPost, Path: "/api/v1/feed", Summary: "Take a feed",
		RequestBody:      &huma.RequestBody{Required: true, Description: "A feed, plain, gzip or zstd", Content: map[string]*huma.MediaType{feed.MediaType: {}}},
		SkipValidateBody: true, MaxBodyBytes: -1, BodyReadTimeout: -1}
	add(s, api, service.Operator, op, func(ctx context.Context, in *feedInput) (service.ImportResult, error) {
		return s.Service.Import(ctx, in.body, in.SkipBad)
	})
}

// These questions are methods so that a description can be made without a service.
func (s *server) show(ctx context.Context, of string, w service.Window) (service.Detail, error) {
	return s.Service.Show(ctx, of, w)
}

func (s *server) strata(ctx context.Context, of string, w service.Window) (strata.Strata, error) {
	return s.Service.Strata(ctx, of, w)
}

func (s *server) suspects(ctx context.Context, of string, w service.Window) (suspect.Suspects, error) {
	return s.Service.Suspects(ctx, of, w)
}

func (s *server) explained(ctx context.Context, of string, w service.Window) (verdict.Explanation, error) {
	return s.Service.Explain(ctx, of, w)
}

// feedInput hands the body on as a stream: a feed may be larger than memory.
type feedInput struct {
	SkipBad bool `query:"skip_bad" doc:"Store all good lines though there are bad ones"`
	body    io.Reader
}

// Resolve takes the body's stream.
func (f *feedInput) Resolve(ctx huma.Context) []error {
	_ = ctx.SetReadDeadline(time.Time{})
	f.body = ctx.BodyReader()
	return nil
}

package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/internal/service"
)

// Named names a source.
type Named struct {
	Name string `path:"name" doc:"Name of the source"`
}

func (s *server) registerSources(api huma.API) {
	add(s, api, service.Viewer, get("list-sources", "/sources", "All sources and how they do"),
		func(ctx context.Context, _ *struct{}) ([]service.SourceInfo, error) { return s.Service.Sources(ctx) })
	add(s, api, service.Viewer, get("show-source", "/sources/{name}", "One source, how it does and what joins it to others"),
		func(ctx context.Context, in *Named) (service.SourceInfo, error) {
			return s.Service.SourceOf(ctx, in.Name)
		})
	add(s, api, service.Admin, huma.Operation{OperationID: "probe-source", Method: http.MethodPost, Path: "/api/v1/sources/probe", Summary: "Try a source step by step, without keeping anything"},
		func(ctx context.Context, in *body[service.SourceSpec]) (service.Probed, error) {
			return s.Service.ProbeSource(ctx, in.Body)
		})
	add(s, api, service.Admin, huma.Operation{OperationID: "probe-kept-source", Method: http.MethodPost, Path: "/api/v1/sources/{name}/probe", Summary: "Try a source that is collected from, as it is kept"},
		func(ctx context.Context, in *Named) (service.Probed, error) { return s.Service.ProbeKept(ctx, in.Name) })
	add(s, api, service.Admin, huma.Operation{OperationID: "add-source", Method: http.MethodPost, Path: "/api/v1/sources", Summary: "Probe a source and collect from it", DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Unprobed bool `query:"unprobed" doc:"Keep it without a probe: it may be down just now"`
			Body     service.SourceSpec
		}) (service.Probed, error) {
			return s.Service.AddSource(ctx, in.Body, who(ctx).Name, in.Unprobed)
		})
	add(s, api, service.Admin, huma.Operation{OperationID: "change-source", Method: http.MethodPatch, Path: "/api/v1/sources/{name}", Summary: "Change a source, pause it, or let it go on"},
		func(ctx context.Context, in *struct {
			Named
			Body service.SourceChange
		}) (service.SourceInfo, error) {
			return s.Service.ChangeSource(ctx, in.Name, in.Body)
		})
	add(s, api, service.Admin, huma.Operation{OperationID: "remove-source", Method: http.MethodDelete, Path: "/api/v1/sources/{name}", Summary: "Stop collecting from a source"},
		func(ctx context.Context, in *struct {
			Named
			Forget bool `query:"forget" doc:"Forget also all that it brought"`
		}) (Done, error) {
			return Done{true}, s.Service.RemoveSource(ctx, in.Name, in.Forget)
		})
}

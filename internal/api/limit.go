package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/internal/service"
)

// LimitFor names a limit of an object, of all of a kind in an object, or of all of a kind.
type LimitFor struct {
	Of     string `query:"of" maxLength:"600" doc:"Only for this object, or for those in it: an address, a name or any identifier; absent for all of the kind"`
	Kind   string `query:"kind" doc:"Of objects of this kind; where absent the kind of the object"`
	Metric string `query:"metric" required:"true" doc:"The figure that is limited"`
}

func (f LimitFor) rule() congest.Rule {
	return congest.Rule{Kind: estate.Kind(f.Kind), Within: f.Of, Metric: f.Metric, Strained: reading.Missing, Failing: reading.Missing}
}

// registerLimits registers what conditions are judged by, and what passed it.
func (s *server) registerLimits(api huma.API) {
	add(s, api, service.Viewer, get("limits", "/limits", "The limits in force, with their reasons, and what people changed"),
		func(ctx context.Context, in *struct {
			Of string `query:"of" maxLength:"600" doc:"Of this object; absent for all there are"`
		}) (service.LimitList, error) {
			return s.Service.Limits(ctx, in.Of)
		})
	add(s, api, service.Operator, operation("change-limit", http.MethodPut, "/limits", "Change a limit; what held before stays in its history"),
		func(ctx context.Context, in *struct {
			LimitFor
			Body struct {
				Strained reading.Figure `json:"strained" doc:"Strained above this, in the metric's unit, a share as 0–1; null for never"`
				Failing  reading.Figure `json:"failing" doc:"Failing above this; null for never"`
				Why      string         `json:"why" minLength:"1" maxLength:"2000" doc:"Why, for those who come after"`
			}
		}) (service.LimitList, error) {
			r := in.rule()
			r.Strained, r.Failing = in.Body.Strained, in.Body.Failing
			return s.Service.ChangeLimit(ctx, r, in.Body.Why, who(ctx).Name)
		})
	add(s, api, service.Operator, operation("restore-limit", http.MethodDelete, "/limits", "End a change: the limit is again what it was without it"),
		func(ctx context.Context, in *struct{ LimitFor }) (service.LimitList, error) {
			return s.Service.RestoreLimit(ctx, in.rule(), who(ctx).Name)
		})
	add(s, api, service.Viewer, get("measured", "/measured", "All that is measured of an object, with what is usual for these hours"), windowed(s, s.Service.Measured))
	add(s, api, service.Viewer, get("neighbours", "/neighbours", "Every LUN, pool and controller that slowed, with the machine that brought most of what was asked for more"),
		func(ctx context.Context, in *WindowInput) (service.NeighbourList, error) {
			w, err := s.window(*in)
			if err != nil {
				return service.NeighbourList{}, err
			}
			return s.Service.Neighbours(ctx, w)
		})
	add(s, api, service.Viewer, get("stretches", "/stretches", "What was past its limits in a window, since when and how far; those that last first"),
		func(ctx context.Context, in *struct {
			WindowInput
			Of    string `query:"of" maxLength:"600" doc:"Of this object; absent for all"`
			Limit int    `query:"limit" minimum:"1" maximum:"10000" default:"200" doc:"At most so many"`
		}) (service.StretchList, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return service.StretchList{}, err
			}
			return s.Service.Stretches(ctx, in.Of, w, in.Limit)
		})
}

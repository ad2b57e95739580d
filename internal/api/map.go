package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/graphfile"
	"dowsingrod/internal/service"
)

// Folded says how a section is folded.
type Folded struct {
	Fold   int      `query:"fold" minimum:"0" maximum:"1000" default:"0" doc:"Fold rows of more objects of a kind into groups of what is alike; 0 folds nothing"`
	Unfold []string `query:"unfold,explode" maxItems:"200" doc:"Groups to show by their members, as their ref"`
}

func (f Folded) folding() route.Folding { return route.Folding{Most: f.Fold, Unfold: f.Unfold} }

type fileOutput struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *server) registerMap(api huma.API) {
	add(s, api, service.Viewer, get("route", "/route", "All routes of an object, without figures"),
		func(ctx context.Context, in *struct {
			OfAt
			Folded
		}) (route.Section, error) {
			at, err := service.ParseTime(in.At, s.Service.Now())
			if err != nil {
				return route.Section{}, err
			}
			return s.Service.Route(ctx, in.Of, at, in.folding())
		})
	add(s, api, service.Viewer, get("route-history", "/route/history", "Every topology that held on an object's routes within a window, and when"),
		func(ctx context.Context, in *struct {
			OfWindow
			Folded
		}) ([]service.Topology, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return nil, err
			}
			return s.Service.History(ctx, in.Of, w, in.folding())
		})
	add(s, api, service.Viewer, get("reach", "/reach", "All that depends on an object, VMs of the most important tier first, and what its loss would mean for each"),
		func(ctx context.Context, in *struct {
			OfAt
			Limit int `query:"limit" minimum:"1" maximum:"100000" default:"1000" doc:"At most so many"`
		}) (service.Reach, error) {
			at, err := service.ParseTime(in.At, s.Service.Now())
			if err != nil {
				return service.Reach{}, err
			}
			return s.Service.Reach(ctx, in.Of, at, in.Limit)
		})
	add(s, api, service.Viewer, get("changes", "/changes", "What changed over a window, in the estate or on the routes of an object"),
		func(ctx context.Context, in *struct {
			WindowInput
			Of    string `query:"of" maxLength:"600" doc:"The object; the whole estate where absent"`
			Limit int    `query:"limit" minimum:"0" maximum:"10000" default:"200" doc:"At most so many changes, the latest"`
		}) (service.Changes, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return service.Changes{}, err
			}
			return s.Service.Changes(ctx, in.Of, w, in.Limit)
		})
	add(s, api, service.Viewer, get("unresolved", "/unresolved", "What could not be joined, by probable reason, with what to do"),
		func(ctx context.Context, in *struct {
			At string `query:"at" doc:"As of this moment; now where absent"`
		}) (service.UnresolvedList, error) {
			at, err := service.ParseTime(in.At, s.Service.Now())
			if err != nil {
				return service.UnresolvedList{}, err
			}
			return s.Service.Unresolved(ctx, at)
		})
	add(s, api, service.Viewer, get("inventory", "/inventory", "Objects of a kind in columns, filtered, sorted and page by page"),
		func(ctx context.Context, in *struct {
			Kind   estate.Kind `query:"kind" required:"true" doc:"The kind, as vm"`
			Where  []string    `query:"where,explode" maxItems:"20" doc:"Conditions on columns, as tier=1, dead>0, name~manifest, used!=used; all must hold"`
			Q      string      `query:"q" maxLength:"200" doc:"Part of a name or identifier"`
			Sort   string      `query:"sort" doc:"A column, with - before it for descending" example:"-vms"`
			Cursor string      `query:"cursor" doc:"As the page before gave it"`
			Limit  int         `query:"limit" minimum:"1" maximum:"5000" default:"100" doc:"At most so many"`
			At     string      `query:"at" doc:"As of this moment; now where absent"`
		}) (service.Inventory, error) {
			at, err := service.ParseTime(in.At, s.Service.Now())
			if err != nil {
				return service.Inventory{}, err
			}
			if !in.Kind.Known() {
				return service.Inventory{}, &service.QueryError{Reason: fmt.Sprintf("there is no kind %q: vm, vdisk, host, datastore, volume, path, switch_port, pool, drive … are", in.Kind)}
			}
			return s.Service.Inventory(ctx, service.InventoryQuery{Kind: in.Kind, Where: in.Where, Text: in.Q, Sort: in.Sort, Cursor: in.Cursor, Limit: in.Limit, At: at})
		})
	add(s, api, service.Viewer, get("hardware", "/hardware", "What an object is built of, with the condition of every part"), windowed(s, s.hardware))
	add(s, api, service.Viewer, get("why", "/why", "Why an object is in its condition, and what is affected by it"), windowed(s, s.why))

	op := get("map", "/map", "The section of an object, or all that depends on it, as a graph for other programs")
	op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	op.Middlewares = append(op.Middlewares, s.guard(api, service.Viewer))
	op.Description = "Needs the role " + string(service.Viewer) + "."
	huma.Register(api, op, func(ctx context.Context, in *struct {
		OfAt
		Folded
		As    string `query:"as" enum:"dot,graphml,json" default:"json" doc:"Graphviz DOT, GraphML or JSON"`
		Reach bool   `query:"reach" doc:"All that depends on the object, instead of its section"`
	}) (*fileOutput, error) {
		at, err := service.ParseTime(in.At, s.Service.Now())
		if err != nil {
			return nil, s.explain(ctx, err)
		}
		web, err := s.Service.Web(ctx, in.Of, at, in.Reach, in.folding())
		if err != nil {
			return nil, s.explain(ctx, err)
		}
		var b bytes.Buffer
		if err := graphfile.Write(&b, in.As, web); err != nil {
			return nil, problem(http.StatusUnprocessableEntity, "bad-format", err.Error())
		}
		return &fileOutput{graphfile.Formats[in.As], `attachment; filename="map.` + in.As + `"`, b.Bytes()}, nil
	})
}

func (s *server) hardware(ctx context.Context, of string, w service.Window) (service.HardwarePart, error) {
	return s.Service.Hardware(ctx, of, w)
}

func (s *server) why(ctx context.Context, of string, w service.Window) (service.Why, error) {
	return s.Service.Why(ctx, of, w)
}

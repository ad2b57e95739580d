package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/internal/service"
)

// NumberedIncident names an incident.
type NumberedIncident struct {
	ID int64 `path:"id" minimum:"1" doc:"The incident's number"`
}

func operation(id, method, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary}
}

// registerDiagnosis registers what is found without being asked, and what people say of it.
func (s *server) registerDiagnosis(api huma.API) {
	add(s, api, service.Viewer, get("explain", "/explain", "Why an object is slow, or that its storage is not the reason"), windowed(s, s.explained))
	add(s, api, service.Viewer, get("compare", "/compare", "Two windows, or two objects, side by side; what differs most first"),
		func(ctx context.Context, in *struct {
			OfWindow
			With     string `query:"with" maxLength:"600" doc:"The other object; the same where absent"`
			WithFrom string `query:"with_from" doc:"Start of the other window. Where absent the same window for another object, the one a day earlier for the same"`
			WithTo   string `query:"with_to" doc:"End of the other window; as long as the first where absent"`
		}) (service.SideBySide, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return service.SideBySide{}, err
			}
			other := w
			switch {
			case in.WithFrom != "":
				from, err := service.ParseTime(in.WithFrom, s.Service.Now())
				if err != nil {
					return service.SideBySide{}, err
				}
				to, err := service.ParseTime(in.WithTo, s.Service.Now())
				if err != nil {
					return service.SideBySide{}, err
				}
				if to.IsZero() {
					to = from.Add(w.To.Sub(w.From))
				}
				if other, err = s.Service.Window(from, to); err != nil {
					return service.SideBySide{}, err
				}
			case in.With == "" || in.With == in.Of:
				other = service.Window{From: w.From.Add(-24 * time.Hour), To: w.To.Add(-24 * time.Hour)}
			}
			return s.Service.Compare(ctx, in.Of, w, in.With, other)
		})
	add(s, api, service.Viewer, get("survey", "/survey", "Every array, cluster and fabric over a window: where and when limits were passed, and what hurt"),
		func(ctx context.Context, in *WindowInput) (service.Survey, error) {
			w, err := s.window(*in)
			if err != nil {
				return service.Survey{}, err
			}
			return s.Service.Survey(ctx, w)
		})
	add(s, api, service.Viewer, get("incidents", "/incidents", "Incidents that overlap a window; those that last first, then the latest"),
		func(ctx context.Context, in *struct {
			WindowInput
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"At most so many"`
		}) (service.IncidentList, error) {
			w, err := s.window(in.WindowInput)
			if err != nil {
				return service.IncidentList{}, err
			}
			return s.Service.Incidents(ctx, w, in.Limit)
		})
	add(s, api, service.Viewer, get("incident", "/incidents/{id}", "All that is kept of an incident"),
		func(ctx context.Context, in *NumberedIncident) (service.IncidentDetail, error) {
			return s.Service.Incident(ctx, in.ID)
		})
	add(s, api, service.Operator, operation("acknowledge-incident", http.MethodPut, "/incidents/{id}/acknowledged", "Take an incident on"),
		func(ctx context.Context, in *NumberedIncident) (service.IncidentDetail, error) {
			return s.Service.AcknowledgeIncident(ctx, in.ID, who(ctx).Name, true)
		})
	add(s, api, service.Operator, operation("release-incident", http.MethodDelete, "/incidents/{id}/acknowledged", "Give an incident back"),
		func(ctx context.Context, in *NumberedIncident) (service.IncidentDetail, error) {
			return s.Service.AcknowledgeIncident(ctx, in.ID, who(ctx).Name, false)
		})
	add(s, api, service.Operator, operation("comment-incident", http.MethodPost, "/incidents/{id}/comments", "Write something under an incident"),
		func(ctx context.Context, in *struct {
			NumberedIncident
			Body struct {
				Words string `json:"words" minLength:"1" doc:"What to write, 8,000 bytes at most"`
			}
		}) (service.IncidentDetail, error) {
			return s.Service.CommentIncident(ctx, in.ID, who(ctx).Name, in.Body.Words)
		})
}

package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/core/estate"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
)

func problem(status int, kind, detail string, errs ...*huma.ErrorDetail) error {
	return &huma.ErrorModel{Type: problemType + kind, Title: http.StatusText(status), Status: status, Detail: detail, Errors: errs}
}

// explain turns an error of the service into a problem (RFC 9457) with a stable type.
func (s *server) explain(ctx context.Context, err error) error {
	var missing *estate.NotFoundError
	var ambiguous *estate.AmbiguousError
	var window *service.WindowError
	var refused *service.FeedError
	var sourced *service.SourceError
	var asked *service.QueryError
	var numbered *service.NumberError
	var limited *service.LimitError
	var application *service.ApplicationError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &missing) && strings.HasPrefix(missing.Query, service.ApplicationPrefix):
		return problem(http.StatusNotFound, "unknown-object", fmt.Sprintf("%q is all machines of an application, which strata and explain take; here give one of them: find %s lists them",
			missing.Query, strings.TrimPrefix(missing.Query, service.ApplicationPrefix)))
	case errors.As(err, &missing):
		return problem(http.StatusNotFound, "unknown-object", err.Error())
	case errors.As(err, &ambiguous):
		var candidates []*huma.ErrorDetail
		for _, c := range ambiguous.Candidates {
			candidates = append(candidates, &huma.ErrorDetail{Message: "could be meant", Location: "query.of", Value: c})
		}
		return problem(http.StatusConflict, "ambiguous-name", fmt.Sprintf("%q could be any of several objects: give one of their addresses", ambiguous.Query), candidates...)
	case errors.As(err, &application):
		return problem(http.StatusNotFound, "unknown-object", err.Error())
	case errors.As(err, &window):
		return problem(http.StatusBadRequest, "bad-window", err.Error())
	case errors.As(err, &numbered):
		return problem(http.StatusNotFound, "unknown-incident", err.Error())
	case errors.As(err, &limited):
		return problem(http.StatusUnprocessableEntity, "bad-limit", err.Error())
	case errors.As(err, &asked):
		return problem(http.StatusUnprocessableEntity, "bad-question", err.Error())
	case errors.As(err, &refused):
		var lines []*huma.ErrorDetail
		for _, b := range refused.Result.Errors {
			lines = append(lines, &huma.ErrorDetail{Message: b.Reason, Location: fmt.Sprintf("line %d", b.Line), Value: b.Line})
		}
		return problem(http.StatusUnprocessableEntity, "bad-feed", fmt.Sprintf("%s bad, nothing stored", count(refused.Result.Bad, "line is", "lines are")), lines...)
	case errors.As(err, &sourced):
		var steps []*huma.ErrorDetail
		if sourced.Probe != nil {
			for _, st := range sourced.Probe.Steps {
				steps = append(steps, &huma.ErrorDetail{Message: string(st.Outcome) + ": " + st.Found, Location: st.Name, Value: st.Try})
			}
		}
		return problem(http.StatusUnprocessableEntity, "bad-source", err.Error(), steps...)
	case errors.Is(err, store.ErrUnavailable):
		return problem(http.StatusServiceUnavailable, "database-unavailable", "the database does not answer; nothing was changed. Try again once it is back")
	case errors.Is(err, service.ErrSignIn), errors.Is(err, service.ErrLink):
		return problem(http.StatusUnauthorized, "sign-in-refused", err.Error())
	case errors.Is(err, service.ErrPassword), errors.Is(err, service.ErrName):
		return problem(http.StatusUnprocessableEntity, "bad-account", err.Error())
	case errors.Is(err, store.ErrTaken), errors.Is(err, service.ErrLast):
		return problem(http.StatusConflict, "conflict", err.Error())
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, "not-found", "there is none of that name")
	case ctx.Err() != nil:
		return problem(499, "cancelled", "the request was cancelled")
	}
	s.Log.Error("a request failed", "error", err)
	return problem(http.StatusInternalServerError, "internal", "something failed here; the service's log says what")
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

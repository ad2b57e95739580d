package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/service"
)

// Route returns all routes of an object as of a moment ("" for now).
func (c *Client) Route(ctx context.Context, of, moment string, f route.Folding) (route.Section, error) {
	return get[route.Section](ctx, c, "/route", folded(at(of, moment), f))
}

// History returns every topology that held on an object's routes within a window.
func (c *Client) History(ctx context.Context, of string, w Window, f route.Folding) ([]service.Topology, error) {
	return get[[]service.Topology](ctx, c, "/route/history", folded(w.query(of), f))
}

func folded(q url.Values, f route.Folding) url.Values {
	if f.Most > 0 {
		q.Set("fold", strconv.Itoa(f.Most))
	}
	if len(f.Unfold) > 0 {
		q["unfold"] = f.Unfold
	}
	return q
}

// Reach returns all that depends on an object, and what its loss would mean.
func (c *Client) Reach(ctx context.Context, of, moment string, limit int) (service.Reach, error) {
	q := at(of, moment)
	q.Set("limit", strconv.Itoa(limit))
	return get[service.Reach](ctx, c, "/reach", q)
}

// Changes returns what changed over a window, on the routes of an object or, for "", in the whole estate.
func (c *Client) Changes(ctx context.Context, of string, w Window, limit int) (service.Changes, error) {
	q := w.query(of)
	if of == "" {
		q.Del("of")
	}
	q.Set("limit", strconv.Itoa(limit))
	return get[service.Changes](ctx, c, "/changes", q)
}

// Unresolved returns what could not be joined as of a moment ("" for now).
func (c *Client) Unresolved(ctx context.Context, moment string) (service.UnresolvedList, error) {
	q := at("", moment)
	q.Del("of")
	return get[service.UnresolvedList](ctx, c, "/unresolved", q)
}

// Inventory asks for a page of the objects of a kind. Moment is text, "" for now.
type Inventory struct {
	Kind   estate.Kind
	Where  []string
	Text   string
	Sort   string
	Cursor string
	Limit  int
	Moment string
}

// Inventory returns a page of the objects of a kind.
func (c *Client) Inventory(ctx context.Context, in Inventory) (service.Inventory, error) {
	q := url.Values{"kind": {string(in.Kind)}, "limit": {strconv.Itoa(in.Limit)}}
	if len(in.Where) > 0 {
		q["where"] = in.Where
	}
	for name, v := range map[string]string{"q": in.Text, "sort": in.Sort, "cursor": in.Cursor, "at": in.Moment} {
		if v != "" {
			q.Set(name, v)
		}
	}
	return get[service.Inventory](ctx, c, "/inventory", q)
}

// Hardware returns what an object is built of.
func (c *Client) Hardware(ctx context.Context, of string, w Window) (service.HardwarePart, error) {
	return get[service.HardwarePart](ctx, c, "/hardware", w.query(of))
}

// Why returns why an object is in its condition.
func (c *Client) Why(ctx context.Context, of string, w Window) (service.Why, error) {
	return get[service.Why](ctx, c, "/why", w.query(of))
}

// Map writes the section of an object, or all that depends on it, in a format: dot, graphml or json.
func (c *Client) Map(ctx context.Context, of, moment, format string, reach bool, f route.Folding, out io.Writer) error {
	q := folded(at(of, moment), f)
	q.Set("as", format)
	if reach {
		q.Set("reach", "true")
	}
	return c.do(ctx, http.MethodGet, "/map", q, nil, "", out)
}

package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"

	"dowsingrod/core/congest"
	"dowsingrod/internal/service"
)

// Limits returns the limits of an object, or all where of is empty.
func (c *Client) Limits(ctx context.Context, of string) (service.LimitList, error) {
	q := url.Values{}
	if of != "" {
		q.Set("of", of)
	}
	return get[service.LimitList](ctx, c, "/limits", q)
}

func ruled(r congest.Rule) url.Values {
	q := url.Values{"metric": {r.Metric}}
	if r.Within != "" {
		q.Set("of", r.Within)
	}
	if r.Kind != "" {
		q.Set("kind", string(r.Kind))
	}
	return q
}

// ChangeLimit lets a rule hold from now on.
func (c *Client) ChangeLimit(ctx context.Context, r congest.Rule, why string) (service.LimitList, error) {
	var out service.LimitList
	body, err := json.Marshal(map[string]any{"strained": r.Strained, "failing": r.Failing, "why": why})
	if err != nil {
		return out, err
	}
	err = c.do(ctx, http.MethodPut, "/limits", ruled(r), bytes.NewReader(body), "application/json", &out)
	return out, err
}

// RestoreLimit ends the change of exactly this limit.
func (c *Client) RestoreLimit(ctx context.Context, r congest.Rule) (service.LimitList, error) {
	var out service.LimitList
	err := c.do(ctx, http.MethodDelete, "/limits", ruled(r), nil, "", &out)
	return out, err
}

// Stretches returns what was past its limits in a window, of an object or of all, at most limit.
func (c *Client) Stretches(ctx context.Context, of string, w Window, limit int) (service.StretchList, error) {
	q := w.values()
	if of != "" {
		q.Set("of", of)
	}
	if limit > 0 {
		q.Set("limit", strconv.Itoa(limit))
	}
	return get[service.StretchList](ctx, c, "/stretches", q)
}

// Measured returns all that is measured of an object, with what is usual.
func (c *Client) Measured(ctx context.Context, of string, w Window) (service.Measured, error) {
	return get[service.Measured](ctx, c, "/measured", w.query(of))
}

// Neighbours sweeps the whole estate for noisy neighbours.
func (c *Client) Neighbours(ctx context.Context, w Window) (service.NeighbourList, error) {
	return get[service.NeighbourList](ctx, c, "/neighbours", w.values())
}

package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"dowsingrod/internal/service"
)

// Sources lists all sources.
func (c *Client) Sources(ctx context.Context) ([]service.SourceInfo, error) {
	return get[[]service.SourceInfo](ctx, c, "/sources", nil)
}

// Source returns one source.
func (c *Client) Source(ctx context.Context, name string) (service.SourceInfo, error) {
	return get[service.SourceInfo](ctx, c, "/sources/"+url.PathEscape(name), nil)
}

// ProbeSource tries a source without keeping anything.
func (c *Client) ProbeSource(ctx context.Context, spec service.SourceSpec) (out service.Probed, err error) {
	err = c.send(ctx, http.MethodPost, "/sources/probe", spec, &out)
	return out, err
}

// ProbeKept tries a source that is collected from.
func (c *Client) ProbeKept(ctx context.Context, name string) (out service.Probed, err error) {
	err = c.send(ctx, http.MethodPost, "/sources/"+url.PathEscape(name)+"/probe", nil, &out)
	return out, err
}

// AddSource probes a source, unless unprobed, and collects from it.
func (c *Client) AddSource(ctx context.Context, spec service.SourceSpec, unprobed bool) (out service.Probed, err error) {
	err = c.send(ctx, http.MethodPost, "/sources?unprobed="+strconv.FormatBool(unprobed), spec, &out)
	return out, err
}

// ChangeSource changes a source.
func (c *Client) ChangeSource(ctx context.Context, name string, change service.SourceChange) (out service.SourceInfo, err error) {
	err = c.send(ctx, http.MethodPatch, "/sources/"+url.PathEscape(name), change, &out)
	return out, err
}

// RemoveSource stops collecting from a source, and forgets what it brought where forget says so.
func (c *Client) RemoveSource(ctx context.Context, name string, forget bool) error {
	return c.send(ctx, http.MethodDelete, "/sources/"+url.PathEscape(name)+"?forget="+strconv.FormatBool(forget), nil, nil)
}

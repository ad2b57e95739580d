package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"dowsingrod/internal/service"
)

func (w Window) values() url.Values {
	q := w.query("")
	q.Del("of")
	return q
}

// Compare puts two windows, or two objects, side by side. An empty other object is the same; an empty start of the other window is the
// service's choice.
func (c *Client) Compare(ctx context.Context, of string, w Window, with, withFrom, withTo string) (service.SideBySide, error) {
	q := w.query(of)
	for name, v := range map[string]string{"with": with, "with_from": withFrom, "with_to": withTo} {
		if v != "" {
			q.Set(name, v)
		}
	}
	return get[service.SideBySide](ctx, c, "/compare", q)
}

// Survey returns every system over a window.
func (c *Client) Survey(ctx context.Context, w Window) (service.Survey, error) {
	return get[service.Survey](ctx, c, "/survey", w.values())
}

// Incidents returns those that overlap a window, at most limit.
func (c *Client) Incidents(ctx context.Context, w Window, limit int) (service.IncidentList, error) {
	q := w.values()
	if limit > 0 {
		q.Set("limit", strconv.Itoa(limit))
	}
	return get[service.IncidentList](ctx, c, "/incidents", q)
}

// Incident returns all that is kept of one.
func (c *Client) Incident(ctx context.Context, id int64) (service.IncidentDetail, error) {
	return get[service.IncidentDetail](ctx, c, fmt.Sprintf("/incidents/%d", id), nil)
}

// Acknowledge takes an incident on, or gives it back.
func (c *Client) Acknowledge(ctx context.Context, id int64, yes bool) (service.IncidentDetail, error) {
	method := http.MethodPut
	if !yes {
		method = http.MethodDelete
	}
	var out service.IncidentDetail
	err := c.do(ctx, method, fmt.Sprintf("/incidents/%d/acknowledged", id), nil, nil, "", &out)
	return out, err
}

// Comment writes something under an incident.
func (c *Client) Comment(ctx context.Context, id int64, words string) (service.IncidentDetail, error) {
	body, err := json.Marshal(map[string]string{"words": words})
	if err != nil {
		return service.IncidentDetail{}, err
	}
	var out service.IncidentDetail
	err = c.do(ctx, http.MethodPost, fmt.Sprintf("/incidents/%d/comments", id), nil, bytes.NewReader(body), "application/json", &out)
	return out, err
}

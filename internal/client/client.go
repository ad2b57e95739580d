// Package client is the typed HTTP client of the service, used by the command line and by tests. Its
// types are the ones the interface is described with.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/api"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/service"
)

// Client asks one service. It is safe for concurrent use.
type Client struct {
	base, token string
	http        *http.Client
}

// New makes a client for the service at base, as http://127.0.0.1:7465, with a bearer token.
func New(base, token string) *Client {
	return &Client{strings.TrimRight(base, "/"), token, &http.Client{}}
}

// Problem is an answer that says what went wrong (RFC 9457).
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
		Value    any    `json:"value"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	if p.Detail != "" {
		return p.Detail
	}
	return p.Title
}

// Of reports whether the problem is of a kind, the last part of its type.
func (p *Problem) Of(kind string) bool { return strings.HasSuffix(p.Type, ":"+kind) }

// UnreachableError says that no service answers.
type UnreachableError struct {
	Base string
	Err  error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("no service answers at %s (%v): is it running, and is the address right?", e.Base, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

func (c *Client) do(ctx context.Context, method, path string, query url.Values, body io.Reader, contentType string, out any) error {
	address := c.base + "/api/v1" + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return fmt.Errorf("the address %q cannot be used: %w", c.base, err)
	}
	req.Header.Set("Accept", "application/json")
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return &UnreachableError{c.base, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		p := &Problem{Status: resp.StatusCode, Title: resp.Status}
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if json.Unmarshal(text, p) != nil || p.Type == "" && p.Detail == "" {
			p.Detail = fmt.Sprintf("%s answered %s, not as this service would: is the address right?", c.base, resp.Status)
		}
		return p
	}
	if out == nil {
		return nil
	}
	if w, raw := out.(io.Writer); raw {
		_, err := io.Copy(w, resp.Body)
		return err
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer from %s cannot be read: %w", c.base, err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	err := c.do(ctx, http.MethodGet, path, query, nil, "", &out)
	return out, err
}

// Window is a window of time as text: RFC 3339, or back from now as -2h; "" for the service's default.
type Window struct{ From, To string }

func (w Window) query(of string) url.Values {
	q := url.Values{"of": {of}}
	if w.From != "" {
		q.Set("from", w.From)
	}
	if w.To != "" {
		q.Set("to", w.To)
	}
	return q
}

func at(of, at string) url.Values {
	q := url.Values{"of": {of}}
	if at != "" {
		q.Set("at", at)
	}
	return q
}

// WhoAmI returns who the token stands for.
func (c *Client) WhoAmI(ctx context.Context) (service.Identity, error) {
	return get[service.Identity](ctx, c, "/session", nil)
}

// Overview returns the estate in a few figures.
func (c *Client) Overview(ctx context.Context) (service.Overview, error) {
	return get[service.Overview](ctx, c, "/estate", nil)
}

// Metrics returns the catalogue of metrics.
func (c *Client) Metrics(ctx context.Context) ([]reading.Metric, error) {
	return get[[]reading.Metric](ctx, c, "/metrics", nil)
}

// Find returns objects by any name or identifier as of a moment ("" for now); a kind of "" means any.
func (c *Client) Find(ctx context.Context, query string, kind estate.Kind, limit int, moment string) (service.Found, error) {
	q := url.Values{"q": {query}, "limit": {strconv.Itoa(limit)}}
	if moment != "" {
		q.Set("at", moment)
	}
	if kind != "" {
		q.Set("kind", string(kind))
	}
	return get[service.Found](ctx, c, "/find", q)
}

// List returns a page of the objects of a kind.
func (c *Client) List(ctx context.Context, kind estate.Kind, cursor string, limit int) (service.Found, error) {
	q := url.Values{"kind": {string(kind)}, "limit": {strconv.Itoa(limit)}}
	if cursor != "" {
		q.Set("cursor", cursor)
	}
	return get[service.Found](ctx, c, "/objects", q)
}

// Show returns all that is known of one object.
func (c *Client) Show(ctx context.Context, of string, w Window) (service.Detail, error) {
	return get[service.Detail](ctx, c, "/object", w.query(of))
}

// Section returns the routes of an object with the figures of every node.
func (c *Client) Section(ctx context.Context, of string, w Window) (service.SectionView, error) {
	return get[service.SectionView](ctx, c, "/section", w.query(of))
}

// Strata returns latency split by layer over time.
func (c *Client) Strata(ctx context.Context, of string, w Window) (strata.Strata, error) {
	return get[strata.Strata](ctx, c, "/strata", w.query(of))
}

// Explain says why an object is slow, or that its storage is not the reason.
func (c *Client) Explain(ctx context.Context, of string, w Window) (verdict.Explanation, error) {
	return get[verdict.Explanation](ctx, c, "/explain", w.query(of))
}

// Suspects returns the tenants of a component side by side.
func (c *Client) Suspects(ctx context.Context, of string, w Window) (suspect.Suspects, error) {
	return get[suspect.Suspects](ctx, c, "/suspects", w.query(of))
}

// Import sends a feed, plain or compressed.
func (c *Client) Import(ctx context.Context, in io.Reader, skipBad bool) (service.ImportResult, error) {
	var out service.ImportResult
	err := c.do(ctx, http.MethodPost, "/feed", url.Values{"skip_bad": {strconv.FormatBool(skipBad)}}, in, feed.MediaType, &out)
	return out, err
}

// SignIn exchanges a name and password for a bearer token with a label.
func (c *Client) SignIn(ctx context.Context, name, password, label string) (string, error) {
	session := *c
	session.http = &http.Client{Jar: newJar(), Timeout: 30 * time.Second}
	if err := session.send(ctx, http.MethodPost, "/session", map[string]string{"name": name, "password": password}, nil); err != nil {
		return "", err
	}
	token, err := session.AddToken(ctx, label)
	if err == nil {
		err = session.send(ctx, http.MethodDelete, "/session", nil, nil)
	}
	return token, err
}

func (c *Client) send(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = strings.NewReader(string(text))
	}
	return c.do(ctx, method, path, nil, body, "application/json", out)
}

// AddToken makes a bearer token.
func (c *Client) AddToken(ctx context.Context, label string) (string, error) {
	var out api.TokenMade
	err := c.send(ctx, http.MethodPost, "/tokens", map[string]string{"label": label}, &out)
	return out.Token, err
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]service.TokenInfo, error) {
	return get[[]service.TokenInfo](ctx, c, "/tokens", nil)
}

// RemoveToken removes a token by its id.
func (c *Client) RemoveToken(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(id), nil, nil)
}

// Accounts lists accounts.
func (c *Client) Accounts(ctx context.Context) ([]service.AccountInfo, error) {
	return get[[]service.AccountInfo](ctx, c, "/accounts", nil)
}

// AddAccount adds an account and returns the path of its one-time sign-in link.
func (c *Client) AddAccount(ctx context.Context, name string, role service.Role, password string) (string, error) {
	in := map[string]string{"name": name, "role": string(role)}
	if password != "" {
		in["password"] = password
	}
	var out api.AccountMade
	err := c.send(ctx, http.MethodPost, "/accounts", in, &out)
	return out.Link, err
}

// RemoveAccount removes an account.
func (c *Client) RemoveAccount(ctx context.Context, name string) error {
	return c.send(ctx, http.MethodDelete, "/accounts/"+url.PathEscape(name), nil, nil)
}

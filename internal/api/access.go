package api

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dowsingrod/internal/service"
)

const cookieName = "dowse_session"

type whoKey struct{}

// who returns who asks; guard has put it there.
func who(ctx context.Context) service.Identity {
	id, _ := ctx.Value(whoKey{}).(service.Identity)
	return id
}

// guard lets a request pass whose session or token has the role needed.
func (s *server) guard(api huma.API, role service.Role) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		id, err := s.identify(ctx)
		switch {
		case errors.Is(err, service.ErrSignIn):
			refuse(api, ctx, http.StatusUnauthorized, "sign-in-needed", "sign in, or send a token made with `dowse token add` as  Authorization: Bearer …")
		case err != nil:
			var p *huma.ErrorModel
			errors.As(s.explain(ctx.Context(), err), &p)
			refuse(api, ctx, p.Status, strings.TrimPrefix(p.Type, problemType), p.Detail)
		case !id.Role.Includes(role):
			refuse(api, ctx, http.StatusForbidden, "role-needed", "this needs the role "+string(role)+"; "+id.Name+" is a "+string(id.Role))
		default:
			next(huma.WithValue(ctx, whoKey{}, id))
		}
	}
}

func (s *server) identify(ctx huma.Context) (service.Identity, error) {
	if h := ctx.Header("Authorization"); h != "" {
		scheme, token, _ := strings.Cut(h, " ")
		if !strings.EqualFold(scheme, "bearer") {
			return service.Identity{}, service.ErrSignIn
		}
		return s.Service.ByToken(ctx.Context(), strings.TrimSpace(token))
	}
	c, err := huma.ReadCookie(ctx, cookieName)
	if err != nil || c.Value == "" {
		return service.Identity{}, service.ErrSignIn
	}
	return s.Service.BySession(ctx.Context(), c.Value)
}

func refuse(api huma.API, ctx huma.Context, status int, kind, detail string) {
	ctx.SetHeader("Content-Type", "application/problem+json")
	if status == http.StatusUnauthorized {
		ctx.SetHeader("WWW-Authenticate", "Bearer")
	}
	ctx.SetStatus(status)
	_ = api.Marshal(ctx.BodyWriter(), "application/json", huma.ErrorModel{Type: problemType + kind, Title: http.StatusText(status), Status: status, Detail: detail})
}

func (s *server) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode}
}

type signIn struct {
	Body struct {
		Name     string `json:"name" doc:"Account name" minLength:"1" maxLength:"64"`
		Password string `json:"password" doc:"Its password" minLength:"1" maxLength:"200"`
	}
}

type signInLink struct {
	Body struct {
		Code string `json:"code" doc:"The code of a one-time sign-in link" minLength:"1" maxLength:"200"`
	}
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      service.Identity
}

func (s *server) registerAccess(api huma.API) {
	open(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in with a password"},
		func(ctx context.Context, in *signIn) (*signedIn, error) {
			id, code, err := s.Service.SignIn(ctx, in.Body.Name, in.Body.Password)
			if err != nil {
				return nil, s.explain(ctx, err)
			}
			return &signedIn{s.cookie(code, int(service.SessionLife.Seconds())), id}, nil
		})
	open(api, huma.Operation{OperationID: "sign-in-by-link", Method: http.MethodPost, Path: "/api/v1/session/link", Summary: "Sign in with a one-time link"},
		func(ctx context.Context, in *signInLink) (*signedIn, error) {
			id, code, err := s.Service.Redeem(ctx, in.Body.Code)
			if err != nil {
				return nil, s.explain(ctx, err)
			}
			return &signedIn{s.cookie(code, int(service.SessionLife.Seconds())), id}, nil
		})
	open(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "End the session"},
		func(ctx context.Context, in *struct {
			Session string `cookie:"dowse_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if err := s.Service.SignOut(ctx, in.Session); err != nil {
				return nil, s.explain(ctx, err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{s.cookie("", -1)}, nil
		})
	add(s, api, service.Viewer, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in"},
		func(ctx context.Context, _ *struct{}) (service.Identity, error) { return who(ctx), nil })

	add(s, api, service.Admin, huma.Operation{OperationID: "list-accounts", Method: http.MethodGet, Path: "/api/v1/accounts", Summary: "All accounts"},
		func(ctx context.Context, _ *struct{}) ([]service.AccountInfo, error) { return s.Service.Accounts(ctx) })
	add(s, api, service.Admin, huma.Operation{OperationID: "add-account", Method: http.MethodPost, Path: "/api/v1/accounts", Summary: "Add an account", DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Name     string       `json:"name" doc:"Account name"`
				Role     service.Role `json:"role" doc:"What it may do" enum:"viewer,operator,admin"`
				Password string       `json:"password,omitempty" doc:"Its password; without one it signs in by link"`
			}
		}) (AccountMade, error) {
			if err := s.Service.AddAccount(ctx, in.Body.Name, in.Body.Role, in.Body.Password); err != nil {
				return AccountMade{}, err
			}
			code, err := s.Service.Link(ctx, in.Body.Name)
			return AccountMade{in.Body.Name, "/sign-in#" + code}, err
		})
	add(s, api, service.Admin, huma.Operation{OperationID: "remove-account", Method: http.MethodDelete, Path: "/api/v1/accounts/{name}", Summary: "Remove an account with its sessions and tokens"},
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
		}) (Done, error) {
			return Done{true}, s.Service.RemoveAccount(ctx, in.Name)
		})
	add(s, api, service.Viewer, huma.Operation{OperationID: "list-tokens", Method: http.MethodGet, Path: "/api/v1/tokens", Summary: "One's own tokens; an admin sees all"},
		func(ctx context.Context, _ *struct{}) ([]service.TokenInfo, error) {
			return s.Service.Tokens(ctx, who(ctx))
		})
	add(s, api, service.Viewer, huma.Operation{OperationID: "add-token", Method: http.MethodPost, Path: "/api/v1/tokens", Summary: "Make a token for oneself", DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Label string `json:"label" doc:"What it is for" maxLength:"200"`
			}
		}) (TokenMade, error) {
			token, err := s.Service.AddToken(ctx, who(ctx).Name, in.Body.Label)
			return TokenMade{token}, err
		})
	add(s, api, service.Viewer, huma.Operation{OperationID: "remove-token", Method: http.MethodDelete, Path: "/api/v1/tokens/{id}", Summary: "Remove a token"},
		func(ctx context.Context, in *struct {
			ID string `path:"id"`
		}) (Done, error) {
			return Done{true}, s.Service.RemoveToken(ctx, who(ctx), in.ID)
		})
}

// Done says that something was done.
type Done struct {
	Done bool `json:"done" doc:"Always true"`
}

// TokenMade is a new token.
type TokenMade struct {
	Token string `json:"token" doc:"The token; it is not shown again"`
}

// AccountMade is a new account.
type AccountMade struct {
	Name string `json:"name" doc:"Account name"`
	Link string `json:"link" doc:"Path of a one-time sign-in link, good for 30 minutes"`
}

package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
)

// registerSession signs a browser in and out.
func (s *server) registerSession(a huma.API) {
	type signIn struct {
		Body struct {
			Token string `json:"token"`
		}
	}
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	session := http.Cookie{Name: cookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: 30 * 24 * 3600}
	huma.Register(a, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign a browser in", Metadata: map[string]any{public: true}, DefaultStatus: 204, Security: []map[string][]string{}},
		func(ctx context.Context, in *signIn) (*signedIn, error) {
			name, err := s.check(ctx, strings.TrimSpace(in.Body.Token))
			if access.IsUnknown(err) {
				return nil, huma.Error401Unauthorized("this token is not known to the lodge")
			}
			if err != nil {
				return nil, s.httpError(err)
			}
			callOf(ctx).who = name
			c := session
			c.Value = strings.TrimSpace(in.Body.Token)
			return &signedIn{c}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "Sign a browser out", Metadata: map[string]any{public: true}, DefaultStatus: 204, Security: []map[string][]string{}},
		func(context.Context, *none) (*signedIn, error) {
			c := session
			c.MaxAge = -1
			return &signedIn{c}, nil
		})
}

package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
	"keenlodge/internal/api/called"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/authority"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// mostBrowser is how much is kept of what a browser says it is, in bytes.
const mostBrowser = 120

// cookie carries what a browser's session shows.
const cookie = "keenlodge_session"

// registerDoors has who comes in: browsers that sign in and out, tokens, sessions.
func (s *server) registerDoors(a huma.API) {
	s.registerSignIn(a)
	get(s, a, "get-me", "/api/v1/me", "Who calls, and what he may do", func(ctx context.Context, _ *none) (wire.Me, error) { return shape.Me(called.Of(ctx).Caller), nil })

	authorityOf := func(st authority.State, err error) (wire.Authority, error) {
		return wire.Authority(st), err
	}
	get(s, a, "get-authority", "/api/v1/authority", "How the lodge's own certificate authority stands", func(ctx context.Context, _ *none) (wire.Authority, error) {
		return authorityOf(s.l.Authority.State(ctx))
	})
	do(s, a, huma.Operation{OperationID: "renew-authority", Method: http.MethodPost, Path: "/api/v1/authority/renewal", Summary: "Have the next authority take the place of the one that is; whoever pinned that follows"},
		func(ctx context.Context, in *struct{ Body wire.Spare }) (wire.Authority, error) {
			return authorityOf(s.l.Authority.Renew(ctx, in.Body.Key))
		})
	do(s, a, huma.Operation{OperationID: "take-spare", Method: http.MethodPost, Path: "/api/v1/authority/spare", Summary: "Take the key of the next authority out of the vault; it is told once"},
		func(ctx context.Context, _ *none) (wire.Spare, error) {
			key, err := s.l.Authority.TakeSpare(ctx)
			return wire.Spare{Key: key}, err
		})

	do(s, a, huma.Operation{OperationID: "reseal-vault", Method: http.MethodPost, Path: "/api/v1/vault/reseal", Summary: "Seal all secrets with the newest key of the key file"},
		func(ctx context.Context, _ *none) (wire.Resealed, error) {
			n, err := s.l.Vault.Reseal(ctx)
			return wire.Resealed{Resealed: n}, err
		})

	get(s, a, "list-tokens", "/api/v1/tokens", "Tokens, by name", func(ctx context.Context, _ *none) ([]wire.Token, error) {
		all, err := s.l.Access.Tokens(ctx)
		return shape.Each(all, shape.Token), err
	})
	do(s, a, huma.Operation{OperationID: "new-token", Method: http.MethodPut, Path: "/api/v1/tokens/{token}", DefaultStatus: http.StatusCreated, Summary: "Make a token; what opens doors is told once"},
		func(ctx context.Context, in *struct {
			Name string `path:"token" doc:"what the trail calls whoever uses it: up to 63 lower-case letters, digits, dots and dashes"`
			Body wire.TokenSpec
		}) (wire.NewToken, error) {
			grants, err := right.ParseGrants(in.Body.Roles)
			if err != nil {
				return wire.NewToken{}, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
			}
			good, err := access.ParseTime(in.Body.For)
			if err != nil {
				return wire.NewToken{}, err
			}
			made := s.l.Access.NewToken
			if in.Body.Once {
				made = s.l.Access.NewCode
			}
			t, secret, err := made(ctx, who(ctx), in.Name, grants, good)
			return wire.NewToken{Token: shape.Token(t), Secret: secret}, err
		})
	type named struct {
		Token string `path:"token" doc:"name or ID"`
	}
	type renewal struct {
		Token string `path:"token" doc:"name or ID"`
		Body  wire.TokenTime
	}
	do(s, a, huma.Operation{OperationID: "renew-token", Method: http.MethodPost, Path: "/api/v1/tokens/{token}/renewal", Summary: "Give a token another secret and more time; the old one, and its sessions, end at once"},
		func(ctx context.Context, in *renewal) (wire.NewToken, error) {
			good, err := access.ParseTime(in.Body.For)
			if err != nil {
				return wire.NewToken{}, err
			}
			t, secret, err := s.l.Access.RenewToken(ctx, in.Token, good)
			return wire.NewToken{Token: shape.Token(t), Secret: secret}, err
		})
	do(s, a, huma.Operation{OperationID: "revoke-token", Method: http.MethodDelete, Path: "/api/v1/tokens/{token}", Summary: "End a token and its sessions, at once and in every process"},
		func(ctx context.Context, in *named) (wire.Token, error) {
			t, err := s.l.Access.RevokeToken(ctx, in.Token)
			return shape.Token(t), err
		})

	get(s, a, "list-sessions", "/api/v1/sessions", "Browsers that are signed in: the caller's token's; all of them for who may end them", func(ctx context.Context, _ *none) ([]wire.Session, error) {
		c := called.Of(ctx).Caller
		all, err := s.l.Access.Sessions(ctx, c, endsOthers(c))
		return shape.Each(all, func(ss records.Session) wire.Session {
			return wire.Session{ID: ss.ID, Token: ss.Name, Made: ss.Made, Used: ss.Used, Expires: ss.Expires, Address: ss.Address, Browser: ss.Browser, Mine: ss.ID == c.Session}
		}), err
	})
	do(s, a, huma.Operation{OperationID: "end-session", Method: http.MethodDelete, Path: "/api/v1/sessions/{session}", Summary: "Sign a browser out"},
		func(ctx context.Context, in *struct {
			Session string `path:"session"`
		}) (done, error) {
			c := called.Of(ctx).Caller
			return done{true}, s.l.Access.EndSession(ctx, c, endsOthers(c), in.Session)
		})
	do(s, a, huma.Operation{OperationID: "end-sessions", Method: http.MethodDelete, Path: "/api/v1/sessions", Summary: "Sign all browsers of the caller's token out, or everybody's"},
		func(ctx context.Context, in *struct {
			Everybody bool `query:"everybody" doc:"those of other tokens, too"`
		}) (wire.Ended, error) {
			c := called.Of(ctx).Caller
			if in.Everybody && !endsOthers(c) {
				return wire.Ended{}, fmt.Errorf("%w: %s", fault.ErrForbidden, right.Refusal(c.Grants, right.EndOthers))
			}
			n, err := s.l.Access.EndSessions(ctx, c, in.Everybody)
			return wire.Ended{Sessions: n}, err
		})
}

func endsOthers(c access.Caller) bool { return right.Refusal(c.Grants, right.EndOthers) == "" }

// registerSignIn signs a browser in and out.
func (s *server) registerSignIn(a huma.API) {
	type signIn struct {
		Browser string `header:"User-Agent"`
		Body    struct {
			Token string `json:"token"`
		}
	}
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	open := func(op huma.Operation) huma.Operation {
		op.Path, op.DefaultStatus = "/api/v1/session", http.StatusNoContent
		return withoutSignIn(op)
	}
	huma.Register(a, open(huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Summary: "Sign a browser in"}),
		func(ctx context.Context, in *signIn) (*signedIn, error) {
			call, token := called.Of(ctx), strings.TrimSpace(in.Body.Token)
			c, err := s.l.Access.Check(ctx, token, call.Deed.Address, access.All)
			if err == nil {
				call.Caller, call.Deed.Who = c, c.Name
				err = s.begin(ctx)
			}
			secret := ""
			if err == nil {
				_, secret, err = s.l.Access.SignIn(ctx, token, call.Deed.Address, plain.Text(in.Browser, mostBrowser))
			}
			if access.IsUnknown(err) {
				return nil, s.stranger(ctx, "this token is not known to the lodge")
			}
			if err != nil {
				return nil, problem.Of(err, s.log)
			}
			return &signedIn{s.cookie(ctx, secret, access.SessionTime)}, nil
		})
	redeem := withoutSignIn(huma.Operation{OperationID: "redeem-code", Method: http.MethodPost, Path: "/api/v1/redemptions", Summary: "Give a code that was told for one use, and get a token for it"})
	huma.Register(a, redeem, func(ctx context.Context, in *struct{ Body wire.Redemption }) (*body[wire.Redeemed], error) {
		call := called.Of(ctx)
		c, err := s.l.Access.CheckCode(ctx, in.Body.Code, call.Deed.Address)
		if err == nil {
			call.Caller, call.Deed.Who = c, c.Name
			err = s.begin(ctx)
		}
		secret := ""
		if err == nil {
			secret, err = s.l.Access.Redeem(ctx, c, in.Body.Code)
		}
		if access.IsUnknown(err) {
			return nil, s.stranger(ctx, "this code is not known to the lodge, or was used, or its time is over; have another one made: keenlodge rescue code")
		}
		return &body[wire.Redeemed]{wire.Redeemed{Name: c.Name, Secret: secret}}, problem.Of(err, s.log)
	})
	huma.Register(a, open(huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Summary: "Sign a browser out"}),
		func(ctx context.Context, in *struct {
			Session string `cookie:"keenlodge_session"`
		}) (*signedIn, error) {
			call := called.Of(ctx)
			c, err := s.l.Access.Check(ctx, in.Session, call.Deed.Address, access.All)
			if err == nil && c.Session != "" {
				call.Caller, call.Deed.Who = c, c.Name
				if err = s.begin(ctx); err == nil {
					err = s.l.Access.EndSession(ctx, c, false, c.Session)
				}
			}
			if err != nil && !access.IsUnknown(err) {
				return nil, problem.Of(err, s.log)
			}
			return &signedIn{s.cookie(ctx, "", -time.Second)}, nil
		})
}

// cookie is what a browser keeps for so long.
func (s *server) cookie(ctx context.Context, value string, good time.Duration) http.Cookie {
	return http.Cookie{Name: cookie, Value: value, Path: "/", HttpOnly: true, Secure: called.Of(ctx).Secure, SameSite: http.SameSiteStrictMode, MaxAge: int(good / time.Second)}
}

// stranger is the answer to a key that opens nothing: the later, the more there were from its address.
func (s *server) stranger(ctx context.Context, says string) error {
	tooMany, first := s.l.Access.Strangers.Wrong(ctx, called.Of(ctx).Deed.Address, time.Now())
	if first {
		s.log.Warn("a wrong token was shown", "address", called.Of(ctx).Deed.Address)
	}
	if tooMany {
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many wrong tokens come from this address; try again later"), http.Header{"Retry-After": {"10"}})
	}
	return huma.Error401Unauthorized(says)
}

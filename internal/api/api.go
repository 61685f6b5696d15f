// Package api is the lodge's HTTP interface: JSON under /api/v1, described by OpenAPI at /api/openapi.json, errors as
// problem details (RFC 9457), changes as server-sent events.
package api

import (
	"context"
	"crypto/sha256"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/restore"

	"keenlodge/internal/access"
	"keenlodge/internal/events"
	"keenlodge/internal/inventory"
	"keenlodge/internal/proof"
	"keenlodge/internal/retention"
	"keenlodge/internal/stores"

	"keenlodge/internal/core/fault"

	"keenlodge/internal/core/image"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/go-chi/chi/v5"

	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge"
	"keenlodge/internal/records"
)

// cookie carries a browser's token.
const cookie = "keenlodge_session"

type server struct {
	l   *lodge.Lodge
	log *slog.Logger

	mu    sync.Mutex
	known map[[32]byte]knownToken // digests of tokens that were right
}

// knownToken is whose a token is, until when that need not be looked up.
type knownToken struct {
	name  string
	until time.Time
}

// whoKey is where a request's context has the token's name.
type whoKey struct{}

// who is the name of the token with which a call was made.
func who(ctx context.Context) string {
	name, _ := ctx.Value(whoKey{}).(string)
	return name
}

// New is the handler of the whole interface; console serves every path outside of /api.
func New(l *lodge.Lodge, log *slog.Logger, console http.Handler) http.Handler {
	s := &server{l: l, log: log, known: map[[32]byte]knownToken{}}
	router := chi.NewMux()
	router.Use(guard)
	huma.DefaultArrayNullable = false // lists are [] when they are empty
	config := huma.DefaultConfig("Keen Lodge", "1")
	config.CreateHooks = nil // no "$schema" in every answer
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	a := humachi.New(router, config)
	a.UseMiddleware(s.signedIn(a))
	s.register(a)
	router.Get("/api/v1/calendar.ics", s.calendar)
	router.NotFound(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			w.Write([]byte(`{"title":"Not Found","status":404,"detail":"no such call; look at /api/openapi.json"}`))
			return
		}
		console.ServeHTTP(w, r)
	})
	return router
}

// guard sets headers that keep a browser from doing what the console never does.
func guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}

// public marks operations that need no token.
const public = "public"

func (s *server) signedIn(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if ctx.Operation().Metadata[public] == true {
			next(ctx)
			return
		}
		token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer ")
		if !ok {
			token = cookieValue(ctx)
		}
		name, err := s.check(ctx.Context(), token)
		switch {
		case err == nil:
			next(huma.WithValue(ctx, whoKey{}, name))
		case access.IsUnknown(err):
			huma.WriteErr(a, ctx, http.StatusUnauthorized, "sign in: this call needs a token, and the one given is not known to the lodge")
		default:
			s.log.Error("a token could not be looked up", "error", err)
			huma.WriteErr(a, ctx, http.StatusServiceUnavailable, "the lodge can't reach its database")
		}
	}
}

func cookieValue(ctx huma.Context) string {
	for _, c := range parseCookies(ctx.Header("Cookie")) {
		if c.Name == cookie {
			return c.Value
		}
	}
	return ""
}

func parseCookies(header string) []*http.Cookie {
	cookies, err := http.ParseCookie(header)
	if err != nil {
		return nil // no session in it
	}
	return cookies
}

// check looks a token up and tells its name; right ones are remembered for a minute. One that is good for less than all is refused.
func (s *server) check(ctx context.Context, token string) (name string, err error) {
	digest := sha256.Sum256([]byte(token))
	s.mu.Lock()
	known, ok := s.known[digest]
	s.mu.Unlock()
	if ok && time.Now().Before(known.until) {
		return known.name, nil
	}
	name, err = s.l.Access.Token(ctx, token, access.All)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known[digest] = knownToken{name, time.Now().Add(time.Minute)}
	return name, nil
}

// told maps the lodge's errors onto HTTP's.
func (s *server) told(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound(fault.Text(err))
	case errors.Is(err, fault.ErrConflict):
		return huma.Error409Conflict(fault.Text(err))
	case errors.Is(err, fault.ErrInvalid):
		return huma.Error422UnprocessableEntity(fault.Text(err))
	}
	s.log.Error("a call failed", "error", err)
	return huma.Error500InternalServerError(err.Error())
}

type body[T any] struct{ Body T }

type none struct{}

// mostSite is how large a site may be, in bytes: some 100,000 policies.
const mostSite = 64 << 20

// get, post and put register an operation whose handler returns a body.
func get[I, O any](s *server, a huma.API, id, path, summary string, handle func(context.Context, *I) (O, error)) {
	do(s, a, huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary}, handle)
}

func do[I, O any](s *server, a huma.API, op huma.Operation, handle func(context.Context, *I) (O, error)) {
	op.Errors = []int{401, 404, 409, 422, 500}
	huma.Register(a, op, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, s.told(err)
		}
		return &body[O]{out}, nil
	})
}

func (s *server) register(a huma.API) {
	s.registerSession(a)
	get(s, a, "list-machines", "/api/v1/machines", "Machines, by name", func(ctx context.Context, _ *none) ([]inventory.View, error) { return s.l.Inventory.Views(ctx) })
	do(s, a, huma.Operation{OperationID: "find-machines", Method: http.MethodPost, Path: "/api/v1/hypervisors/find", Summary: "Ask every hypervisor for its guests"},
		func(ctx context.Context, _ *none) ([]inventory.Found, error) { return s.l.Inventory.Find(ctx) })
	get(s, a, "list-stores", "/api/v1/stores", "Stores, by name", func(ctx context.Context, _ *none) ([]stores.View, error) { return s.l.Stores.All(ctx) })
	s.registerStores(a)
	s.registerSchedules(a)

	get(s, a, "list-policies", "/api/v1/policies", "Policies, by name", func(ctx context.Context, _ *none) ([]lodge.PolicyView, error) { return s.l.Policies(ctx) })
	type start struct {
		Name string `path:"name"`
		Note string `query:"note" maxLength:"500" doc:"what the run is for; its images bear it"`
	}
	do(s, a, huma.Operation{OperationID: "run-policy", Method: http.MethodPost, Path: "/api/v1/policies/{name}/runs", DefaultStatus: http.StatusAccepted, Summary: "Start a run of a policy"},
		func(ctx context.Context, in *start) (records.Run, error) {
			return s.l.RunPolicy(ctx, in.Name, who(ctx), in.Note)
		})
	type preview struct {
		Name string `path:"name"`
		Rule string `query:"rule" doc:"another rotation phrase to try"`
	}
	get(s, a, "preview-rotation", "/api/v1/policies/{name}/rotation", "What the next rotation would do",
		func(ctx context.Context, in *preview) ([]retention.SetPreview, error) {
			return s.l.Retention.Preview(ctx, in.Name, in.Rule)
		})
	type confirm struct {
		Name string `path:"name"`
		Body struct {
			Drops []string `json:"drops" doc:"the images that were seen to go, of all sets; if others go now, nothing does"`
		}
	}
	do(s, a, huma.Operation{OperationID: "confirm-rotation", Method: http.MethodPost, Path: "/api/v1/policies/{name}/rotation", Summary: "Let a rotation happen that the guard holds back"},
		func(ctx context.Context, in *confirm) ([]string, error) {
			return s.l.Retention.Confirm(ctx, in.Name, in.Body.Drops)
		})

	type limited struct {
		Policy string `query:"policy"`
		Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
	}
	get(s, a, "list-runs", "/api/v1/runs", "Runs, newest first", func(ctx context.Context, in *limited) ([]records.Run, error) {
		return s.l.Runs.List(ctx, records.RunFilter{Policy: in.Policy, Limit: in.Limit})
	})
	type byID struct {
		ID string `path:"id"`
	}
	get(s, a, "get-run", "/api/v1/runs/{id}", "A run with its tasks", func(ctx context.Context, in *byID) (records.Run, error) { return s.l.Runs.Find(ctx, in.ID) })
	get(s, a, "get-run-log", "/api/v1/runs/{id}/log", "A run's log, oldest first", func(ctx context.Context, in *byID) ([]records.LogLine, error) { return s.l.Runs.ReadLog(ctx, in.ID) })

	type filter struct {
		Machine string `query:"machine"`
		Policy  string `query:"policy"`
		Store   string `query:"store"`
		Gone    bool   `query:"gone" doc:"those that rotation dropped, too"`
	}
	get(s, a, "list-images", "/api/v1/images", "Images, newest first", func(ctx context.Context, in *filter) ([]records.Image, error) {
		return s.l.Stores.Images(ctx, records.ImageFilter{Machine: in.Machine, Policy: in.Policy, Store: in.Store, Gone: in.Gone})
	})
	get(s, a, "get-image", "/api/v1/images/{id}", "An image with its proofs", func(ctx context.Context, in *byID) (ImageView, error) {
		m, proofs, err := s.l.Proofs.Of(ctx, in.ID)
		return ImageView{m, proofs}, err
	})
	type proving struct {
		ID   string `path:"id"`
		Body struct {
			Level image.Level `json:"level" enum:"read,mount"`
		}
	}
	do(s, a, huma.Operation{OperationID: "prove-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/proofs", DefaultStatus: http.StatusAccepted, Summary: "Start a proof of an image"},
		func(ctx context.Context, in *proving) (records.Run, error) {
			return s.l.Proofs.Start(ctx, who(ctx), proof.Request{Image: in.ID, Level: in.Body.Level})
		})
	type pin struct {
		ID   string `path:"id"`
		Body struct {
			Note string `json:"note,omitempty" doc:"why it is pinned"`
		}
	}
	do(s, a, huma.Operation{OperationID: "pin-image", Method: http.MethodPut, Path: "/api/v1/images/{id}/pin", Summary: "Pin an image, so that rotation never touches it"},
		func(ctx context.Context, in *pin) (records.Image, error) {
			return s.l.Stores.Pin(ctx, in.ID, true, in.Body.Note)
		})
	do(s, a, huma.Operation{OperationID: "unpin-image", Method: http.MethodDelete, Path: "/api/v1/images/{id}/pin", Summary: "Let a pinned image go"},
		func(ctx context.Context, in *byID) (records.Image, error) {
			return s.l.Stores.Pin(ctx, in.ID, false, "")
		})
	do(s, a, huma.Operation{OperationID: "undrop-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/undrop", Summary: "Bring a dropped image back, and all that it leans on"},
		func(ctx context.Context, in *byID) ([]string, error) { return s.l.Retention.Undrop(ctx, in.ID) })
	do(s, a, huma.Operation{OperationID: "fold-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/folds", DefaultStatus: http.StatusAccepted, Summary: "Join an image with the full one that it leans on"},
		func(ctx context.Context, in *byID) (records.Run, error) {
			return s.l.Retention.Fold(ctx, who(ctx), in.ID)
		})
	type restoring struct {
		ID   string `path:"id"`
		Body RestoreBody
	}
	do(s, a, huma.Operation{OperationID: "restore-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/restores", DefaultStatus: http.StatusAccepted, Summary: "Start a restore of an image as a new guest"},
		func(ctx context.Context, in *restoring) (records.Run, error) {
			b := in.Body
			return s.l.Restores.Start(ctx, who(ctx), restore.Request{Image: in.ID, As: b.As, Hypervisor: b.Hypervisor, Pool: b.Pool, Start: b.Start, Replace: b.Replace})
		})

	get(s, a, "get-site", "/api/v1/site", "The whole configuration", func(ctx context.Context, _ *none) (site.Site, error) { return s.l.Site(ctx) })
	type apply struct {
		Try  bool `query:"try" doc:"only tell what would change"`
		Body site.Site
	}
	do(s, a, huma.Operation{OperationID: "apply-site", Method: http.MethodPut, Path: "/api/v1/site", Summary: "Replace the configuration", MaxBodyBytes: mostSite},
		func(ctx context.Context, in *apply) (lodge.Applied, error) { return s.l.Apply(ctx, in.Body, in.Try) })

	sse.Register(a, huma.Operation{OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "What changes, as server-sent events"},
		map[string]any{"change": events.Event{}, "hello": Hello{}}, s.events)
}

// ImageView is an image with its proofs.
type ImageView struct {
	records.Image
	Proofs []records.Proof `json:"proofs"`
}

// RestoreBody says how an image is to be restored.
type RestoreBody struct {
	As         string `json:"as" doc:"name of the guest to make"`
	Hypervisor string `json:"hypervisor,omitempty" doc:"where; by default where the machine lived"`
	Pool       string `json:"pool,omitempty" doc:"storage pool for its disks"`
	Start      bool   `json:"start,omitempty" doc:"power it on, and wait for its guest agent"`
	Replace    bool   `json:"replace,omitempty" doc:"allow a guest of that name, which must be off, to be defined anew"`
}

// Hello is the first event of a stream: from here on nothing is missed.
type Hello struct {
	Program string `json:"program"`
}

// heartbeat keeps a silent stream from being taken for dead.
const heartbeat = 20 * time.Second

func (s *server) events(ctx context.Context, _ *none, send sse.Sender) {
	events, stop := s.l.Events.Listen()
	defer stop()
	if send.Data(Hello{lodge.Version}) != nil {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if send.Data(Hello{lodge.Version}) != nil {
				return
			}
		case e, ok := <-events:
			if !ok || send.Data(e) != nil {
				return
			}
		}
	}
}

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
			_, err := s.check(ctx, strings.TrimSpace(in.Body.Token))
			if errors.Is(err, fault.ErrNotFound) {
				return nil, huma.Error401Unauthorized("this token is not known to the lodge")
			}
			if err != nil {
				return nil, s.told(err)
			}
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

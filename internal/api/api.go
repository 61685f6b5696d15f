// Package api is the lodge's HTTP interface: JSON under /api/v1, described by OpenAPI at /api/openapi.json, errors as
// problem details (RFC 9457), changes as server-sent events.
package api

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"keenlodge/internal/api/called"
	"keenlodge/internal/api/feed"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/api/lines"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/schema"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/line"
	"keenlodge/internal/lodge"
)

type server struct {
	l   *lodge.Lodge
	log *slog.Logger
}

// New is the handler of the whole interface; console serves every path outside of /api.
func New(l *lodge.Lodge, log *slog.Logger, console http.Handler) http.Handler {
	router, _ := build(&server{l: l, log: log})
	router.Method(http.MethodGet, "/api/v1/calendar.ics", feed.Feed{Lodge: l, Log: log})
	router.Get(line.Path, lines.Lines{Lodge: l, Log: log}.Hold)
	router.Get(line.Path+"/{agent}", lines.Lines{Lodge: l, Log: log}.Pass)
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

// Document is the OpenAPI document of the interface, as JSON.
func Document() ([]byte, error) {
	_, a := build(&server{})
	return json.MarshalIndent(a.OpenAPI(), "", "  ")
}

// build makes the router of the calls that the document describes.
func build(s *server) (*chi.Mux, huma.API) {
	router := chi.NewMux()
	router.Use(guard.Over)
	huma.DefaultArrayNullable = false // lists are [] when they are empty
	config := huma.DefaultConfig("Keen Lodge", "1")
	config.CreateHooks = nil // no "$schema" in every answer
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schema.Name)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	a := humachi.New(router, config)
	a.UseMiddleware(s.noted, s.signedIn(a))
	s.register(a)
	schema.Complete(a.OpenAPI().Components.Schemas)
	return router, a
}

type body[T any] struct{ Body T }

type none struct{}

// get, post and put register an operation whose handler returns a body.
func get[I, O any](s *server, a huma.API, id, path, summary string, handle func(context.Context, *I) (O, error)) {
	do(s, a, huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary}, handle)
}

func do[I, O any](s *server, a huma.API, op huma.Operation, handle func(context.Context, *I) (O, error)) {
	op.Errors = []int{400, 401, 403, 404, 409, 422, 429, 500, 503}
	huma.Register(a, op, func(ctx context.Context, in *I) (*body[O], error) {
		var out O
		var err error
		if called.Changes(op.Method) {
			err = s.begin(ctx)
		}
		if err == nil {
			out, err = handle(ctx, in)
		}
		if err != nil {
			called.Of(ctx).Deed.Why = fault.Text(err)
			return nil, problem.Of(err, s.log)
		}
		return &body[O]{out}, nil
	})
}

func (s *server) register(a huma.API) {
	s.registerDoors(a)
	s.registerAgents(a)
	s.registerMachines(a)
	s.registerSnapshots(a)
	s.registerStores(a)
	s.registerPolicies(a)
	s.registerGroups(a)
	s.registerCopies(a)
	s.registerDrills(a)
	s.registerPromises(a)
	s.registerRuns(a)
	s.registerImages(a)
	s.registerFiles(a)
	s.serveDisk(a)
	s.takeDisks(a)
	s.registerBack(a)
	s.registerExports(a)
	s.registerFind(a)
	s.registerSite(a)
	s.registerEvents(a)
	s.registerTrail(a)
}

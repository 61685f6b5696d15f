// Package problem maps the lodge's errors onto HTTP's (RFC 9457).
package problem

import (
	"errors"
	"log/slog"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// Of is an error as HTTP tells it. What the database says of itself is for the service's log.
func Of(err error, log *slog.Logger) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fault.ErrForbidden):
		return huma.Error403Forbidden(fault.Text(err))
	case errors.Is(err, fault.ErrUnavailable):
		return huma.Error503ServiceUnavailable(fault.Text(err))
	case errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound(fault.Text(err))
	case errors.Is(err, fault.ErrConflict):
		return huma.Error409Conflict(fault.Text(err))
	case errors.Is(err, fault.ErrInvalid):
		return huma.Error422UnprocessableEntity(fault.Text(err))
	case records.Away(err):
		log.Warn("a call failed, for the database does not answer", "error", err)
		return huma.Error503ServiceUnavailable("the lodge's database does not answer; runs under way go on, and this call may be made again")
	}
	log.Error("a call failed", "error", err)
	if records.OfDatabase(err) {
		return huma.Error500InternalServerError("the lodge's database refused this; the service's log says why")
	}
	return huma.Error500InternalServerError(err.Error())
}

// Write answers a middleware's error.
func Write(a huma.API, ctx huma.Context, err error) {
	var e huma.StatusError
	if !errors.As(err, &e) {
		e = huma.Error500InternalServerError(err.Error())
	}
	var with interface{ GetHeaders() http.Header }
	if errors.As(err, &with) {
		for name, values := range with.GetHeaders() {
			ctx.SetHeader(name, values[0])
		}
	}
	huma.WriteErr(a, ctx, e.GetStatus(), e.Error())
}

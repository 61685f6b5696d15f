package api

import (
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// httpError maps the lodge's errors onto HTTP's. What the database says of itself is for the service's log.
func (s *server) httpError(err error) error {
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
		s.log.Warn("a call failed, for the database does not answer", "error", err)
		return huma.Error503ServiceUnavailable("the lodge's database does not answer; runs under way go on, and this call may be made again")
	}
	s.log.Error("a call failed", "error", err)
	if records.OfDatabase(err) {
		return huma.Error500InternalServerError("the lodge's database refused this; the service's log says why")
	}
	return huma.Error500InternalServerError(err.Error())
}

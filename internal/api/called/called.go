// Package called is what is known of a call of the interface while it is answered.
package called

import (
	"context"
	"crypto/x509"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/trail"
)

// Call is a call that is answered.
type Call struct {
	access.Caller
	Secure  bool              // over TLS
	Key     string            // what it shows to be let in
	Peer    *x509.Certificate // that the caller shows, or nil
	Refused bool              // for what it is not allowed to do
	In      right.Within
	Run     records.Run  // that it is about, where the caller's role is narrowed
	Deed    trail.Deed   // what is known of it for the trail: who makes it, from where, and why it did not go well
	Begun   *trail.Begun // nil for what changes nothing, or was refused before anything was done
}

// key is where a request's context has its call.
type key struct{}

// ReasonHeader carries why a call is made, for the trail.
const ReasonHeader = "Keenlodge-Reason"

// mostReason is how long a reason is at the most; what is beyond is cut off.
const mostReason = 500

// New begins a call, and returns the context with it.
func New(ctx huma.Context) (*Call, huma.Context) {
	reason := []rune(ctx.Header(ReasonHeader))
	c := &Call{Secure: ctx.TLS() != nil, Deed: trail.Deed{Address: guard.AddressOf(ctx.RemoteAddr()), Verb: ctx.Operation().OperationID, Target: ctx.URL().Path, Reason: string(reason[:min(len(reason), mostReason)])}}
	if t := ctx.TLS(); t != nil && len(t.PeerCertificates) > 0 {
		c.Peer = t.PeerCertificates[0]
	}
	return c, huma.WithValue(ctx, key{}, c)
}

// Of is the call that a context belongs to.
func Of(ctx context.Context) *Call {
	if c, ok := ctx.Value(key{}).(*Call); ok {
		return c
	}
	return &Call{}
}

// Changes reports whether a method changes something (RFC 9110, section 9.2.1).
func Changes(method string) bool { return method != http.MethodGet && method != http.MethodHead }

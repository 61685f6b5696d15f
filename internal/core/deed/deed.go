// Package deed says what somebody did to a lodge, and how it ended.
package deed

// Result is how a deed ended.
type Result string

const (
	// Done is one that was carried out, or was begun, as a run is.
	Done Result = "done"
	// Refused is one that changed nothing, for it was not allowed, not possible or not understood.
	Refused Result = "refused"
	// Failed is one that went wrong on the lodge's side; part of it may have happened.
	Failed Result = "failed"
)

// Results lists every result.
var Results = []Result{Done, Refused, Failed}

// ResultOf reads an HTTP status (RFC 9110, section 15).
func ResultOf(status int) Result {
	switch {
	case status < 400:
		return Done
	case status < 500:
		return Refused
	}
	return Failed
}

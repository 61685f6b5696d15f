package source

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"time"

	"keenlodge/internal/core/ledger"
)

// maxLedger is the longest ledger that is read through a guest's agent, in bytes.
const maxLedger = 64 << 20

// Ledger is what a ledger says that lies at a mount point.
type Ledger struct {
	Point string
	ledger.Summary
	// Before is when its newest line was written up to the moment that was asked for; the zero time for none.
	Before time.Time
}

// Ledgers reads the ledgers of a machine that runs, at some mount points. One that is not clean is an error.
func Ledgers(ctx context.Context, inside Insider, machine string, mounts []string, until time.Time) (out []Ledger, err error) {
	for _, point := range mounts {
		body, err := inside.ReadGuestFile(ctx, machine, path.Join(point, ledger.FileName), maxLedger)
		if err != nil {
			continue // most file systems have no ledger
		}
		// The guest appends while we read, so a last line may be cut.
		if i := bytes.LastIndexByte(body, '\n'); i >= 0 {
			body = body[:i+1]
		}
		s, last, err := ledger.CheckUntil(bytes.NewReader(body), until)
		if err != nil {
			return out, fmt.Errorf("its ledger at %s is not clean: %w", point, err)
		}
		out = append(out, Ledger{point, s, last})
	}
	return out, nil
}

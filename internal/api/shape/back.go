package shape

import (
	"keenlodge/internal/core/estimate"
	"keenlodge/internal/restore"
	"keenlodge/internal/wire"
)

// Same leaves what it is; with [Each] it makes of nil a list that is empty.
func Same[A any](v A) A { return v }

// Takes is how long something will take.
func Takes(e estimate.Estimate) wire.Takes {
	if e.Bytes == 0 && e.Paths == 0 {
		return wire.Takes{}
	}
	return wire.Takes{Seconds: e.Took.Seconds(), Bytes: e.Bytes, Limit: e.Limit.Name, Text: e.String()}
}

// FilesPlan is what becomes of files.
func FilesPlan(p restore.FilesPlan) wire.FilesPlan {
	out := wire.PlanOf(p.Counts, p.Steps)
	out.Machine, out.Digest, out.Short, out.Notices, out.Takes = p.Machine.Label, p.Digest, p.Short, Each(p.Notices, Same[string]), Takes(p.Estimate)
	return out
}

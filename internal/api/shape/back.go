package shape

import (
	"keenlodge/internal/core/estimate"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/fitting"
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

// Refit is how a disk will be divided.
func Refit(p fitting.Plan) wire.Refit {
	return wire.Refit{Target: p.Target, Was: p.From.Size, Size: p.Size, Table: p.From.Table, Free: p.Free, Notices: Each(p.Notices, Same[string]), Parts: Each(p.Steps, refitPart)}
}

func refitPart(s layout.Step) wire.RefitPart {
	return wire.RefitPart{Number: s.From.Number, Format: s.From.Format, Way: s.Way, WasOffset: s.From.Offset, WasSize: s.From.Length, Offset: s.To.Offset, Size: s.To.Length}
}

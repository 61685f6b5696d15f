package shape

import (
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/estimate"
	"keenlodge/internal/core/files"
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
	out := wire.FilesPlan{Machine: p.Machine.Label, Digest: p.Digest, Short: p.Short, Counts: []wire.ActionCount{}, Notices: Each(p.Notices, Same[string]), Takes: Takes(p.Estimate)}
	for _, action := range back.Actions {
		if c := p.Counts[action]; c.Paths > 0 {
			out.Counts = append(out.Counts, wire.ActionCount{Action: action, Paths: c.Paths, Bytes: c.Bytes})
		}
	}
	out.Steps = Each(p.Steps, func(t back.Step) wire.FileStep {
		step := wire.FileStep{Action: t.Action, Path: "/" + files.Readable(t.Path), Kind: t.Kind, Bytes: t.Bytes, Why: t.Why}
		if t.Old != nil && t.Action != back.Beside {
			step.Old = &wire.FileThere{Kind: t.Old.Kind, Size: t.Old.Size, Modified: t.Old.Modified}
		}
		return step
	})
	return out
}

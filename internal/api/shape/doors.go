package shape

import (
	"encoding/json"
	"slices"
	"time"

	"keenlodge/internal/access"
	"keenlodge/internal/core/right"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// Token is a token, without what it opens doors with.
func Token(t records.Token) wire.Token {
	return wire.Token{ID: t.ID, Name: t.Name, Scope: t.Scope, Roles: right.Phrases(t.Grants), Made: t.Made, MadeBy: t.MadeBy, Expires: t.Expires, Used: t.Used, From: t.UsedFrom,
		Revoked: t.Revoked, Live: t.Live, Sessions: t.Sessions}
}

// Me is who calls, and what he may do.
func Me(c access.Caller) wire.Me {
	me := wire.Me{Name: c.Name, Session: c.Session, Roles: right.Phrases(c.Grants), May: right.May(c.Grants), Needs: map[string]string{}, Expires: time.Now().Add(c.Left),
		Whole: !slices.ContainsFunc(c.Grants, right.Grant.Narrowed)}
	for _, id := range right.Operations {
		if why := right.Refusal(c.Grants, id); why != "" {
			me.Needs[string(id)] = why
		}
	}
	return me
}

// Agent is a server's agent.
func Agent(g records.Agent) wire.Agent {
	var about line.About
	_ = json.Unmarshal(g.About, &about) // it never said anything, or another version of it did
	return wire.Agent{Name: g.Name, Made: g.Made, MadeBy: g.MadeBy, JoiningUntil: g.JoiningUntil, Key: g.Key, Certified: g.Certified, Ends: g.Ends, Seen: g.Seen, Address: g.Address, Revoked: g.Revoked,
		Source: g.Source, Connected: g.Connected, Program: about.Program, System: about.System}
}

// Deed is a line of the trail.
func Deed(d records.Deed) wire.Deed { return wire.Deed(d) }

// Opened are the file systems of an image whose disks are open.
func Opened(o reader.Opened) wire.OpenedDisks {
	return wire.OpenedDisks{Tree: o.Tree, FileSystems: Each(o.FileSystems, func(f reader.FileSystem) wire.FileSystem {
		return wire.FileSystem{Name: f.Name, Format: f.Format, Label: f.Label, UUID: f.UUID, Size: f.Size, Used: f.Used, Mounted: f.Mounted, Why: f.Why, Locked: f.Locked}
	})}
}

// Package lodge puts the parts of a lodge together: [New] makes them, [Lodge.Serve] keeps them going, [Lodge.Apply] changes what they are
// configured with. It tells the stories that cross the parts: a policy's run, and its rehearsal. Any number of processes may serve one
// database.
package lodge

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"

	"keenlodge/internal/access"
	"keenlodge/internal/authority"
	"keenlodge/internal/browse"
	"keenlodge/internal/capture"
	"keenlodge/internal/copies"
	"keenlodge/internal/core/run"
	"keenlodge/internal/disks"
	"keenlodge/internal/doorman"
	"keenlodge/internal/drills"
	"keenlodge/internal/events"
	"keenlodge/internal/exports"
	"keenlodge/internal/hooks"
	"keenlodge/internal/intake"
	"keenlodge/internal/inventory"
	"keenlodge/internal/lending"
	"keenlodge/internal/lists"
	"keenlodge/internal/mount"
	"keenlodge/internal/moving"
	"keenlodge/internal/planning"
	"keenlodge/internal/promises"
	"keenlodge/internal/proof"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/rehearsal"
	"keenlodge/internal/restore"
	"keenlodge/internal/retention"
	"keenlodge/internal/runs"
	"keenlodge/internal/scratch"
	"keenlodge/internal/snapshots"
	"keenlodge/internal/source"
	"keenlodge/internal/source/agent"
	_ "keenlodge/internal/source/islet"     // a kind of source
	_ "keenlodge/internal/source/libvirt"   // a kind of source
	_ "keenlodge/internal/source/qemu"      // a kind of source
	_ "keenlodge/internal/source/skerry"    // a kind of source
	_ "keenlodge/internal/source/sound"     // a kind of source
	_ "keenlodge/internal/store/medium/all" // every medium
	"keenlodge/internal/stores"
	"keenlodge/internal/switchboard"
	"keenlodge/internal/throttle"
	"keenlodge/internal/trail"
	"keenlodge/internal/trials"
	"keenlodge/internal/vault"
	"keenlodge/internal/wire"
	"keenlodge/internal/witness"
)

// Config is what a process's part in a lodge needs.
type Config struct {
	Records *records.Records
	// State is a folder for what belongs to this host: mounts, the key file.
	State string
	Log   *slog.Logger
	// KeyFile opens the vault; by default it is lodge-key in the state folder.
	KeyFile string
	// Names are the host names and addresses of a certificate from the lodge's own authority.
	Names []string
	// Scratch is a folder for images that are written out to be proven; by default it is in the state folder.
	Scratch string
	// MountOnHost has proofs and checks open file systems on this host instead of in reader guests.
	MountOnHost bool
}

// Lodge is a process's part in a lodge. Faces call its parts.
type Lodge struct {
	Access    *access.Access
	Trail     *trail.Trail
	Authority *authority.Authority
	Agents    *authority.Agents
	// AgentsPort is that at which servers' agents call, 0 where it is the interface's own.
	AgentsPort int
	Lines      *switchboard.Board
	Vault      *vault.Vault
	Witness    *witness.Witness
	Events     *events.Hub
	Runs       *runs.Engine
	Hooks      *hooks.Hooks
	Stores     *stores.Stores
	Browse     *browse.Browser
	Lists      *lists.Lists
	Intake     *intake.Intake
	Inventory  *inventory.Inventory
	Retention  *retention.Retention
	Proofs     *proof.Proofs
	Trials     *trials.Trials
	Promises   *promises.Promises
	Drills     *drills.Drills
	Restores   *restore.Restores
	Planning   *planning.Planning
	Copies     *copies.Copies
	Disks      *disks.Disks
	Moving     *moving.Moving
	Snapshots  *snapshots.Snapshots
	Exports    *exports.Exports
	Rehearsals *rehearsal.Rehearsals

	rec       *records.Records
	log       *slog.Logger
	captures  *capture.Captures
	doorman   *doorman.Doorman
	mounts    string
	standings standings
}

// New makes a process's part; Serve starts it.
func New(c Config) (*Lodge, error) {
	executable, err := os.Executable()
	if err != nil {
		return nil, err
	}
	v, err := vault.Open(c.Records, cmp.Or(c.KeyFile, filepath.Join(c.State, "lodge-key")))
	if err != nil {
		return nil, err
	}
	engine, err := runs.New(c.Records, c.Log)
	if err != nil {
		return nil, err
	}
	l := &Lodge{rec: c.Records, log: c.Log, mounts: stores.Mounts(c.State), Runs: engine, Vault: v}
	pace := &throttle.Throttle{}
	l.Access = access.New(c.Records, c.Log)
	l.Authority = authority.New(v, c.Names)
	l.Agents = authority.NewAgents(c.Records, l.Authority)
	l.Trail = trail.New(c.Records, c.Log)
	l.Events = events.New(c.Records, c.Log)
	l.Events.Cancelled = engine.HeedCancel
	l.Hooks = hooks.New(c.Records, v, engine)
	l.Stores = stores.New(c.Records, c.Log, v, pace, engine, c.State, wire.Program)
	l.Stores.Reader, l.Stores.OnHost = reader.In(browse.Folder(c.State), executable), c.MountOnHost
	l.Lists, l.Intake = lists.New(c.Records, l.Stores, v, c.Log), intake.New(c.Records, c.Log, l.Stores, wire.Program)
	l.Browse = browse.New(l.Stores, l.Lists, c.Log, browse.Folder(c.State), wire.Program)
	l.doorman = doorman.New(c.Records, l.Access, l.Trail)
	l.Witness = witness.New(c.Records, c.Log, l.Trail, l.Stores)
	l.Lines = switchboard.New(c.Records, v, c.Log, engine.Process())
	l.Inventory = inventory.New(c.Records, c.Log, map[string]inventory.Own{agent.Kind: func(name string) source.Source { return agent.Of(name, l.Lines) }})
	l.Lines.Changed = l.Inventory.Look
	l.Retention = retention.New(c.Records, c.Log, l.Stores, engine)
	l.Exports = exports.New(c.Records, l.Stores, l.Inventory, pace, engine, wire.Program)
	l.Proofs = proof.New(c.Records, c.Log, l.Stores, l.Lists, l.Exports, engine, wire.Program)
	l.Proofs.Scratch = scratch.Folder(cmp.Or(c.Scratch, filepath.Join(c.State, "scratch")))
	l.Trials = trials.New(c.Records, c.Log, l.Stores, l.Inventory, l.Proofs, engine, wire.Program)
	l.Trials.Passed = l.Retention.RotateProven
	l.Promises = promises.New(c.Records, c.Log, l.Stores, l.Lists, l.Proofs, l.Trials)
	l.Drills = drills.New(c.Records, c.Log, l.Inventory, l.Proofs, l.Trials, l.Promises, engine, wire.Program)
	l.Restores = restore.New(c.Records, l.Stores, l.Inventory, l.Browse, pace, lending.New(filepath.Join(c.State, "lending"), executable), c.Log, engine, wire.Program, l.Proofs.Scratch)
	l.captures = capture.New(c.Records, c.Log, l.Inventory, l.Stores, l.Hooks, pace, wire.Program, executable, filepath.Join(c.State, "digests"))
	l.Planning = planning.New(c.Records, c.Log, l.Stores)
	l.Copies = copies.New(c.Records, c.Log, l.Stores, l.Retention, l.Planning, pace, engine, wire.Program)
	l.Stores.Came = l.Copies.Follow
	l.Moving = moving.New(c.Records, c.Log, l.Stores, engine)
	l.Moving.Change = l.change
	l.Disks = disks.New(c.Records, c.Log, l.Stores)
	l.Disks.Arrived = l.Copies.CatchUp
	engine.Register(run.Backup, backups{l})
	l.Snapshots = snapshots.New(c.Records, c.Log, l.Inventory, l.captures, engine)
	l.Restores.Before = l.Snapshots.Before
	l.Rehearsals = rehearsal.New(c.Records, l.Stores, l.Inventory, l.captures, l.Planning, l.Snapshots, engine, l.cleanUp)
	return l, nil
}

// Serve carries out what is due and what is asked for until ctx ends. ready is called when work may be queued.
func (l *Lodge) Serve(ctx context.Context, ready func()) error {
	if found, err := mount.Clean(l.mounts); err != nil {
		l.log.Warn("mounts of a dead process could not all be removed", "error", err)
	} else if len(found) > 0 {
		l.log.Info("removed what a dead process had mounted", "found", found)
	}
	if err := errors.Join(l.Proofs.Scratch.Clear(), l.Stores.TidyIndexes(ctx)); err != nil {
		l.log.Warn("what a dead process wrote out, or what is known of stores that left the site, could not all be removed from this host", "error", err)
	}
	begin := func() {
		ready()
		if err := errors.Join(l.Planning.Boot(ctx), l.Copies.Begin(ctx)); err != nil {
			l.log.Error("what runs at boot, or copies what is complete, could not all be started", "error", err)
		}
	}
	upkeep := func(ctx context.Context) error {
		return l.Retention.Upkeep(ctx, l.often, l.captures.TidyAll)
	}
	err := l.Runs.Serve(ctx, begin, l.Planning.Schedule, l.Events.Serve, upkeep, l.Witness.Serve, l.Lines.Serve, l.Browse.Serve, l.Restores.ServeLoans, l.Lists.Serve, l.Disks.Serve)
	return errors.Join(err, l.Stores.Close())
}

// often is what the service looks after once a minute.
func (l *Lodge) often(ctx context.Context) error {
	return errors.Join(l.captures.SettleLeft(ctx), l.Proofs.ReadAgain(ctx), l.Promises.Plan(ctx), l.Inventory.Survey(ctx), l.Snapshots.Upkeep(ctx), l.Access.Upkeep(ctx), l.doorman.Note(ctx))
}

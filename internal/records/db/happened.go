package db

import (
	"context"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"keenlodge/internal/core/event"
)

// EventQueue is the queue of what is told to others; it does not wait behind runs.
const EventQueue = "webhooks"

// Happened is the queue's job of telling whoever wants to know of an event.
type Happened struct {
	Event event.Event `json:"event"`
}

// Kind implements river.JobArgs.
func (Happened) Kind() string { return "event" }

// InsertOpts implements river's interface.
func (Happened) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: EventQueue} }

// Happen queues the telling of an event together with what tx changes.
func (d *DB) Happen(ctx context.Context, tx pgx.Tx, e event.Event) error {
	_, err := d.Jobs.InsertTx(ctx, tx, Happened{e}, nil)
	return err
}

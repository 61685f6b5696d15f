// Package hooks calls what a policy wants to be called at moments of its runs: scripts on the service's host, one after the other, and
// webhooks beside the run. It also tells webhooks of what they ask for wherever it happens (package core/event). How a script is run and an
// event is signed is in package notify.
package hooks

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/notify"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/vault"
)

// Hooks calls hooks.
type Hooks struct {
	rec   *records.Records
	vault *vault.Vault
	runs  *runs.Engine
}

// New makes a Hooks, and has the engine's queue deliver its events.
func New(rec *records.Records, v *vault.Vault, e *runs.Engine) *Hooks {
	hk := &Hooks{rec, v, e}
	runs.AddJobs(e, records.EventQueue, deliveriesAtOnce, &courier{hk: hk})
	runs.AddJobs(e, records.EventQueue, deliveriesAtOnce, &teller{hk: hk})
	return hk
}

// Event is a moment of a run, as hooks are told of it.
type Event struct {
	Moment  site.Moment `json:"moment"`
	Policy  string      `json:"policy"`
	Run     string      `json:"run"`
	Cause   run.Cause   `json:"cause"`
	Machine string      `json:"machine,omitempty"`
	Image   string      `json:"image,omitempty"`
	State   run.State   `json:"state,omitempty"`
	Error   string      `json:"error,omitempty"`
}

// variables are what a script finds in its environment.
func (h Event) variables() map[string]string {
	return map[string]string{"KEENLODGE_MOMENT": string(h.Moment), "KEENLODGE_POLICY": h.Policy, "KEENLODGE_RUN": h.Run, "KEENLODGE_CAUSE": string(h.Cause),
		"KEENLODGE_MACHINE": h.Machine, "KEENLODGE_IMAGE": h.Image, "KEENLODGE_STATE": string(h.State), "KEENLODGE_ERROR": strings.ReplaceAll(h.Error, "\x00", "?")}
}

// Call calls a policy's hooks at a moment: scripts one after the other, webhooks beside the run. warnings tell of scripts that failed
// and are only to warn; err of one that is to fail what it was called for.
func (hk *Hooks) Call(ctx context.Context, s site.Site, h Event) (warnings []string, err error) {
	for _, k := range s.Policies[h.Policy].Hooks {
		if !slices.Contains(k.At, h.Moment) {
			continue
		}
		if k.Webhook != "" {
			if err := hk.deliverLater(ctx, k.Webhook, h); err != nil {
				warnings = append(warnings, err.Error())
			}
			continue
		}
		output, failed := notify.Script(ctx, k.Script, h.variables(), k.Limit(h.Moment))
		for _, line := range strings.Split(strings.TrimRight(output, "\n"), "\n") {
			if line != "" {
				hk.runs.Log(ctx, h.Run, h.Machine, run.Note, fmt.Sprintf("hook at %s: %s", h.Moment, line))
			}
		}
		switch {
		case failed == nil:
			hk.runs.Log(ctx, h.Run, h.Machine, run.Note, fmt.Sprintf("hook at %s: %s ended well", h.Moment, k.Script))
		case k.Fails():
			return warnings, fmt.Errorf("hook at %s: %w", h.Moment, failed)
		default:
			warnings = append(warnings, fmt.Sprintf("hook at %s: %v", h.Moment, failed))
		}
	}
	return warnings, nil
}

// Delivery is the queue's job: tell a webhook of an event.
type Delivery struct {
	Webhook string       `json:"webhook"`
	Run     string       `json:"run"`
	Machine string       `json:"machine"`
	Event   notify.Event `json:"event"`
}

const (
	// deliveriesAtOnce is how many webhooks are told at the same time.
	deliveriesAtOnce = 4
	// deliveryTries is how often an event is sent: with the queue's waits, which grow with the fourth power of the tries, over 4 hours.
	deliveryTries = 9
)

// Kind implements river.JobArgs.
func (Delivery) Kind() string { return "delivery" }

// InsertOpts implements river's interface.
func (Delivery) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: records.EventQueue, MaxAttempts: deliveryTries}
}

func (hk *Hooks) deliverLater(ctx context.Context, webhook string, h Event) error {
	id, subject := h.Run+"-"+string(h.Moment), h.Run
	if h.Machine != "" {
		id, subject = h.Run+"-"+h.Machine+"-"+string(h.Moment), h.Machine
	}
	e := notify.NewEvent(id, "/policies/"+h.Policy, "keenlodge.run."+string(h.Moment), subject, time.Now(), h)
	if err := hk.rec.Queue(ctx, Delivery{Webhook: webhook, Run: h.Run, Machine: h.Machine, Event: e}); err != nil {
		return fmt.Errorf("webhook %s could not be queued at %s: %w", webhook, h.Moment, err)
	}
	return nil
}

// teller queues a delivery of what happened to each webhook that asks for it.
type teller struct {
	river.WorkerDefaults[records.Happened]
	hk *Hooks
}

// Work implements river.Worker. The deliveries are queued all or none; where it dies in between, a receiver tells an event that comes
// again by its ID.
func (tl *teller) Work(ctx context.Context, job *river.Job[records.Happened]) error {
	s, err := tl.hk.rec.Site(ctx)
	if err != nil {
		return err
	}
	e := job.Args.Event
	told := notify.NewEvent(fmt.Sprintf("event-%d", job.ID), "/lodge", "keenlodge."+string(e.Name), e.Subject(), job.CreatedAt, e)
	var deliveries []river.JobArgs
	for _, name := range slices.Sorted(maps.Keys(s.Webhooks)) {
		if slices.Contains(s.Webhooks[name].Events, e.Name) {
			deliveries = append(deliveries, Delivery{Webhook: name, Run: e.Run, Machine: e.Machine, Event: told})
		}
	}
	return tl.hk.rec.Queue(ctx, deliveries...)
}

// courier delivers events for the queue.
type courier struct {
	river.WorkerDefaults[Delivery]
	hk *Hooks
}

// Timeout implements river.Worker.
func (*courier) Timeout(*river.Job[Delivery]) time.Duration { return time.Minute }

// Work implements river.Worker. What fails is tried again by the queue, but for what the receiver will not take.
func (c *courier) Work(ctx context.Context, job *river.Job[Delivery]) error {
	d := job.Args
	err := c.hk.deliver(ctx, d.Webhook, d.Event)
	kept := context.WithoutCancel(ctx)
	switch {
	case err == nil:
		c.hk.runs.LogIfKept(kept, d.Run, d.Machine, run.Note, fmt.Sprintf("webhook %s was told of %s", d.Webhook, d.Event.Type))
		return nil
	case errors.Is(err, notify.ErrRejected), errors.Is(err, fault.ErrNotFound):
		c.hk.runs.LogIfKept(kept, d.Run, d.Machine, run.Warning, fmt.Sprintf("%v; it is not tried again", err))
		return river.JobCancel(err)
	}
	c.hk.runs.LogIfKept(kept, d.Run, d.Machine, run.Warning, fmt.Sprintf("%v (try %d of %d)", err, job.Attempt, job.MaxAttempts))
	return err
}

func (hk *Hooks) deliver(ctx context.Context, webhook string, e notify.Event) error {
	s, err := hk.rec.Site(ctx)
	if err != nil {
		return err
	}
	spec, ok := s.Webhooks[webhook]
	if !ok {
		return fault.Unknown("webhook", webhook, slices.Sorted(maps.Keys(s.Webhooks)))
	}
	var key []byte
	if ok, err := hk.vault.Get(ctx, webhookKey(webhook), &key); err != nil {
		return err
	} else if !ok {
		return fmt.Errorf("%w: webhook %s has no key to sign with; make one: keenlodge webhook key %[2]s", fault.ErrNotFound, webhook)
	}
	return notify.Deliver(ctx, spec.URL, webhook, key, e, time.Now())
}

func webhookKey(name string) string { return "webhook/" + name + "/key" }

// NewKey makes the key with which a webhook's events are signed in place of an older one, and tells it: nobody can ask for it
// again. It is in Base64.
func (hk *Hooks) NewKey(ctx context.Context, name string) (string, error) {
	s, err := hk.rec.Site(ctx)
	if err != nil {
		return "", err
	}
	if _, ok := s.Webhooks[name]; !ok {
		return "", fault.Unknown("webhook", name, slices.Sorted(maps.Keys(s.Webhooks)))
	}
	key := make([]byte, 32)
	rand.Read(key)
	return base64.StdEncoding.EncodeToString(key), hk.vault.Set(ctx, webhookKey(name), key)
}

// MakeKeys gives every webhook that has none a key to sign with; somebody who needs to know it makes another.
func (hk *Hooks) MakeKeys(ctx context.Context, s site.Site) error {
	for name := range s.Webhooks {
		var key []byte
		ok, err := hk.vault.Get(ctx, webhookKey(name), &key)
		if err == nil && !ok {
			_, err = hk.NewKey(ctx, name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Try sends a test event and tells how it went.
func (hk *Hooks) Try(ctx context.Context, name string) error {
	e := notify.NewEvent(runs.NewID(), "/webhooks/"+name, "keenlodge.test", name, time.Now(), json.RawMessage(`{"text":"a test event of Keen Lodge"}`))
	err := hk.deliver(ctx, name, e)
	if err == nil || errors.Is(err, fault.ErrNotFound) {
		return err
	}
	return fmt.Errorf("%w: %w", fault.ErrConflict, err)
}

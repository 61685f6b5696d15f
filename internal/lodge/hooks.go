package lodge

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/run"

	"github.com/riverqueue/river"

	"keenlodge/internal/core/site"
	"keenlodge/internal/notify"
)

// happening is a moment of a run, as hooks are told of it.
type happening struct {
	Moment  string    `json:"moment"`
	Policy  string    `json:"policy"`
	Run     string    `json:"run"`
	Cause   run.Cause `json:"cause"`
	Machine string    `json:"machine,omitempty"`
	Image   string    `json:"image,omitempty"`
	State   run.State `json:"state,omitempty"`
	Error   string    `json:"error,omitempty"`
}

// variables are what a script finds in its environment.
func (h happening) variables() map[string]string {
	return map[string]string{"KEENLODGE_MOMENT": h.Moment, "KEENLODGE_POLICY": h.Policy, "KEENLODGE_RUN": h.Run, "KEENLODGE_CAUSE": string(h.Cause),
		"KEENLODGE_MACHINE": h.Machine, "KEENLODGE_IMAGE": h.Image, "KEENLODGE_STATE": string(h.State), "KEENLODGE_ERROR": strings.ReplaceAll(h.Error, "\x00", "?")}
}

// hook calls a policy's hooks at a moment: scripts one after the other, webhooks beside the run. warnings tell of scripts that failed
// and are only to warn; err of one that is to fail what it was called for.
func (l *Lodge) hook(ctx context.Context, s site.Site, h happening) (warnings []string, err error) {
	for _, k := range s.Policies[h.Policy].Hooks {
		if !slices.Contains(k.At, h.Moment) {
			continue
		}
		if k.Webhook != "" {
			if err := l.deliverLater(ctx, k.Webhook, h); err != nil {
				warnings = append(warnings, err.Error())
			}
			continue
		}
		output, failed := notify.Script(ctx, k.Script, h.variables(), k.Limit(h.Moment))
		for _, line := range strings.Split(strings.TrimRight(output, "\n"), "\n") {
			if line != "" {
				l.say(ctx, h.Run, h.Machine, fmt.Sprintf("hook at %s: %s", h.Moment, line))
			}
		}
		switch {
		case failed == nil:
			l.say(ctx, h.Run, h.Machine, fmt.Sprintf("hook at %s: %s ended well", h.Moment, k.Script))
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
	// deliveryQueue keeps deliveries from waiting behind runs.
	deliveryQueue = "webhooks"
	// deliveryTries is how often an event is sent: with the queue's waits, which grow with the fourth power of the tries, over 4 hours.
	deliveryTries = 9
)

// Kind implements river.JobArgs.
func (Delivery) Kind() string { return "delivery" }

// InsertOpts implements river's interface.
func (Delivery) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: deliveryQueue, MaxAttempts: deliveryTries}
}

func (l *Lodge) deliverLater(ctx context.Context, webhook string, h happening) error {
	id := strings.Trim(h.Run+"-"+h.Machine+"-"+h.Moment, "-")
	subject := h.Run
	if h.Machine != "" {
		subject = h.Machine
	}
	e := notify.NewEvent(id, "/policies/"+h.Policy, "keenlodge.run."+h.Moment, subject, time.Now(), h)
	if err := l.rec.Queue(ctx, Delivery{Webhook: webhook, Run: h.Run, Machine: h.Machine, Event: e}); err != nil {
		return fmt.Errorf("webhook %s could not be queued at %s: %w", webhook, h.Moment, err)
	}
	return nil
}

// courier delivers events for the queue.
type courier struct {
	river.WorkerDefaults[Delivery]
	l *Lodge
}

// Timeout implements river.Worker.
func (*courier) Timeout(*river.Job[Delivery]) time.Duration { return time.Minute }

// Work implements river.Worker. What fails is tried again by the queue, but for what the receiver will not take.
func (c *courier) Work(ctx context.Context, job *river.Job[Delivery]) error {
	d := job.Args
	err := c.l.deliver(ctx, d.Webhook, d.Event)
	kept := context.WithoutCancel(ctx)
	switch {
	case err == nil:
		c.l.sayIfKept(kept, d.Run, d.Machine, fmt.Sprintf("webhook %s was told of %s", d.Webhook, d.Event.Type))
		return nil
	case errors.Is(err, notify.ErrRejected), errors.Is(err, ErrNotFound):
		c.l.sayIfKept(kept, d.Run, d.Machine, fmt.Sprintf("warning: %v; it is not tried again", err))
		return river.JobCancel(err)
	}
	c.l.sayIfKept(kept, d.Run, d.Machine, fmt.Sprintf("warning: %v (try %d of %d)", err, job.Attempt, job.MaxAttempts))
	return err
}

// sayIfKept adds a line to the log of a run whose records may be gone.
func (l *Lodge) sayIfKept(ctx context.Context, run, machine, text string) {
	if _, err := l.rec.Run(ctx, run); err == nil {
		l.say(ctx, run, machine, text)
	}
}

func (l *Lodge) deliver(ctx context.Context, webhook string, e notify.Event) error {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	spec, ok := s.Webhooks[webhook]
	if !ok {
		return notFound("webhook", webhook, keys(s.Webhooks))
	}
	var key []byte
	if ok, err := l.secret(ctx, webhookKey(webhook), &key); err != nil {
		return err
	} else if !ok {
		return fmt.Errorf("%w: webhook %s has no key to sign with; make one: keenlodge webhook key %[2]s", ErrNotFound, webhook)
	}
	return notify.Deliver(ctx, spec.URL, webhook, key, e, time.Now())
}

func webhookKey(name string) string { return "webhook/" + name + "/key" }

// NewWebhookKey makes the key with which a webhook's events are signed in place of an older one, and tells it: nobody can ask for it
// again. It is in Base64.
func (l *Lodge) NewWebhookKey(ctx context.Context, name string) (string, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return "", err
	}
	if _, ok := s.Webhooks[name]; !ok {
		return "", notFound("webhook", name, keys(s.Webhooks))
	}
	key := make([]byte, 32)
	rand.Read(key)
	return base64.StdEncoding.EncodeToString(key), l.setSecret(ctx, webhookKey(name), key)
}

// keyWebhooks gives every webhook that has none a key to sign with; somebody who needs to know it makes another.
func (l *Lodge) keyWebhooks(ctx context.Context, s site.Site) error {
	for name := range s.Webhooks {
		var key []byte
		ok, err := l.secret(ctx, webhookKey(name), &key)
		if err == nil && !ok {
			_, err = l.NewWebhookKey(ctx, name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// TryWebhook sends a test event and tells how it went.
func (l *Lodge) TryWebhook(ctx context.Context, name string) error {
	e := notify.NewEvent(newRunID(), "/webhooks/"+name, "keenlodge.test", name, time.Now(), json.RawMessage(`{"text":"a test event of Keen Lodge"}`))
	err := l.deliver(ctx, name, e)
	if err == nil || errors.Is(err, ErrNotFound) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrConflict, err)
}

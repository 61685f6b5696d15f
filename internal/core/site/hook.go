package site

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"time"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/suggest"
)

// Moments of a run at which hooks are called, in their order. A run that ends with an error has "failed" instead of "done".
var Moments = []Moment{Begun, MachineBegun, Frozen, Thawed, MachineDone, Failed, Done}

// Moment is a moment of a run.
type Moment string

const (
	Begun        Moment = "begun"
	MachineBegun Moment = "machine-begun"
	// Frozen and Thawed are around the time in which a guest's file systems stand still.
	Frozen      Moment = "frozen"
	Thawed      Moment = "thawed"
	MachineDone Moment = "machine-done"
	Failed      Moment = "failed"
	Done        Moment = "done"
)

// FrozenLimit bounds a script that runs while a guest's file systems stand still.
const FrozenLimit = 5 * time.Second

// Hook is a script on the service's host, or a webhook, that is called at moments of a run.
type Hook struct {
	At      []Moment `yaml:"at" json:"at" doc:"moments: begun, machine-begun, frozen, thawed, machine-done, failed, done"`
	Script  string   `yaml:"script,omitempty" json:"script,omitempty" doc:"path of a program on the service's host; what it is told is in its environment"`
	Webhook string   `yaml:"webhook,omitempty" json:"webhook,omitempty" doc:"name of a webhook"`
	Within  string   `yaml:"within,omitempty" json:"within,omitempty" doc:"how long a script may take; default 1 minute, and 5 seconds at most at frozen"`
	Else    string   `yaml:"else,omitempty" json:"else,omitempty" enum:"fail,warn" doc:"what a script that fails does; default warn"`
}

// Fails reports whether a failing script fails what it was called for.
func (h Hook) Fails() bool { return h.Else == "fail" }

// Limit is how long a script may take at a moment.
func (h Hook) Limit(moment Moment) time.Duration {
	d := field.SpanOf(h.Within, time.Minute)
	if moment == Frozen {
		return min(d, FrozenLimit)
	}
	return d
}

func (v Policy) checkHooks(name, p string, s Site) error {
	for i, h := range v.Hooks {
		here := fmt.Sprintf("%s.hooks[%d]", p, i)
		if len(h.At) == 0 {
			return field.At(name, here, "at is missing: which moments is it called at?%s", suggest.Hint("", Moments))
		}
		for _, moment := range h.At {
			if !slices.Contains(Moments, moment) {
				return field.At(name, here, "no moment is called %q%s", moment, suggest.Hint(moment, Moments))
			}
		}
		switch {
		case (h.Script == "") == (h.Webhook == ""):
			return field.At(name, here, "a hook is either a script or a webhook")
		case h.Script != "" && !path.IsAbs(h.Script):
			return field.At(name, here, "script %q is not an absolute path", h.Script)
		case h.Webhook != "" && (h.Within != "" || h.Else != ""):
			return field.At(name, here, "within and else are for scripts; a webhook is delivered beside the run, and tried again")
		case h.Else != "" && h.Else != "fail" && h.Else != "warn":
			return field.At(name, here, "else %q is not known%s", h.Else, suggest.Hint(h.Else, []string{"fail", "warn"}))
		}
		if _, ok := s.Webhooks[h.Webhook]; h.Webhook != "" && !ok {
			return field.At(name, here, "no webhook is called %q%s", h.Webhook, suggest.Hint(h.Webhook, slices.Sorted(maps.Keys(s.Webhooks))))
		}
		if _, err := field.SpanOr(h.Within, 0); err != nil {
			return field.At(name, here, "within: %v", err)
		}
	}
	return nil
}

func (w Webhook) check(name, p string) error {
	u, err := url.Parse(w.URL)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" {
		return field.At(name, p+".url", `%q is no address; write for example https://desk.brindle.example/runs, with no password in it`, w.URL)
	}
	if ip, err := netip.ParseAddr(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" && (err != nil || !ip.IsLoopback()) {
		return field.At(name, p+".url", "%s is not encrypted and not on loopback; write https://", w.URL)
	}
	for i, e := range w.Events {
		if !slices.Contains(event.Names, e) {
			return field.At(name, fmt.Sprintf("%s.events[%d]", p, i), "no event is called %q%s", e, suggest.Hint(e, event.Names))
		}
	}
	return nil
}

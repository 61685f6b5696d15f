package capture

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// rest is how a guest's applications are brought to rest, and told to go on, through the agent in it: nil where there are none. A server's agent does
// that by itself, beside its freeze.
func (k *making) rest(h any) func(context.Context) (func(context.Context) error, error) {
	if len(k.o.Policy.Applications) == 0 {
		return nil
	}
	inside, ok := h.(source.Insider)
	if !ok {
		return func(context.Context) (func(context.Context) error, error) {
			return nil, errors.New("applications can't be brought to rest, for a source of this kind runs no commands in its machines")
		}
	}
	return func(ctx context.Context) (func(context.Context) error, error) {
		r := &resting{inside: inside, t: k.t, wanted: k.o.Policy.Applications}
		err := r.begin(ctx)
		k.rested = r.told
		if err != nil {
			return nil, errors.Join(err, r.end(context.WithoutCancel(ctx)))
		}
		return func(ctx context.Context) error {
			err := r.end(ctx)
			k.rested = r.told
			return err
		}, nil
	}
}

// resting are applications that are brought to rest.
type resting struct {
	inside source.Insider
	t      *runs.Task
	wanted []site.Application
	told   []image.Rested // of those that were called
}

// begin calls them in their order. Whatever happens afterwards, those that were called are to be told to go on: that is written down first.
func (r *resting) begin(ctx context.Context) error {
	for _, a := range r.wanted {
		r.t.Owed = append(r.t.Owed, a.Name)
		if err := r.t.Save(ctx); err != nil {
			r.t.Owed = r.t.Owed[:len(r.t.Owed)-1]
			return err
		}
		r.told = append(r.told, image.Rested{Name: a.Name})
		told := &r.told[len(r.told)-1]
		begun := time.Now()
		err := callApplication(ctx, r.inside, r.t.Guest, a, site.Before)
		told.Before = time.Since(begun)
		if err != nil {
			told.Failed = err.Error()
			return err
		}
	}
	return nil
}

// end tells those that were called to go on, in the opposite order.
func (r *resting) end(ctx context.Context) error {
	var errs []error
	for i := len(r.told) - 1; i >= 0; i-- {
		told := &r.told[i]
		begun := time.Now()
		err := callApplication(ctx, r.inside, r.t.Guest, r.wanted[i], site.After)
		told.After = time.Since(begun)
		if err != nil {
			told.Failed = strings.TrimPrefix(told.Failed+"; "+err.Error(), "; ")
			errs = append(errs, err)
			continue // whoever clears up after this task tries again
		}
		r.t.Owed = slices.DeleteFunc(r.t.Owed, func(name string) bool { return name == told.Name })
	}
	return errors.Join(append(errs, r.t.Save(ctx))...)
}

// callApplication calls an application's command in a guest.
func callApplication(ctx context.Context, inside source.Insider, guest string, a site.Application, word string) error {
	code, output, err := inside.Execute(ctx, guest, []string{path.Join(site.CommandFolder, a.Name), word}, a.Limit())
	if err != nil {
		return fmt.Errorf("application %s, %s: %w", a.Name, word, err)
	}
	if code != 0 {
		return fmt.Errorf("application %s, %s: it ended with %d: %s", a.Name, word, code, plain.LastLine(output, 400))
	}
	return nil
}

// longestGoOn is how long an application may take to go on whose task is cleared: its policy may be gone by then.
const longestGoOn = "10 minutes"

// goOn tells applications to go on that a task had brought to rest, and that nobody told so.
func goOn(ctx context.Context, h source.Source, t records.Task) (found []string, err error) {
	if len(t.Owed) == 0 {
		return nil, nil
	}
	inside, err := source.As[source.Insider](h, "ask a machine from inside")
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, name := range slices.Backward(t.Owed) {
		err := callApplication(ctx, inside, t.Guest, site.Application{Name: name, Within: longestGoOn}, site.After)
		if errors.Is(err, source.ErrNoMachine) || errors.Is(err, source.ErrNotRunning) {
			continue // nothing rests in it any more
		}
		if err == nil {
			found = append(found, "application "+name+" was told to go on")
		}
		errs = append(errs, err)
	}
	return found, errors.Join(errs...)
}

package moment

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/agent/parts"
	"keenlodge/internal/core/site"
	"keenlodge/internal/line"
	"keenlodge/internal/private"
)

// restFile names the applications that were brought to rest, and have yet to be told to go on: for the day on which the agent is killed before
// that, and for those that don't.
const restFile = "resting"

// resting keeps what is done to applications from being done by two at once: by a capture, and by whoever looks after those that are left.
var resting sync.Mutex

// atRest takes the instant while applications are at rest, too, where some are asked for. Where one does not come to rest, that is an error where a
// freeze is required; otherwise the instant is taken without.
func (c *Capture) atRest(ctx context.Context, s line.Settle) (got line.Settled, err error) {
	if len(s.Applications) == 0 {
		return c.still(ctx, s.Longest)
	}
	resting.Lock()
	defer resting.Unlock()
	rested, err := c.rest(ctx, s.Applications)
	if err != nil {
		err = errors.Join(err, c.goOn(ctx, s.Applications, rested))
		if s.Required {
			return line.Settled{Rested: rested}, err
		}
		got, failed := c.still(ctx, s.Longest)
		got.Rested = rested
		got.Warnings = append(got.Warnings, err.Error()+"; its file systems were made to stand still without")
		return got, failed
	}
	got, err = c.still(ctx, s.Longest)
	if still := c.goOn(ctx, s.Applications, rested); still != nil {
		got.Warnings = append(got.Warnings, still.Error())
	}
	got.Rested = rested
	return got, err
}

// rest calls applications in their order, and tells which it called.
func (c *Capture) rest(ctx context.Context, all []line.Application) (called []line.Rested, err error) {
	for _, a := range all {
		called = append(called, line.Rested{Name: a.Name})
		told := &called[len(called)-1]
		if err = owe(c.folder, a.Name); err == nil {
			begun := time.Now()
			err = parts.Run(ctx, c.settings, a.Name, a.Within, io.Discard, site.Before)
			told.Before = time.Since(begun)
		}
		if err != nil {
			err = fmt.Errorf("application %s, %s: %w", a.Name, site.Before, err)
			told.Failed = err.Error()
			return called, err
		}
	}
	return called, nil
}

// goOn tells those that were called to go on, in the opposite order, whatever becomes of the capture.
func (c *Capture) goOn(ctx context.Context, all []line.Application, called []line.Rested) error {
	var errs []error
	for i := len(called) - 1; i >= 0; i-- {
		begun := time.Now()
		err := parts.Run(context.WithoutCancel(ctx), c.settings, all[i].Name, all[i].Within, io.Discard, site.After)
		called[i].After = time.Since(begun)
		if errors.Is(err, fs.ErrNotExist) && called[i].Failed != "" {
			err = nil // there is no such command, which was said already
		}
		if err == nil {
			err = settle(c.folder, all[i].Name)
		}
		if err != nil {
			err = fmt.Errorf("application %s, %s: %w", all[i].Name, site.After, err)
			called[i].Failed = strings.TrimPrefix(called[i].Failed+"; "+err.Error(), "; ")
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// owed are the applications that have yet to be told to go on, in the order in which they were brought to rest.
func owed(folder string) (names []string, err error) {
	place := filepath.Join(folder, restFile)
	body, err := os.ReadFile(place)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(body, &names)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("which applications are still at rest: %s: %w; look whether yours work, and call their commands in %s with %q where one does not", place, err, site.CommandFolder, site.After), os.Remove(place))
	}
	return names, nil
}

// owe notes that an application is to be told to go on.
func owe(folder, name string) error {
	names, err := owed(folder)
	if err != nil {
		return err
	}
	return noteOwed(folder, append(slices.DeleteFunc(names, func(other string) bool { return other == name }), name))
}

// settle notes that an application was told to go on.
func settle(folder, name string) error {
	names, err := owed(folder)
	if err != nil {
		return err
	}
	return noteOwed(folder, slices.DeleteFunc(names, func(other string) bool { return other == name }))
}

func noteOwed(folder string, names []string) error {
	place := filepath.Join(folder, restFile)
	if len(names) == 0 {
		return os.Remove(place)
	}
	body, err := json.Marshal(names)
	if err != nil {
		return err
	}
	return private.Write(place, string(body))
}

// leftTime is how long an application may take to go on that was left at rest.
const leftTime = time.Minute

// GoOn tells applications to go on that a dead agent left at rest, or that did not when they were told. It returns how many still don't; of one
// whose command is gone nothing more can be asked.
func GoOn(folder, settings string) (found []string, left int, err error) {
	resting.Lock()
	defer resting.Unlock()
	names, err := owed(folder)
	errs := []error{err}
	for _, name := range slices.Backward(names) {
		failed := parts.Run(context.Background(), settings, name, leftTime, io.Discard, site.After)
		switch {
		case failed == nil:
			found = append(found, "application "+name+" was at rest, and was told to go on")
		case errors.Is(failed, fs.ErrNotExist):
			found = append(found, fmt.Sprintf("application %s was at rest, and its command is there no more: %v", name, failed))
		default:
			found = append(found, fmt.Sprintf("application %s was at rest, and could not be told to go on: %v", name, failed))
			left++
			continue
		}
		errs = append(errs, settle(folder, name))
	}
	return found, left, errors.Join(errs...)
}

package source

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
)

// Freezer freezes and thaws a machine's file systems.
type Freezer interface {
	// Guard sets what thaws it by itself where nobody may reach it any more, and returns what ends that. Where that can't be had, it is not frozen.
	Guard(ctx context.Context) (end func(), err error)
	Freeze(ctx context.Context) error
	// Thaw tells how many file systems stood still.
	Thaw(ctx context.Context) (n int, err error)
}

// Stood is what a freeze came to.
type Stood struct {
	Consistency image.Consistency
	Frozen      time.Duration
	Warnings    []string
}

// WhileFrozen takes a moment of a machine that runs while its file systems stand still, as far as the request asks for that, with its watchdog
// and hooks around it. Sources use it. However it ends, the machine is thawed, or somebody goes on trying.
func WhileFrozen(ctx context.Context, r Request, f Freezer, take func() error) (Stood, error) {
	s := Stood{Consistency: image.Crash}
	if r.Quiesce == machine.NoFreeze {
		return s, take()
	}
	if r.Rest != nil {
		goOn, err := r.Rest(ctx)
		if err != nil && r.Quiesce == machine.Required {
			return s, err
		}
		if err != nil {
			s.Warnings = append(s.Warnings, fmt.Sprintf("%v; its file systems were made to stand still without", err))
		} else {
			asked := r
			asked.Rest = nil
			stood, err := WhileFrozen(ctx, asked, f, take)
			if still := goOn(context.WithoutCancel(ctx)); still != nil {
				stood.Warnings = append(stood.Warnings, fmt.Sprintf("%v; it is told so again", still))
			} else if stood.Consistency == image.FileSystem {
				stood.Consistency = image.Application
			}
			return stood, err
		}
	}
	dog, err := r.Watch()
	if err != nil {
		return s, fmt.Errorf("freeze guest %s: no watchdog could be set, so it was not tried: %w", r.Machine, err)
	}
	without := func(why error) (Stood, error) {
		if r.Quiesce == machine.Required {
			return s, fmt.Errorf("%w; is the guest agent running in it? With quiesce \"preferred\" the image is taken without a freeze", why)
		}
		s.Warnings = append(s.Warnings, why.Error()+"; the image is as after a power cut")
		return s, take()
	}
	end, err := f.Guard(ctx)
	if err != nil {
		dog.Thawed()
		return without(fmt.Errorf("freeze guest %s: if the line to its host were cut, nothing there would thaw it, so it was not tried: %w", r.Machine, err))
	}
	begun := time.Now()
	if err := f.Freeze(ctx); err != nil {
		// A freeze that failed or timed out may still hold, so it is thawed before anything else.
		if _, undo := f.Thaw(context.WithoutCancel(ctx)); undo == nil {
			dog.Thawed()
			end()
		}
		return without(err)
	}
	dog.Frozen()
	if err = r.moment(ctx, site.Frozen); err == nil {
		err = take()
	}
	n, undo := f.Thaw(context.WithoutCancel(ctx))
	s.Frozen = time.Since(begun)
	if undo != nil {
		return s, errors.Join(err, fmt.Errorf("guest %s may still be frozen, the watchdog goes on trying: %w", r.Machine, undo))
	}
	dog.Thawed()
	end()
	if err = errors.Join(err, r.moment(ctx, site.Thawed)); err != nil {
		return s, err
	}
	if n == 0 { // the watchdog was faster, perhaps before the snapshot was taken
		err := fmt.Errorf("the freeze of guest %s did not hold until the snapshot was taken", r.Machine)
		if r.Quiesce == machine.Required {
			return s, err
		}
		s.Warnings = append(s.Warnings, err.Error()+"; the image is as after a power cut")
		return s, nil
	}
	s.Consistency = image.FileSystem
	return s, nil
}

func (r Request) moment(ctx context.Context, m site.Moment) error {
	if r.Moment == nil {
		return nil
	}
	return r.Moment(ctx, m)
}

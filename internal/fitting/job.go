package fitting

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/reader"
	"keenlodge/internal/scratch"
)

// Wanted says what of an image's disks is to be another.
type Wanted struct {
	// Sizes are those of disks that are to have another one, in bytes, by target.
	Sizes map[string]int64
	// Identity gives each machine one of its own; Definition is that of the image, which tells of its network cards.
	Identity   bool
	Definition string
}

// Changes reports whether anything is.
func (w Wanted) Changes() bool { return w.Identity || len(w.Sizes) > 0 }

// Job has the disks of an image as one machine after another gets them. What is done to them for all of the machines is done once. Close it.
type Job struct {
	Wanted
	// Open opens the disks; Start and Scratch are where they are made fit.
	Open    func(context.Context) ([]reader.Disk, func() error, error)
	Start   reader.Starter
	Scratch scratch.Folder

	opened []reader.Disk
	fitted *Fitted
	clones *Clones
	ends   []func() error
}

// Close closes what was opened.
func (j *Job) Close() (err error) {
	for i := range j.ends {
		err = errors.Join(err, j.ends[len(j.ends)-1-i]())
	}
	j.ends = nil
	return err
}

// For are the disks for a machine of a name, in the image's order, and the addresses of its network cards by those of the image. step is called before
// what takes its time, say with what was done, in words.
func (j *Job) For(ctx context.Context, name string, step func(string) error, say func(string)) (disks []reader.Disk, cards map[string]string, err error) {
	if j.opened == nil {
		opened, end, err := j.Open(ctx)
		if err != nil {
			return nil, nil, err
		}
		j.opened, j.ends = opened, append(j.ends, end)
	}
	if !j.Changes() {
		return j.opened, nil, nil
	}
	if j.fitted == nil {
		if err := j.begin(ctx, step, say); err != nil {
			return nil, nil, err
		}
	}
	if !j.Identity {
		return j.fitted.Disks, nil, nil
	}
	return j.own(ctx, name, step, say)
}

// begin does what is done once.
func (j *Job) begin(ctx context.Context, step func(string) error, say func(string)) error {
	if err := step("fitting disks"); err != nil {
		return err
	}
	plans, err := Plans(j.opened, j.Sizes)
	if err != nil {
		return err
	}
	if j.fitted, err = Fit(ctx, j.Start, j.Scratch, j.opened, plans, j.Identity); err != nil {
		return fmt.Errorf("make the disks fit: %w", err)
	}
	j.ends = append(j.ends, j.fitted.Close)
	for _, done := range j.fitted.Done {
		say(done)
	}
	return nil
}

// own gives a machine an identity of its own.
func (j *Job) own(ctx context.Context, name string, step func(string) error, say func(string)) (disks []reader.Disk, cards map[string]string, err error) {
	if err := step("giving it an identity"); err != nil {
		return nil, nil, err
	}
	if j.clones == nil {
		if j.clones, err = j.fitted.Clones(ctx, j.Start); err != nil {
			return nil, nil, err
		}
		j.ends = append(j.ends, j.clones.Close)
	}
	cards = map[string]string{}
	for _, card := range machine.HardwareOf(j.Definition).Cards {
		if card != "" {
			cards[strings.ToLower(card)] = newCard()
		}
	}
	disks, done, err := j.clones.Next(ctx, reader.Identity{Host: name, Cards: cards})
	for _, what := range done {
		say(what)
	}
	if err != nil {
		err = fmt.Errorf("give the guest an identity of its own: %w", err)
	}
	return disks, cards, err
}

// newCard draws the hardware address of a network card of QEMU's.
func newCard() string {
	n := make([]byte, 3)
	rand.Read(n)
	return fmt.Sprintf("52:54:00:%02x:%02x:%02x", n[0], n[1], n[2])
}

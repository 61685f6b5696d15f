package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/wire"
)

func snapshotCommand() *cli.Command {
	wait := func() cli.Flag {
		return &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show the run until it is over"}
	}
	return noun("snapshot", "moments kept on the machines' own storage: quick, and no copy",
		&cli.Command{Name: "list", Usage: "list snapshots in place, of a machine or of all", ArgsUsage: "[MACHINE]",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "policy", Usage: "only those of this policy"}, &cli.BoolFlag{Name: "gone", Usage: "those too that went, with why"},
				&cli.BoolFlag{Name: "others", Usage: "of one machine, those too that somebody else made: its source is asked"}},
			Action: snapshotList},
		&cli.Command{Name: "take", Usage: "take a snapshot of a machine by hand", ArgsUsage: "MACHINE",
			Flags: []cli.Flag{output(), wait(), &cli.StringFlag{Name: "note", Usage: "what it is for, such as: before the upgrade"}, &cli.BoolFlag{Name: "memory", Usage: "with the memory of a machine that runs, where its source can"},
				&cli.StringFlag{Name: "keep", Usage: "after how long you are asked about it, such as 2 days; default 7 days. It is never removed by itself"}},
			Action: calls([]string{"a machine's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				name, err := pickMachine(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				r, err := k.TakeSnapshot(ctx, name, wire.SnapshotBody{Note: c.String("note"), Memory: c.Bool("memory"), Keep: c.String("keep")})
				if err != nil {
					return err
				}
				return started(ctx, c, k, r)
			})},
		&cli.Command{Name: "back", Usage: "have a machine be as it was at a snapshot; what it wrote since is lost", ArgsUsage: "SNAPSHOT",
			Description: "It first shows what would be lost, and asks for the machine's name.",
			Flags: []cli.Flag{output(), wait(), &cli.BoolFlag{Name: "power-off", Usage: "power a machine off that runs; it is powered on again after"}, &cli.BoolFlag{Name: "show", Usage: "only show what would be lost"},
				&cli.StringFlag{Name: "typed", Usage: "the machine's name, where nobody can be asked"}},
			Action: onSnapshot(snapshotBack)},
		&cli.Command{Name: "drop", Usage: "remove a snapshot", ArgsUsage: "SNAPSHOT", Flags: []cli.Flag{output(), wait()},
			Action: onSnapshot(func(ctx context.Context, c *cli.Command, k *client.Client, s wire.Snapshot) error {
				r, err := k.DropSnapshot(ctx, s.MachineID, s.ID)
				if err != nil {
					return err
				}
				return started(ctx, c, k, r)
			})},
		&cli.Command{Name: "pin", Usage: "pin a snapshot, so that rotation never touches it", ArgsUsage: "SNAPSHOT", Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "why", Required: true}},
			Action: onSnapshot(func(ctx context.Context, c *cli.Command, k *client.Client, s wire.Snapshot) error {
				if err := k.PinSnapshot(ctx, s.MachineID, s.ID, c.String("note")); err != nil {
					return err
				}
				return say(c, "snapshot %s of %s is pinned", s.ID, s.Machine)
			})},
		&cli.Command{Name: "unpin", Usage: "let a pinned snapshot go", ArgsUsage: "SNAPSHOT",
			Action: onSnapshot(func(ctx context.Context, c *cli.Command, k *client.Client, s wire.Snapshot) error {
				if err := k.PinSnapshot(ctx, s.MachineID, s.ID, ""); err != nil {
					return err
				}
				return say(c, "snapshot %s of %s is pinned no more", s.ID, s.Machine)
			})})
}

func say(c *cli.Command, format string, args ...any) error {
	_, err := fmt.Fprintf(c.Root().Writer, format+"\n", args...)
	return err
}

// onSnapshot makes an action on the snapshot that is named by the beginning of its ID.
func onSnapshot(act func(ctx context.Context, c *cli.Command, k *client.Client, s wire.Snapshot) error) cli.ActionFunc {
	return calls([]string{"a snapshot's ID"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
		all, err := k.Snapshots(ctx, wire.SnapshotFilter{})
		if err != nil {
			return err
		}
		byID := map[string]wire.Snapshot{}
		for _, s := range all {
			byID[s.ID] = s
		}
		id, err := pick("snapshot", c.Args().First(), sorted(byID))
		if err != nil {
			return err
		}
		return act(ctx, c, k, byID[id])
	})
}

func snapshotList(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return wrongUse("keenlodge snapshot list takes one machine's name at most")
	}
	return calls(oneOrNone(c.Args().Len(), "a machine's name"), func(ctx context.Context, c *cli.Command, k *client.Client) error {
		f := wire.SnapshotFilter{Policy: c.String("policy"), Gone: c.Bool("gone"), Others: c.Bool("others")}
		if c.Args().Len() == 1 {
			name, err := pickMachine(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			f.Machine = name
		} else if f.Others {
			return wrongUse("name a machine: those that somebody else made are asked of its source")
		}
		found, err := k.Snapshots(ctx, f)
		if err != nil {
			return err
		}
		return show(c, found, func(w io.Writer) { snapshotTable(w, found) })
	})(ctx, c)
}

// oneOrNone is what a command takes that takes one word, or none.
func oneOrNone(n int, what string) []string { return []string{what}[:min(n, 1)] }

func snapshotTable(w io.Writer, found []wire.Snapshot) {
	if len(found) == 0 {
		fmt.Fprintln(w, "there is no snapshot in place; to take one: keenlodge snapshot take MACHINE --note …")
		return
	}
	var rows [][]string
	for _, s := range found {
		id, by := s.ID, "by hand"
		switch {
		case id == "":
			id, by = "–", "somebody else: "+s.Name
		case s.Policy != "":
			by = s.Policy
		case s.Passing && s.Until != nil:
			by = "itself, until " + moment(s.Until)
		}
		state := string(s.State)
		if s.Pinned {
			state = "pinned"
		}
		rows = append(rows, []string{id, s.Machine, moment(&s.Taken), by, orDash(s.Consistency), grown(s.Bytes), state, snapshotSays(s)})
	}
	table(w, []string{"SNAPSHOT", "MACHINE", "TAKEN", "KEPT BY", "CONSISTENCY", "SIZE>", "STATE", "ABOUT"}, rows)
	for _, s := range found {
		if s.Headline != "" {
			fmt.Fprintf(w, "! %s: %s\n", s.Machine, s.Headline)
		}
	}
}

// grown is what a snapshot takes, where that is known.
func grown(bytes int64) string {
	if bytes < 0 {
		return "–"
	}
	return size(bytes)
}

// snapshotSays is what there is to say of a snapshot beside the figures.
func snapshotSays(s wire.Snapshot) string {
	var out []string
	if s.Memory {
		out = append(out, "with memory")
	}
	if s.Region != "" {
		out = append(out, "that of "+s.CopyOf+" in "+s.Region)
	}
	for _, text := range []string{s.Note, s.PinNote, s.Trouble} {
		if text != "" {
			out = append(out, text)
		}
	}
	if s.State == inplace.Gone || s.State == inplace.Leaving {
		out = append(out, s.Why)
	}
	return strings.Join(out, "; ")
}

func snapshotBack(ctx context.Context, c *cli.Command, k *client.Client, s wire.Snapshot) error {
	loss, err := k.SnapshotLoss(ctx, s.MachineID, s.ID)
	if err != nil {
		return err
	}
	if c.Bool("show") {
		return show(c, loss, func(w io.Writer) { lossTable(w, loss) })
	}
	lossTable(c.Root().ErrWriter, loss)
	if loss.Runs && !c.Bool("power-off") {
		return fmt.Errorf("%s runs; power it off first, or write --power-off: then that is done, and it is powered on again after", s.Machine)
	}
	if err := typed(c.String("typed"), s.Machine, fmt.Sprintf("%s is again as it was at snapshot %s", s.Machine, s.ID)); err != nil {
		return err
	}
	r, err := k.GoBack(ctx, s.MachineID, s.ID, wire.BackBody{Confirm: s.Machine, Off: c.Bool("power-off")})
	if err != nil {
		return err
	}
	return started(ctx, c, k, r)
}

func lossTable(w io.Writer, l wire.SnapshotLoss) {
	s := l.Snapshot
	fmt.Fprintf(w, "Going back to snapshot %s of %s, taken %s (%s ago), loses\n", s.ID, s.Machine, moment(&s.Taken), time.Since(s.Taken).Round(time.Second))
	if l.Bytes >= 0 {
		fmt.Fprintf(w, "  %s that were written since\n", size(l.Bytes))
	} else {
		fmt.Fprintln(w, "  what was written since; its source does not tell how much")
	}
	for _, o := range l.Later {
		name := o.ID
		if name == "" {
			name = o.Name + ", which somebody else made"
		}
		fmt.Fprintf(w, "  snapshot %s, taken %s, where its source keeps them as a chain\n", name, moment(&o.Taken))
	}
	if l.Newest != nil {
		fmt.Fprintf(w, "What is in image %s, taken %s, is not lost.\n", l.Newest.ID, moment(&l.Newest.Taken))
	} else {
		fmt.Fprintln(w, "No image was taken since.")
	}
	fmt.Fprintln(w, "The next image is full.")
}

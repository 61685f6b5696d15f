package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/store"
	"keenlodge/internal/wire"
)

func storeCommand() *cli.Command {
	return noun("store", "places that keep images",
		storeListCommand(), storeAddCommand(), storeProbeCommand(), storeShowCommand(), storeCheckCommand(), storeSweepCommand(), storeAdoptCommand(), storeReleaseCommand(), storeMoveCommand(),
		storeKeyCommand(), storeUnlockCommand(), storeSecretCommand(), storeExtractCommand())
}

// ofStore makes an action on a store of the site, which may be named by the beginning of its name.
func ofStore(act func(ctx context.Context, c *cli.Command, k *client.Client, name string) error) cli.ActionFunc {
	return calls([]string{"a store's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
		s, err := k.Site(ctx)
		if err != nil {
			return err
		}
		name, err := pick("store", c.Args().First(), sorted(s.Stores))
		if err != nil {
			return err
		}
		return act(ctx, c, k, name)
	})
}

func storeListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list stores", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			stores, err := k.Stores(ctx)
			if err != nil {
				return err
			}
			return show(c, stores, func(w io.Writer) {
				var rows [][]string
				for _, s := range stores {
					state := "✓ ready"
					switch {
					case s.Error != "":
						state = "✗ " + s.Error
					case s.Away != nil:
						state = "– its disk is away since " + moment(s.Away)
					case s.Broken > 0:
						state = fmt.Sprintf("! %d images are broken", s.Broken)
					case s.Doubtful > 0:
						state = fmt.Sprintf("! %d images are doubtful", s.Doubtful)
					}
					sealed := "no"
					if s.Sealed {
						sealed = "yes"
					}
					rows = append(rows, []string{s.Name, s.Medium, string(s.Layout), s.StoreFigures.Location, sealed, fmt.Sprint(s.Images), size(s.Size), size(s.Used), size(s.Room.FreeBytes), state})
				}
				table(w, []string{"STORE", "MEDIUM", "LAYOUT", "WHERE", "SEALED", "IMAGES>", "DISKS>", "USED>", "FREE>", "STATE"}, rows)
			})
		})}
}

func storeAddCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "make a store in an empty place, or take the one that is there", ArgsUsage: "STORE",
		Description: "A sealed store can be read by nobody without one of its keys. Its first key is a passphrase, asked for or read from a file, or age\nrecipients. Who adds a sealed store that exists gives a key of it: a passphrase, or --identity-file.",
		Flags: append(placeFlags(), append(openerFlags(), output(),
			&cli.BoolFlag{Name: "sealed", Usage: "nothing in it can be read without a key"},
			&cli.StringSliceFlag{Name: "recipient", Usage: "age recipient (age1…) that opens it, in place of a passphrase; may be repeated"},
			&cli.StringFlag{Name: "label", Usage: "what the first key is called", Value: "first"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask whether the warning about lost keys was understood"},
			&cli.StringFlag{Name: "place", Usage: "where it is, by a name of your own such as harbour-office; roles can be narrowed to places"},
			&cli.StringFlag{Name: "floor", Usage: "room that stays free, such as 20GiB"},
			&cli.StringFlag{Name: "compression", Usage: "pooled layout: how hard to try to make what is new small: " + suggest.List(site.Compressions) + "; by default even"},
			&cli.BoolFlag{Name: "compress", Usage: "open layout: compress the disks"},
			&cli.StringFlag{Name: "like", Usage: "another store of the site: a new one cuts as that does, so that the two can exchange pieces"},
			&cli.StringFlag{Name: "grace", Usage: "how long a dropped image can be brought back, such as \"3 days\" or none; by default 24 hours"}, lockedFlag())...),
		Action: calls([]string{"a name for the store"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			spec, err := placeFrom(c)
			if err != nil {
				return err
			}
			spec.Place, spec.Like, spec.Compression = c.String("place"), c.String("like"), site.Compression(c.String("compression"))
			n := wire.StoreAddition{Spec: spec}
			n.Spec.Sealed, n.Spec.Floor, n.Spec.Compress, n.Spec.Grace, n.Spec.Locked = c.Bool("sealed"), c.String("floor"), c.Bool("compress"), c.String("grace"), c.String("locked")
			if err := n.Spec.Check(c.Args().First()); err != nil {
				return usageError{err}
			}
			if n.Access, err = credentialsFrom(c, spec.Medium, spec.Location()); err != nil {
				return err
			}
			if n.Spec.Sealed {
				if err := sealFrom(c, &n); err != nil {
					return err
				}
			} else if len(c.StringSlice("recipient")) > 0 || c.String("passphrase-file") != "" {
				return wrongUse("a passphrase or a recipient is for a sealed store; write --sealed, too")
			}
			added, err := k.AddStore(ctx, c.Args().First(), n)
			if err != nil {
				return err
			}
			return show(c, added, func(w io.Writer) {
				if added.Made {
					fmt.Fprintf(w, "store %s is made\n", c.Args().First())
					return
				}
				fmt.Fprintf(w, "store %s was there already; take over its images with: keenlodge store adopt %s\n", c.Args().First(), c.Args().First())
			})
		})}
}

const lostKeyWarning = `A sealed store whose keys are lost is lost: nobody, not even who wrote this program, can read it then.
Keep a key where neither this machine nor the store can take it down with them.
`

// sealFrom finds the first key of a sealed store, after a warning that must be understood.
func sealFrom(c *cli.Command, n *wire.StoreAddition) error {
	fmt.Fprint(os.Stderr, lostKeyWarning)
	if !c.Bool("yes") {
		if err := confirm("Go on"); err != nil {
			return err
		}
	}
	if list := c.StringSlice("recipient"); len(list) > 0 {
		n.Keys = []store.NewKey{{Label: c.String("label"), Recipients: list}}
		if c.String("identity-file") == "" && c.String("passphrase-file") == "" {
			return nil
		}
	}
	opener, err := openerFrom(c, true)
	if err != nil {
		return err
	}
	n.Opener = opener
	if len(n.Keys) == 0 && opener.Passphrase != "" {
		n.Keys = []store.NewKey{{Label: c.String("label"), Passphrase: opener.Passphrase}}
	}
	return nil
}

func lockedFlag() cli.Flag {
	return &cli.StringFlag{Name: "locked", Usage: "how long nothing can delete an image that came into it, such as \"14 days\""}
}

func storeProbeCommand() *cli.Command {
	return &cli.Command{Name: "probe", Usage: "try a place before it is used, or a store of the site", ArgsUsage: "[STORE]", Flags: append(placeFlags(), lockedFlag(), output()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return wrongUse("%s takes one store, or flags that describe a place", c.FullName())
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			name, n := c.Args().First(), wire.ProbeRequest{}
			if name == "" {
				spec, err := placeFrom(c)
				if err != nil {
					return err
				}
				spec.Locked = c.String("locked")
				name, n.Spec = "new", &spec
				if err := spec.Check("place"); err != nil {
					return usageError{err}
				}
				if n.Access, err = credentialsFrom(c, spec.Medium, spec.Location()); err != nil {
					return err
				}
			}
			steps, err := k.ProbeStore(ctx, name, n)
			if err != nil {
				return err
			}
			if err := show(c, steps, func(w io.Writer) { stepTable(w, steps) }); err != nil {
				return err
			}
			return howTried(steps, "this place can't be used as it is")
		}}
}

func storeShowCommand() *cli.Command {
	return &cli.Command{Name: "show", Usage: "show what a store holds, and what it saved", ArgsUsage: "STORE", Flags: []cli.Flag{output()},
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			s, err := k.ShowStore(ctx, name)
			if err != nil {
				return err
			}
			return show(c, s, func(w io.Writer) { storeDetails(w, name, s) })
		})}
}

func storeDetails(w io.Writer, name string, s store.Summary) {
	if s.Header.Layout == "open" {
		openDetails(w, name, s)
		return
	}
	kind := "not sealed"
	if s.Header.Sealed {
		kind = "sealed"
	}
	fmt.Fprintf(w, "store %s, %s, made %s, pieces of %s to %s, about %s on average\n\n", name, kind, moment(&s.Header.Made), size(int64(s.MinPiece)), size(int64(s.MaxPiece)), size(int64(s.MeanPiece)))
	share := func(n int64) string {
		if s.Disks == 0 {
			return "–"
		}
		return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(s.Disks))
	}
	table(w, []string{"", "BYTES>", "OF THE DISKS>"}, [][]string{
		{fmt.Sprintf("disks of %d images of %d machines", s.Images, s.Machines), size(s.Disks), share(s.Disks)},
		{"− zeros, never stored", size(s.Zeros), share(s.Zeros)},
		{"− pieces that are there already", size(s.Dedup), share(s.Dedup)},
		{"− compression", size(s.Compression), share(s.Compression)},
		{"= pieces as stored", size(s.Blocks), share(s.Blocks)},
	})
	fmt.Fprintf(w, "\nimages     oldest %s, newest %s\n", moment(s.Oldest), moment(s.Newest))
	fmt.Fprintf(w, "objects    %d take %s; %d packs, %s each on the mean\n", s.Objects, size(s.Taken), s.Packs, size(s.MeanPack))
	fmt.Fprintf(w, "sweep      %s of no image, %d packs condemned, %d visits under way\n", size(s.Unneeded), s.Condemned, s.Visits)
	if s.Room.FreeBytes >= 0 {
		fmt.Fprintf(w, "room       %s free of %s\n", size(s.Room.FreeBytes), size(s.Room.TotalBytes))
	}
	if s.Unreadable > 0 {
		fmt.Fprintf(w, "✗ %d images can't be read; look at: keenlodge store check %s\n", s.Unreadable, name)
	}
	lockDetails(w, s)
	growth(w, s)
}

func lockDetails(w io.Writer, s store.Summary) {
	if s.Locked != "" {
		fmt.Fprintf(w, "locked     what comes in for up to %s, %s\n", s.Locked, cmp.Or(s.Locks, "by this lodge's refusal alone: the place itself locks nothing"))
	}
}

// openDetails describes a store of the open layout.
func openDetails(w io.Writer, name string, s store.Summary) {
	fmt.Fprintf(w, "store %s, open layout, made %s: qcow2 files in folders, see README.txt there\n\n", name, moment(&s.Header.Made))
	fmt.Fprintf(w, "images     %d of %d machines, oldest %s, newest %s\n", s.Images, s.Machines, moment(s.Oldest), moment(s.Newest))
	fmt.Fprintf(w, "files      %d take %s, for disks of %s\n", s.Objects, size(s.Taken), size(s.Disks))
	fmt.Fprintf(w, "room       %s free of %s\n", size(s.Room.FreeBytes), size(s.Room.TotalBytes))
	if s.Unreadable > 0 {
		fmt.Fprintf(w, "✗ %d images can't be read; look at: keenlodge store check %s\n", s.Unreadable, name)
	}
	lockDetails(w, s)
	growth(w, s)
}

func growth(w io.Writer, s store.Summary) {
	if len(s.Days) == 0 {
		return
	}
	fmt.Fprintln(w, "\ngrowth by day, of images that still exist")
	var most int64
	for _, d := range s.Days {
		most = max(most, d.Stored)
	}
	last := s.Days[max(0, len(s.Days)-14):]
	var rows [][]string
	for _, d := range last {
		bar := strings.Repeat("▇", int(30*d.Stored/max(1, most)))
		rows = append(rows, []string{d.Day, fmt.Sprint(d.Images), size(d.Stored), bar})
	}
	table(w, []string{"DAY", "IMAGES>", "ADDED>", ""}, rows)
}

// finish waits for a run and reads its result. A run that failed without one is an error.
func finish(ctx context.Context, c *cli.Command, k *client.Client, run wire.Run, result any) (wire.Run, error) {
	run, err := watched(ctx, c, k, run)
	if err != nil {
		return run, err
	}
	if len(run.Result) == 0 {
		why := run.Error
		for _, t := range run.Tasks {
			why += t.Error
		}
		return run, fmt.Errorf("run %s %s: %s", run.ID, run.State, why)
	}
	return run, json.Unmarshal(run.Result, result)
}

// watched shows how a run goes on until it is over.
func watched(ctx context.Context, c *cli.Command, k *client.Client, run wire.Run) (wire.Run, error) {
	progress := &lines{w: os.Stderr, steps: map[int64]string{}}
	return k.Watch(ctx, run.ID, func(r wire.Run) {
		if c.String("output") != "json" {
			progress.show(r)
		}
	})
}

func storeCheckCommand() *cli.Command {
	return &cli.Command{Name: "check", Usage: "look for damage in a store, and mend it", ArgsUsage: "STORE",
		Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "read", Usage: "read every byte back, too"}, &cli.BoolFlag{Name: "repair", Usage: "mend what can be mended (reads every byte)"},
			&cli.StringFlag{Name: "from", Usage: "another store that helps to mend"}},
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			run, err := k.CheckStore(ctx, name, wire.CheckBody{Read: c.Bool("read"), Repair: c.Bool("repair"), From: c.String("from")})
			if err != nil {
				return err
			}
			var r store.Report
			if _, err = finish(ctx, c, k, run, &r); err != nil {
				return err
			}
			if err := show(c, r, func(w io.Writer) { reportDetails(w, name, r) }); err != nil {
				return err
			}
			if n := len(r.Problems) + r.More; n > 0 {
				return fmt.Errorf("store %s is damaged in %d places, which hit %d images", name, n, len(r.Broken))
			}
			return nil
		})}
}

func reportDetails(w io.Writer, name string, r store.Report) {
	fmt.Fprintf(w, "store %s: %d images in %d files, %s read back\n", name, r.Images, r.Packs, size(r.Read))
	for _, m := range r.Mended {
		fmt.Fprintf(w, "+ %s\n", m)
	}
	for _, p := range r.Problems {
		where := ""
		if p.Image != "" {
			where = "image " + p.Image + ": "
		}
		if p.Disk != "" {
			where += fmt.Sprintf("%s, bytes %d to %d: ", p.Disk, p.Offset, p.Offset+p.Length)
		}
		fmt.Fprintf(w, "✗ %s%s\n", where, p.What)
		for _, f := range p.Files {
			fmt.Fprintf(w, "    hits %s\n", f)
		}
	}
	for _, id := range r.Unknown {
		fmt.Fprintf(w, "! image %s lies in the store, but is not recorded; to take it over: keenlodge store adopt %s\n", id, name)
	}
	switch {
	case r.More > 0:
		fmt.Fprintf(w, "… and %d more\n", r.More)
	case len(r.Problems) == 0:
		fmt.Fprintln(w, "✓ nothing is damaged")
	}
}

func storeSweepCommand() *cli.Command {
	return &cli.Command{Name: "sweep", Usage: "give back the space of dropped images", ArgsUsage: "STORE",
		Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "dry-run", Usage: "only show what would be done"}},
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			plan, err := k.PlanSweep(ctx, name)
			if err != nil {
				return err
			}
			if c.Bool("dry-run") {
				return show(c, plan, func(w io.Writer) { sweepPlan(w, name, plan, "would be") })
			}
			if c.String("output") != "json" {
				sweepPlan(c.Root().Writer, name, plan, "are")
			}
			run, err := k.SweepStore(ctx, name)
			if err != nil {
				return err
			}
			var r wire.SweepResult
			if _, err := finish(ctx, c, k, run, &r); err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				fmt.Fprintf(w, "✓ %d dropped images taken out, %d packs deleted, %s moved, %s given back\n", len(r.Left), r.Deleted, size(r.Moved), size(max(0, r.Freed-r.Moved)))
				for _, why := range r.Why {
					fmt.Fprintf(w, "! %s\n", why)
				}
			})
		})}
}

func storeMoveCommand() *cli.Command {
	return &cli.Command{Name: "move", Usage: "bring a store to another place or medium, while runs go on", ArgsUsage: "STORE",
		Description: "The flags describe the new place, which has to be empty; all else of the store's entry stays. Run again, it goes on where it was.\nThe old place stays as it is: delete what is there when you have seen that all is well.",
		Flags:       append(placeFlags(), output(), &cli.StringFlag{Name: "bandwidth", Usage: "what it may move in a second, such as \"2 MiB\"; by default no limit"}),
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			spec, err := placeFrom(c)
			if err != nil {
				return err
			}
			m := wire.Move{Spec: spec, Bandwidth: c.String("bandwidth")}
			if err := spec.Check("place"); err != nil {
				return usageError{err}
			}
			if m.Access, err = credentialsFrom(c, spec.Medium, spec.Location()); err != nil {
				return err
			}
			run, err := k.MoveStore(ctx, name, m)
			if err != nil {
				return err
			}
			var moved wire.Moved
			if _, err := finish(ctx, c, k, run, &moved); err != nil {
				return err
			}
			return show(c, moved, func(w io.Writer) {
				fmt.Fprintf(w, "✓ store %s lies at %s now; %s were moved\n  the old place (%s) is as it was; delete what is there when you have seen that all is well\n", moved.Store, moved.To, size(moved.Bytes), moved.From)
			})
		})}
}

func storeReleaseCommand() *cli.Command {
	return &cli.Command{Name: "release", Usage: "let the disk of a removable store go, so that it can be unplugged", ArgsUsage: "STORE",
		Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "undo", Usage: "take a disk back that was let go and is still here"}},
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			r, err := k.ReleaseStore(ctx, name, c.Bool("undo"))
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				mark := "!"
				if r.Safe || c.Bool("undo") {
					mark = "✓"
				}
				fmt.Fprintf(w, "%s %s\n", mark, r.Says)
			})
		})}
}

func sweepPlan(w io.Writer, name string, p wire.SweepResult, verb string) {
	fmt.Fprintf(w, "store %s: %d dropped images %s taken out for good, %d more can still be brought back\n", name, len(p.Left), verb, p.Waiting)
	if p.Packs == 0 {
		fmt.Fprintf(w, "that gives back %s\n", size(p.LeftBytes))
		return
	}
	fmt.Fprintf(w, "%d images need %d pieces; %d packs hold %s, of which %s are needed by no image\n", p.Images, p.Blocks, p.Packs, size(p.Stored), size(p.Dead))
	fmt.Fprintf(w, "%d packs of no use %s deleted, %d rewritten (%s move); that gives back %s\n", p.Useless, verb, p.Rewritten, size(p.Move), size(p.Gives))
}

func storeAdoptCommand() *cli.Command {
	return &cli.Command{Name: "adopt", Usage: "take over the images that a store holds", ArgsUsage: "STORE", Flags: []cli.Flag{output(),
		&cli.BoolFlag{Name: "rotate", Usage: "these images are this lodge's from now on: its rotation may drop them (no other lodge should rotate them any more)"}},
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			a, err := k.AdoptStore(ctx, name, c.Bool("rotate"))
			if err != nil {
				return err
			}
			err = show(c, a, func(w io.Writer) {
				fmt.Fprintf(w, "store %s: %d images in %d sets adopted (%d were known), with %d proofs and %d pins; %d machines were new\n", name, a.Images, a.Sets, a.Known, a.Proofs, a.Pins, a.Machines)
				switch {
				case a.TakenOver > 0:
					fmt.Fprintf(w, "rotation sees to %d of them from now on\n", a.TakenOver)
				case a.Owner != nil && a.Owner.Lodge != "":
					fmt.Fprintf(w, "they are another lodge's (%s, since %s), so rotation here leaves them alone; if that lodge is no more: keenlodge store adopt %s --rotate\n", a.Owner.Lodge, a.Owner.Since.Format("2006-01-02"), name)
				case a.Owner != nil:
					fmt.Fprintf(w, "another lodge may still rotate them, so rotation here leaves them alone; if there is none: keenlodge store adopt %s --rotate\n", name)
				}
				for _, d := range a.Damaged {
					fmt.Fprintf(w, "✗ %s\n", d)
				}
				for _, m := range a.Missing {
					fmt.Fprintf(w, "✗ not in the store any more: %s\n", m)
				}
			})
			if err == nil && len(a.Damaged)+len(a.Missing) > 0 {
				err = fmt.Errorf("%d images are damaged, %d are missing", len(a.Damaged), len(a.Missing))
			}
			return err
		})}
}

func storeKeyCommand() *cli.Command {
	return noun("key", "keys of a sealed store",
		&cli.Command{Name: "list", Usage: "list a sealed store's keys", ArgsUsage: "STORE", Flags: []cli.Flag{output()},
			Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				found, err := k.StoreKeys(ctx, name)
				if err != nil {
					return err
				}
				return show(c, found, func(w io.Writer) {
					var rows [][]string
					for _, key := range found {
						rows = append(rows, []string{key.ID, key.Kind, orDash(key.Label), moment(&key.Made)})
					}
					table(w, []string{"KEY", "OPENS WITH", "LABEL", "MADE"}, rows)
				})
			})},
		&cli.Command{Name: "add", Usage: "give a sealed store another key", ArgsUsage: "STORE",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "label", Usage: "what it is called", Required: true},
				&cli.StringSliceFlag{Name: "recipient", Usage: "age recipient (age1…) in place of a passphrase; may be repeated"},
				&cli.StringFlag{Name: "passphrase-file", Usage: "file with the new passphrase; else KEENLODGE_PASSPHRASE, or a prompt"}},
			Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				n := store.NewKey{Label: c.String("label"), Recipients: c.StringSlice("recipient")}
				var err error
				if len(n.Recipients) == 0 {
					if n.Passphrase, err = newSecretWord(c.String("passphrase-file"), "KEENLODGE_PASSPHRASE", "new passphrase"); err != nil {
						return err
					}
				}
				key, err := k.AddStoreKey(ctx, name, n)
				if err != nil {
					return err
				}
				return show(c, key, func(w io.Writer) { fmt.Fprintf(w, "key %s (%s) opens store %s\n", key.ID, key.Label, name) })
			})},
		&cli.Command{Name: "prove", Usage: "try whether a key as it is kept on paper opens the store, and note when; what is typed is kept nowhere", ArgsUsage: "STORE", Flags: append(openerFlags(), output()),
			Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				with, err := openerFrom(c, false)
				if err != nil {
					return err
				}
				p, err := k.ProveKey(ctx, name, with)
				if err != nil {
					return err
				}
				if err := show(c, p, func(w io.Writer) {
					if p.Opened {
						fmt.Fprintf(w, "it opens store %s; noted\n", name)
					}
				}); err != nil {
					return err
				}
				if !p.Opened {
					return fmt.Errorf("it opens none of store %s's keys; noted: find the right one, or add another while the lodge still has the store open: keenlodge store key add %[1]s", name)
				}
				return nil
			})},
		&cli.Command{Name: "remove", Usage: "take a key away; who copied it before can still read what was there", ArgsUsage: "STORE KEY", Flags: []cli.Flag{output()},
			Action: calls([]string{"a store's name", "a key"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				found, err := k.StoreKeys(ctx, c.Args().Get(0))
				if err != nil {
					return err
				}
				var known []string
				for _, key := range found {
					known = append(known, key.ID)
				}
				id, err := pick("key", c.Args().Get(1), known)
				if err != nil {
					return err
				}
				if err := k.RemoveStoreKey(ctx, c.Args().Get(0), id); err != nil {
					return err
				}
				return show(c, map[string]string{"removed": id}, func(w io.Writer) { fmt.Fprintf(w, "key %s is gone\n", id) })
			})})
}

func storeUnlockCommand() *cli.Command {
	return &cli.Command{Name: "unlock", Usage: "give this lodge a key to a sealed store of the site", ArgsUsage: "STORE", Flags: append(openerFlags(), output()),
		Action: ofStore(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			with, err := openerFrom(c, false)
			if err != nil {
				return err
			}
			if err := k.UnlockStore(ctx, name, with); err != nil {
				return err
			}
			return show(c, map[string]bool{"done": true}, func(w io.Writer) { fmt.Fprintf(w, "store %s is open to this lodge\n", name) })
		})}
}

func storeSecretCommand() *cli.Command {
	flags := append(secretFlags(), output(), &cli.StringFlag{Name: "medium", Usage: "of which medium the secrets are; by default the one whose flags are given"})
	return &cli.Command{Name: "secret", Usage: "set what signs in to a store's medium; the store need not be in the site yet", ArgsUsage: "STORE", Flags: flags,
		Action: calls([]string{"a store's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name, err := mediumOfSecrets(c)
			if err != nil {
				return err
			}
			a, err := credentialsFrom(c, name, c.Args().First())
			if err != nil {
				return err
			}
			if err := k.SetAccess(ctx, c.Args().First(), a); err != nil {
				return err
			}
			return show(c, map[string]bool{"done": true}, func(w io.Writer) { fmt.Fprintf(w, "kept, sealed, for store %s\n", c.Args().First()) })
		})}
}

// stepTable shows how the steps of a trial went.
func stepTable(w io.Writer, steps []probe.Step) {
	var rows [][]string
	for _, s := range steps {
		rows = append(rows, []string{map[probe.Verdict]string{probe.OK: "✓", probe.Warning: "!", probe.Failed: "✗"}[s.State] + " " + s.Name, s.Text})
	}
	table(w, []string{"STEP", "RESULT"}, rows)
}

// howTried is the error with which a command ends that has tried something; failed words that it can't be used.
func howTried(steps []probe.Step, failed string) error {
	switch probe.Worst(steps) {
	case probe.Failed:
		return errors.New(failed)
	case probe.Warning:
		return errWarned
	}
	return nil
}

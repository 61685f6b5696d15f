package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
)

func restoreCommand() *cli.Command {
	return noun("restore", "get back what images hold: files, system state, machines", restoreFilesCommand(), restoreMachineCommand("machine"), restoreExportCommand(), restoreUndoCommand())
}

func waitFlag() cli.Flag {
	return &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show it until it is over"}
}

// restoreMachineCommand makes a guest of an image.
func restoreMachineCommand(name string) *cli.Command {
	return &cli.Command{Name: name, Usage: "make a guest from an image", ArgsUsage: "IMAGE",
		Flags: []cli.Flag{output(), waitFlag(), &cli.StringFlag{Name: "as", Usage: "name of the guest to make"},
			&cli.StringFlag{Name: "over", Usage: "put it in the place of this guest, which must be off, and whose name is to be typed; its old disks stay, and keenlodge restore undo brings it back with them"},
			&cli.StringFlag{Name: "into", Usage: "give its disks to this guest, which is there, as further ones; nothing else of the guest changes"},
			&cli.StringSliceFlag{Name: "disk", Usage: "only this disk of the image, such as vdb; several times for more"},
			&cli.StringFlag{Name: "typed", Usage: "with --over: the guest's name once more, where nobody can be asked"},
			&cli.StringFlag{Name: "hypervisor", Usage: "where; by default where the machine lived"}, &cli.StringFlag{Name: "pool", Usage: "storage pool for its disks"},
			&cli.BoolFlag{Name: "start", Usage: "power it on and wait for its guest agent"},
			&cli.BoolFlag{Name: "at-once", Usage: "power it on within seconds, with its disks still in the store; the rest is pulled behind it"},
			&cli.BoolFlag{Name: "replace", Usage: "allow a guest of that name, which must be off, to be defined anew; its old disks stay"},
			&cli.StringSliceFlag{Name: "take", Usage: "take this over from the machine's definition, though it reaches beyond the guest, such as hostdev-1; a restore's log names what it left out"},
			sizeFlag(), &cli.BoolFlag{Name: "identity", Usage: identityUsage},
			&cli.BoolFlag{Name: "preview", Usage: "only say how long it would take, what limits it, how disks will be divided, and what it leaves out"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask before disks are divided otherwise"}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			as, over, into := c.String("as"), c.String("over"), c.String("into")
			if len(slices.DeleteFunc([]string{as, over, into}, func(s string) bool { return s == "" })) != 1 {
				return wrongUse("say what the guest is called (--as NAME), which one it replaces (--over NAME), or into which one its disks go (--into NAME)")
			}
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			b := wire.RestoreBody{As: cmp.Or(as, over, into), Hypervisor: c.String("hypervisor"), Pool: c.String("pool"), Start: c.Bool("start"), AtOnce: c.Bool("at-once"), Replace: c.Bool("replace"), Take: c.StringSlice("take"), Identity: c.Bool("identity")}
			if b.Sizes, err = sizesOf(c); err != nil {
				return err
			}
			b.Only, b.Replace, b.Into = c.StringSlice("disk"), b.Replace || over != "", into != ""
			if err := foretold(ctx, c, k, id, b); err != nil || c.Bool("preview") {
				return err
			}
			if over != "" {
				if err := typed(c.String("typed"), over, fmt.Sprintf("Guest %s is replaced by what it was in image %s", over, id)); err != nil {
					return err
				}
			}
			run, err := k.Restore(ctx, id, b)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}

// foretold says what a restore will come to, before it begins, and asks whether it is to where disks will be divided otherwise.
func foretold(ctx context.Context, c *cli.Command, k *client.Client, id string, b wire.RestoreBody) error {
	json, only := c.String("output") == "json", c.Bool("preview")
	ask := len(b.Sizes) > 0 && !only && !c.Bool("yes")
	if json && !only && !ask {
		return nil // what was started is the answer
	}
	p, err := k.PreviewRestore(ctx, id, b)
	if err != nil {
		return err
	}
	if json && only {
		return show(c, p, nil)
	}
	if json {
		return confirm(fmt.Sprintf("Divide %d disks otherwise than in the image", len(p.Disks)))
	}
	w := c.Root().Writer
	if len(b.Clones) > 0 {
		fmt.Fprintf(w, "%d guests, %s to %s: %s\n", 1+len(b.Clones), b.As, b.Clones[len(b.Clones)-1], p.Takes.Text)
	} else if b.AtOnce {
		fmt.Fprintf(w, "guest %s starts within seconds; until nothing of it is in the store any more: %s\n", b.As, p.Takes.Text)
	} else {
		fmt.Fprintf(w, "guest %s: %s\n", b.As, p.Takes.Text)
	}
	for _, what := range p.Left {
		fmt.Fprintf(w, "  ! left out of the definition, for it reaches beyond the guest: %s (take it over with --take, if it is meant)\n", what)
	}
	for _, d := range p.Disks {
		refitDetails(w, d)
	}
	if ask && len(p.Disks) > 0 {
		return confirm("\nMake " + b.As + " with its disks divided so")
	}
	return nil
}

// imageBootCommand runs a guest from an image, for a while.
func imageBootCommand() *cli.Command {
	return &cli.Command{Name: "boot", Usage: "run a guest from an image for a while; nothing of it stays", ArgsUsage: "IMAGE",
		Description: "It starts within seconds, with its disks still in the store; what it writes goes beside. Its network has no link unless you say so: the machine that it is of may be there still. Shut it down, and it is gone with all that it wrote.",
		Flags: []cli.Flag{output(), waitFlag(), &cli.StringFlag{Name: "as", Usage: "name of the guest; by default the machine's, and when this is"},
			&cli.StringFlag{Name: "hypervisor", Usage: "where; by default where the machine lived"}, &cli.StringFlag{Name: "pool", Usage: "storage pool for what it writes"},
			&cli.BoolFlag{Name: "connected", Usage: "give it its network"},
			&cli.StringSliceFlag{Name: "take", Usage: "take this over from the machine's definition, though it reaches beyond the guest"}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			name := c.String("as")
			if name == "" {
				m, err := k.Image(ctx, id)
				if err != nil {
					return err
				}
				name = m.Machine + "-" + time.Now().Format("0102-150405")
			}
			run, err := k.Restore(ctx, id, wire.RestoreBody{As: name, Hypervisor: c.String("hypervisor"), Pool: c.String("pool"), Boot: true, Connected: c.Bool("connected"), Take: c.StringSlice("take")})
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}

func restoreFilesCommand() *cli.Command {
	return &cli.Command{Name: "files", Usage: "put files of an image back onto a running machine, or into a folder", ArgsUsage: "IMAGE [PATH...]",
		Description: "It is shown first what will be written, replaced and deleted, and exactly that is carried out: where the server has changed meanwhile, nothing is. What is replaced or deleted is kept for a day (keenlodge restore undo). A restore that was stopped goes on when it is asked for again. Of an image of system state no path is needed: all parts go back, or those of --part.",
		Flags: []cli.Flag{output(), waitFlag(),
			&cli.StringFlag{Name: "machine", Usage: "onto this one; by default that of which the image is"},
			&cli.StringFlag{Name: "into", Usage: "into this folder of the machine; by default where the files were"},
			&cli.StringFlag{Name: "here", Usage: "into this folder of this computer, and onto no machine"},
			&cli.StringFlag{Name: "existing", Usage: "another file is there already: " + suggest.List(back.Rules) + "; by default keep-both, and replace for system state"},
			&cli.BoolFlag{Name: "delete", Usage: "delete what lies in a folder of the paths and is not in the image's: it shall be as it was"},
			&cli.StringSliceFlag{Name: "part", Usage: "of system state, only this part; several times for more"},
			&cli.BoolFlag{Name: "personal", Usage: "of system state, people's own folders, too"},
			&cli.BoolFlag{Name: "snapshot", Usage: "take a snapshot in place of the whole machine before, which goes by itself after two days"},
			&cli.BoolFlag{Name: "forget", Usage: "do not keep what is replaced or deleted: it can't be undone"},
			&cli.BoolFlag{Name: "preview", Usage: "only show what would be done"},
			&cli.StringFlag{Name: "plan", Usage: "carry out the plan of this name, which a preview showed, without asking"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() < 1 {
				return wrongUse("say which image, and which files of it")
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			b := wire.FilesBack{Paths: c.Args().Tail(), Parts: c.StringSlice("part"), Machine: c.String("machine"), At: c.String("into"), Delete: c.Bool("delete"), Forget: c.Bool("forget"), Snapshot: c.Bool("snapshot"), Personal: c.Bool("personal"), Digest: c.String("plan")}
			if word := c.String("existing"); word != "" {
				if b.Existing, err = pick("rule for what is there already", back.Existing(word), back.Rules); err != nil {
					return usageError{err}
				}
			}
			if folder := c.String("here"); folder != "" {
				return restoreHere(ctx, c, k, id, b.Existing)
			}
			if b.Digest == "" {
				if b.Digest, err = previewed(ctx, c, k, id, b); err != nil || b.Digest == "" {
					return err
				}
			}
			run, err := k.RestoreFiles(ctx, id, b)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		}}
}

// previewSteps is how many steps a preview shows; as JSON it has all that may be asked for.
const previewSteps, allSteps = 200, 100_000

// previewed shows what would be done, and asks whether it is to be. It returns the plan's name, or "" where nothing more is to be done.
func previewed(ctx context.Context, c *cli.Command, k *client.Client, id string, b wire.FilesBack) (string, error) {
	only, json := c.Bool("preview"), c.String("output") == "json"
	most := previewSteps
	if json {
		most = allSteps
	}
	p, err := k.PreviewFiles(ctx, id, b, most)
	if err != nil {
		return "", err
	}
	w := c.Root().Writer
	if only && json {
		return "", show(c, p, nil)
	}
	if !json {
		m, err := k.Image(ctx, id)
		if err != nil {
			return "", err
		}
		planDetails(w, m.Image, p, "back onto "+p.Machine)
	}
	acts := acting(p)
	switch {
	case p.Short != "":
		return "", fmt.Errorf("%s: nothing was written; make room on %s, or restore less", p.Short, p.Machine)
	case acts == 0 && !json:
		fmt.Fprintln(w, "\nthere is nothing to be done")
		return "", nil
	case only:
		fmt.Fprintf(w, "\nnothing was changed; exactly this is carried out by the same command with --plan %s in place of --preview\n", p.Digest)
		return "", nil
	case c.Bool("yes"):
		return p.Digest, nil
	}
	return p.Digest, confirm("\nCarry this out on " + p.Machine)
}

// actionWords are what becomes of paths, in the words of people, and the sign before them.
var actionWords = map[back.Action][2]string{back.Make: {"+", "new"}, back.Beside: {"+", "beside"}, back.Replacing: {"~", "replace"}, back.Amend: {"~", "set"}, back.Delete: {"−", "delete"},
	back.Same: {"=", "as it is"}, back.Leave: {"·", "stays"}, back.Refuse: {"✗", "can't"}}

// acting is how many paths a plan changes.
func acting(p wire.FilesPlan) (n int64) {
	for _, c := range p.Counts {
		if c.Action.Acts() {
			n += c.Paths
		}
	}
	return n
}

// planDetails shows a plan, and where to the files go.
func planDetails(w io.Writer, m wire.Image, p wire.FilesPlan, where string) {
	fmt.Fprintf(w, "image %s of %s, taken %s, %s:\n\n", m.ID, m.Machine, moment(&m.Taken), where)
	var sums [][]string
	for _, n := range p.Counts {
		amount := "–"
		if n.Action.Acts() && n.Bytes > 0 {
			amount = size(n.Bytes)
		}
		sums = append(sums, []string{"  " + actionWords[n.Action][0] + " " + actionWords[n.Action][1], fmt.Sprint(n.Paths), amount})
	}
	table(w, []string{"", "PATHS>", "SIZE>"}, sums)
	for _, text := range p.Notices {
		fmt.Fprintf(w, "  ! %s\n", text)
	}
	if p.Takes.Text != "" {
		fmt.Fprintf(w, "  %s\n", p.Takes.Text)
	}
	if len(p.Steps) == 0 {
		return
	}
	var rows [][]string
	for _, s := range p.Steps {
		there := "–"
		if s.Old != nil {
			there = string(s.Old.Kind) + " of " + moment(&s.Old.Modified)
			if s.Old.Kind == "file" {
				there = size(s.Old.Size) + " of " + moment(&s.Old.Modified)
			}
		}
		amount := "–"
		if s.Kind == "file" && s.Action.Acts() {
			amount = size(s.Bytes)
		}
		rows = append(rows, []string{actionWords[s.Action][0] + " " + actionWords[s.Action][1], s.Path, amount, there, orDash(s.Why)})
	}
	fmt.Fprintln(w)
	table(w, []string{"", "PATH", "SIZE>", "THERE NOW", "WHY"}, rows)
	total := int64(0)
	for _, n := range p.Counts {
		if n.Action != back.Same {
			total += n.Paths
		}
	}
	if more := total - int64(len(p.Steps)); more > 0 {
		fmt.Fprintf(w, "and %d more; all are in: --preview --output json\n", more)
	}
}

func restoreUndoCommand() *cli.Command {
	return &cli.Command{Name: "undo", Usage: "take back what a restore of files did, within a day", ArgsUsage: "RUN", Flags: []cli.Flag{output(), waitFlag()},
		Description: "What it replaced or deleted comes back, and what it made goes, as far as nobody has changed that since; the run's log says what is left.",
		Action: calls([]string{"a run's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickRun(ctx, c, k)
			if err != nil {
				return err
			}
			run, err := k.UndoRestore(ctx, id)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}

package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/media"
	"keenlodge/internal/wire"
)

// carried tells what was brought onto a disk, or from it.
type carried struct {
	Rule string `json:"rule"`
	From string `json:"from"`
	To   string `json:"to"`
	// Adopted is what the disk's store had that this lodge did not know; only of an import.
	Adopted *wire.Adopted   `json:"adopted,omitempty"`
	Copied  wire.CopyResult `json:"copied"`
	// Missing are images that are due and did not come over.
	Missing []wire.CopyVerdict `json:"missing"`
	// Released is how the disk was let go, nil where the store lies on none that comes and goes.
	Released *wire.Released `json:"released,omitempty"`
}

func copyExportCommand() *cli.Command {
	return &cli.Command{Name: "export", Usage: "bring what is due onto a disk that is carried to another lodge, and let the disk go", ArgsUsage: "RULE",
		Description: "The rule copies into the store on the disk. What is still missing there afterwards is told.", Flags: []cli.Flag{output()},
		Action: onRule(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			return carry(ctx, c, k, name, false)
		})}
}

func copyImportCommand() *cli.Command {
	return &cli.Command{Name: "import", Usage: "take over what is on a disk that was carried here, and let the disk go", ArgsUsage: "RULE",
		Description: "The rule copies from the store on the disk. Its images stay the other lodge's; what is still missing here afterwards is told.", Flags: []cli.Flag{output()},
		Action: onRule(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			return carry(ctx, c, k, name, true)
		})}
}

// carry has a rule run between a store here and one on a disk, tells what is missing, and lets the disk go.
func carry(ctx context.Context, c *cli.Command, k *client.Client, name string, here bool) error {
	s, err := k.Site(ctx)
	if err != nil {
		return err
	}
	out := carried{Rule: name, From: s.Copies[name].From, To: s.Copies[name].To}
	disk := out.To
	if here {
		disk = out.From
		adopted, err := k.AdoptStore(ctx, out.From, false)
		if err != nil {
			return err
		}
		out.Adopted = &adopted
	}
	run, err := k.RunCopy(ctx, name, false, false)
	if err != nil {
		return err
	}
	if run, err = watched(ctx, c, k, run); err != nil {
		return err
	}
	if len(run.Result) > 0 {
		if err := json.Unmarshal(run.Result, &out.Copied); err != nil {
			return err
		}
	}
	found, err := k.CopyImages(ctx, name, false)
	if err != nil {
		return err
	}
	out.Missing = []wire.CopyVerdict{}
	for _, v := range found {
		if v.Copy {
			out.Missing = append(out.Missing, v)
		}
	}
	if media.IsRemovable(s.Stores[disk].Settings) && len(out.Missing) == 0 {
		r, err := k.ReleaseStore(ctx, disk, false)
		if err != nil {
			return err
		}
		out.Released = &r
	}
	if err := show(c, out, func(w io.Writer) { carriedWords(w, out) }); err != nil {
		return err
	}
	if len(out.Missing) > 0 {
		return fmt.Errorf("%d images are still missing in store %s; why: keenlodge run log %s", len(out.Missing), out.To, run.ID)
	}
	return nil
}

func carriedWords(w io.Writer, r carried) {
	if r.Adopted != nil {
		fmt.Fprintf(w, "✓ %d images are on the disk that this lodge did not know, and %d that it knew\n", r.Adopted.Images, r.Adopted.Known)
	}
	if r.Copied.Images == 0 {
		fmt.Fprintf(w, "– nothing was due: store %s has what is to come from %s\n", r.To, r.From)
	} else {
		fmt.Fprintf(w, "✓ store %s: %s\n", r.To, r.Copied.Says())
	}
	for _, v := range r.Missing {
		fmt.Fprintf(w, "✗ missing: image %s of %s, taken %s\n", v.Image, v.Machine, moment(&v.Taken))
	}
	if r.Released != nil {
		mark := "!"
		if r.Released.Safe {
			mark = "✓"
		}
		fmt.Fprintf(w, "%s %s\n", mark, r.Released.Says)
	}
}

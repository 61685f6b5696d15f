package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/image"
	"keenlodge/internal/wire"
)

// pickImage finds an image by the beginning of its name.
func pickImage(ctx context.Context, k *client.Client, word string) (string, error) {
	images, _, err := k.Images(ctx, wire.ImageFilter{ID: word, Gone: true, Page: wire.Page{Limit: 5}})
	if err != nil {
		return "", err
	}
	known := make([]string, len(images))
	for i, m := range images {
		known[i] = m.ID
	}
	if len(known) == 0 {
		return "", fmt.Errorf("no image is called %q; look at: keenlodge image list", word)
	}
	return pick("image", word, known)
}

func imageCommand() *cli.Command {
	wait := waitFlag()
	named := []string{"an image's name"}
	return noun("image", "machines at a moment, restorable",
		&cli.Command{Name: "list", Usage: "list images, newest first",
			Flags: append(pageFlags(200), output(), &cli.StringFlag{Name: "machine", Usage: "of one machine"}, &cli.StringFlag{Name: "policy", Usage: "of one policy"},
				&cli.StringFlag{Name: "store", Usage: "in one store"}, &cli.BoolFlag{Name: "gone", Usage: "those that rotation dropped, too"}),
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				images, more, err := k.Images(ctx, wire.ImageFilter{Machine: c.String("machine"), Policy: c.String("policy"), Store: c.String("store"), Gone: c.Bool("gone"), Page: pageFrom(c)})
				if err != nil {
					return err
				}
				return show(c, images, func(w io.Writer) {
					var rows [][]string
					for _, m := range images {
						state := string(m.State)
						if m.Gone != nil {
							state = "gone"
						} else if m.Pinned {
							state += ", pinned"
						} else if m.Locked != nil && m.Locked.After(time.Now()) {
							state += ", locked"
						}
						rows = append(rows, []string{m.ID, m.Machine, moment(&m.Taken), state, captureOf(m), orDash(m.Consistency), standing(m), size(m.Size), size(m.Read), size(m.Stored), m.Store, orDash(alsoIn(m)), orDash(m.Policy)})
					}
					table(w, []string{"IMAGE", "MACHINE", "TAKEN", "STATE", "CAPTURE", "CONSISTENCY", "PROVEN", "SIZE>", "READ>", "STORED>", "STORE", "ALSO IN", "POLICY"}, rows)
					moreLine(w, more, len(images))
				})
			})},
		&cli.Command{Name: "show", Usage: "show an image and its proofs", ArgsUsage: "IMAGE", Flags: []cli.Flag{output()},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.Image(ctx, id)
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { imageDetails(w, m) })
			})},
		&cli.Command{Name: "prove", Usage: "prove that an image can be trusted", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), wait, &cli.StringFlag{Name: "level", Value: "read", Usage: "read: every piece matched; mount: file systems opened, files read, ledger checked; boot: started as a throwaway guest, and what its policy expects of it asked; restore: written out whole, compared, and its file systems checked by their own tools"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				level, err := pick("level", image.Level(c.String("level")), image.Provable)
				if err != nil {
					return usageError{err}
				}
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				run, err := k.Prove(ctx, id, level)
				if err != nil {
					return err
				}
				return started(ctx, c, k, run)
			})},
		&cli.Command{Name: "seen", Usage: "say that you have looked at what is unusual in an image, so that rotation goes on", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "note", Usage: "what you saw, such as: the archive of 2019 was added"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.LookedAtImage(ctx, id, c.String("note"))
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { fmt.Fprintf(w, "image %s of %s has been looked at\n", m.ID, m.Machine) })
			})},
		&cli.Command{Name: "pin", Usage: "keep rotation away from an image", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "note", Usage: "why, such as: before the harbour upgrade"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.PinImage(ctx, id, c.String("note"))
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { fmt.Fprintf(w, "image %s of %s is pinned\n", m.ID, m.Machine) })
			})},
		&cli.Command{Name: "unpin", Usage: "let rotation have an image again", ArgsUsage: "IMAGE", Flags: []cli.Flag{output()},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.UnpinImage(ctx, id)
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { fmt.Fprintf(w, "image %s of %s is not pinned\n", m.ID, m.Machine) })
			})},
		imageFilesCommand(), imageCatCommand(), imageDownloadCommand(), imageServeCommand(), imageExportCommand(), imageImportCommand(), imageEvidenceCommand(), imageBootCommand(), imageCloneCommand(), imageUnlockCommand(), imageDiffCommand(), imageHistoryCommand(), imageUndropCommand(), imageFoldCommand(),
		restoreMachineCommand("restore"))
}

// lockWords says until when nothing can delete an image.
func lockWords(m wire.Image) string {
	if m.Locked == nil || m.Locked.Before(time.Now()) {
		return "no"
	}
	return "until " + moment(m.Locked)
}

// copyWords says of which image it is a copy, and where the same one is.
func copyWords(m wire.Image) string {
	text := "no"
	if m.CopyOf != "" {
		text = "of image " + m.CopyOf + ", by rule " + orDash(m.CopiedBy)
	}
	for i, t := range m.Also {
		lead := ", "
		if i == 0 {
			lead = "; the same is "
		}
		text += fmt.Sprintf("%s%s in %s", lead, t.ID, t.Store)
	}
	return text
}

// alsoIn names the stores in which the same image is, too, and says where it is not sound or was proven.
func alsoIn(m wire.Image) string {
	var all []string
	for _, t := range m.Also {
		text := t.Store
		switch {
		case t.State != image.Usable:
			text += " (" + string(t.State) + ")"
		case t.Failed:
			text += " ✗"
		case t.Proven != "":
			text += " ✓"
		}
		all = append(all, text)
	}
	return strings.Join(all, ", ")
}

// standing is an image's best passed proof; a failed one outranks all.
func standing(m wire.Image) string {
	switch {
	case m.Failed:
		return "✗ failed"
	case m.Odd > 0:
		return "! unusual"
	case m.Proven != "":
		return "✓ " + string(m.Proven)
	}
	return "–"
}

// captureWords tells how an image was read, and why so.
func captureWords(m wire.Image) string {
	text := string(m.Capture) + ", scope " + string(m.Scope)
	if m.Since != "" {
		text += ", changes since image " + m.Since
	}
	if m.CaptureWhy != "" {
		text += "; " + m.CaptureWhy
	}
	return text
}

func pinWords(m wire.Image) string {
	switch {
	case !m.Pinned:
		return "no"
	case m.PinNote == "":
		return "yes"
	}
	return "yes: " + m.PinNote
}

// trust is how far an image can be trusted, and where its newest proof failed what there is instead.
func trust(m wire.ProvenImage) string {
	if m.LastGood == "" {
		return m.Status
	}
	changed := m.Changed
	if changed == "" {
		changed = "what changed since is told by"
	}
	return fmt.Sprintf("%s; the last that passed such a proof is %s; since then %s: keenlodge image diff %[2]s %s", m.Status, m.LastGood, changed, m.ID)
}

// oddities are what is unusual in an image, and who looked.
func oddities(m wire.ProvenImage) string {
	var all []string
	for _, o := range m.Unusual {
		all = append(all, o.Text)
	}
	text := strings.Join(all, "; ")
	switch {
	case m.Looked != nil:
		text += fmt.Sprintf(" (%s looked on %s", m.Looked.Who, moment(&m.Looked.At))
		if m.Looked.Note != "" {
			text += ": " + m.Looked.Note
		}
		text += ")"
	case text != "":
		text = "! " + text + "; nobody has looked yet: keenlodge image seen " + m.ID
	}
	return text
}

func imageDetails(w io.Writer, m wire.ProvenImage) {
	state := string(m.State)
	if m.Gone != nil {
		state = fmt.Sprintf("gone since %s: %s", moment(m.Gone), m.GoneWhy)
	}
	var disks []string
	for _, d := range m.Disks {
		text := fmt.Sprintf("%s %s", d.Target, size(d.Size))
		if d.Lost > 0 {
			text += fmt.Sprintf(" (%s could not be read, and are zeros)", size(d.Lost))
		}
		disks = append(disks, text)
	}
	var firmware []string
	for _, f := range m.Firmware {
		if f.Left != "" {
			firmware = append(firmware, fmt.Sprintf("no %s: %s", f.Kind, f.Left))
		} else {
			firmware = append(firmware, fmt.Sprintf("%s %s", f.Kind, size(f.Size)))
		}
	}
	what, level := strings.Join(disks, ", "), "mount"
	if m.Files != nil {
		what, level = "–; it holds files", "read"
	}
	for _, row := range [][2]string{
		{"image", m.ID}, {"machine", m.Machine}, {"taken", moment(&m.Taken)}, {"state", state}, {"trust", trust(m)}, {"policy", orDash(m.Policy)}, {"store", m.Store}, {"copy", copyWords(m.Image)},
		{"capture", captureWords(m.Image)}, {"leans on", orDash(m.Base)}, {"note", orDash(m.Note)}, {"pinned", pinWords(m.Image)}, {"locked", lockWords(m.Image)}, {"took", time.Duration(m.Took).Round(100 * time.Millisecond).String()}, {"consistency", orDash(m.Consistency)}, {"frozen for", frozen(m.Frozen)},
		{"disks", orDash(what)}, {"read", size(m.Read)}, {"new to the store", size(m.NewBytes)}, {"stored", size(m.Stored)}, {"run", orDash(m.Run)},
	} {
		fmt.Fprintf(w, "%-18s %s\n", row[0], row[1])
	}
	if m.Files != nil {
		filesDetails(w, m.Files)
	}
	for _, r := range m.Rested {
		what := fmt.Sprintf("%s at rest: before %s, after %s", r.Name, r.Before.Round(time.Millisecond), r.After.Round(time.Millisecond))
		if r.Failed != "" {
			what = "✗ " + r.Failed
		}
		fmt.Fprintf(w, "%-18s %s\n", "application", what)
	}
	if len(firmware) > 0 {
		fmt.Fprintf(w, "%-18s %s\n", "firmware", strings.Join(firmware, ", "))
	}
	if odd := oddities(m); odd != "" {
		fmt.Fprintf(w, "%-18s %s\n", "unusual", odd)
	}
	if len(m.Proofs) == 0 {
		fmt.Fprintf(w, "\nnot proven yet; prove it with: keenlodge image prove %s --level %s --wait\n", m.ID, level)
	}
	for _, p := range m.Proofs {
		sign, word := "✓", "passed"
		if !p.Passed {
			sign, word = "✗", "failed"
		}
		fmt.Fprintf(w, "\n%s proof by %s %s on %s, after %s, by %s\n", sign, p.Level, word, moment(&p.Ended), p.Ended.Sub(p.Began).Round(100*time.Millisecond), p.Program)
		for _, e := range p.Evidence {
			fmt.Fprintf(w, "  %s\n", e)
		}
		if p.Error != "" {
			fmt.Fprintf(w, "  %s\n", p.Error)
		}
		if p.Report != nil && len(p.Report.Exhibits) > 0 {
			var what []string
			for _, e := range p.Report.Exhibits {
				what = append(what, e.About)
			}
			fmt.Fprintf(w, "  kept with it: %s; look at: keenlodge image evidence %s --into FOLDER\n", strings.Join(what, ", "), m.ID)
		}
	}
}

// captureOf is how an image was read, and of what where that is not the machine's disks.
func captureOf(m wire.Image) string {
	if m.Scope.OfFiles() {
		return string(m.Capture) + ", " + string(m.Scope)
	}
	return string(m.Capture)
}

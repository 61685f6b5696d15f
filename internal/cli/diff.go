package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/wire"
)

// difference is an entry that is not the same in two images, as JSON tells it.
type difference struct {
	Path string   `json:"path"`
	What []string `json:"what"` // came, went, or in what it differs
	Old  *listed  `json:"old,omitempty"`
	New  *listed  `json:"new,omitempty"`
}

func imageDiffCommand() *cli.Command {
	return &cli.Command{Name: "diff", Usage: "tell which files came, went and changed from one image to another", ArgsUsage: "OLDER NEWER|--now [PATH]",
		Description: "A file counts as changed where its size, time, mode, owner or attributes are others; contents are not read. PATH narrows it to a folder; without a mount table on the disks it names a file system, NAME:PATH.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "now", Usage: "compare with the server as it is now, through its agent"}, &cli.StringFlag{Name: "machine", Usage: "with --now: another server"}, &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "text, or json (an object a line)", Value: "text"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			form, err := pick("output", c.String("output"), []string{"text", "json"})
			if err != nil {
				return usageError{err}
			}
			if n := c.Args().Len(); c.Bool("now") && (n < 1 || n > 2) || !c.Bool("now") && n != 2 && n != 3 {
				return wrongUse("%s takes two images' names, or one and --now, and a path if one folder is meant; %d were given", c.FullName(), n)
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			if c.Bool("now") {
				return diffNow(ctx, c, k, form)
			}
			at := c.Args().Get(2)
			if at == "" {
				at = "/"
			}
			var lists [2]*files.ListReader
			var missing error // from the older one
			for i := range lists {
				id, err := pickImage(ctx, k, c.Args().Get(i))
				if err != nil {
					return err
				}
				in, err := k.ImageFiles(ctx, id, at, true)
				var p *client.Problem
				if errors.As(err, &p) && p.Status == http.StatusNotFound && (i == 0 || missing == nil) { // it came, or went
					missing, in, err = err, io.NopCloser(strings.NewReader(files.ListHead)), nil
				}
				if err != nil {
					return err
				}
				defer in.Close()
				if lists[i], err = files.NewListReader(in); err != nil {
					return err
				}
			}
			return tellDiff(c.Root().Writer, lists[0], lists[1], form)
		}}
}

// tellDiff tells in what two lists differ.
func tellDiff(w io.Writer, older, newer *files.ListReader, form string) error {
	encoder := json.NewEncoder(w)
	came, went, changed := 0, 0, 0
	err := files.Diff(older, newer, func(d files.Difference) error {
		out := difference{What: d.What}
		mark, e := "~", d.New
		switch {
		case d.Old == nil:
			came++
			mark, out.What = "+", []string{"came"}
		case d.New == nil:
			went++
			mark, e, out.What = "-", d.Old, []string{"went"}
		default:
			changed++
		}
		if form == "json" {
			out.Path = files.Readable(e.Path)
			if d.Old != nil {
				was := fileOf(d.Old)
				out.Old = &was
			}
			if d.New != nil {
				is := fileOf(d.New)
				out.New = &is
			}
			return encoder.Encode(out)
		}
		more := ""
		if mark == "~" {
			more = "  " + strings.Join(d.What, ", ")
			if d.Old.Size != d.New.Size {
				more += fmt.Sprintf(" (it had %s)", size(d.Old.Size))
			}
		}
		_, err := fmt.Fprintf(w, "%s %s%s\n", mark, fileLine(e), more)
		return err
	})
	if err == nil && form != "json" {
		_, err = fmt.Fprintf(w, "%d came, %d went, %d changed\n", came, went, changed)
	}
	return err
}

// diffNow tells in what a server differs now from an image.
func diffNow(ctx context.Context, c *cli.Command, k *client.Client, form string) error {
	id, err := pickImage(ctx, k, c.Args().First())
	if err != nil {
		return err
	}
	b := wire.FilesBack{Machine: c.String("machine"), Look: true}
	if at := c.Args().Get(1); at != "" {
		b.Paths = []string{at}
	}
	p, err := k.PreviewFiles(ctx, id, b, allSteps)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if form == "json" {
		encoder := json.NewEncoder(w)
		for _, s := range p.Steps {
			if err := encoder.Encode(s); err != nil {
				return err
			}
		}
		return nil
	}
	counts := map[back.Action]int64{}
	for _, n := range p.Counts {
		counts[n.Action] = n.Paths
	}
	for _, s := range p.Steps {
		mark, more := "~", s.Why
		switch s.Action {
		case back.Make:
			mark, more = "-", ""
		case back.Delete:
			mark, more = "+", ""
		case back.Leave, back.Refuse:
			mark = "?"
		case back.Replacing:
			more = "content"
		}
		amount := "–"
		if s.Kind == files.File {
			amount = size(s.Bytes)
		}
		fmt.Fprintln(w, strings.TrimRight(fmt.Sprintf("%s %9s  %s  %s", mark, amount, s.Path, more), " "))
	}
	_, err = fmt.Fprintf(w, "on %s, since image %s: %d came, %d went, %d changed\n", p.Machine, id, counts[back.Delete], counts[back.Make], counts[back.Replacing]+counts[back.Amend])
	return err
}

package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/layout"
	"keenlodge/internal/wire"
)

const identityUsage = "give it a machine ID, SSH host keys, addresses of network cards and a host name of its own, so that it can run beside the machine that it is of"

func sizeFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "size", Usage: "a disk's size where it is to be another, such as vda=40GiB: what lies on it grows or gets smaller with it; several times for more"}
}

// sizesOf reads which disks are to have which size.
func sizesOf(c *cli.Command) (map[string]int64, error) {
	sizes := map[string]int64{}
	for _, text := range c.StringSlice("size") {
		target, size, ok := strings.Cut(text, "=")
		n, err := humanize.ParseBytes(size)
		if !ok || target == "" || err != nil || n == 0 || n > 1<<60 {
			return nil, wrongUse("--size %q is none; write a disk and its size, such as vda=40GiB", text)
		}
		sizes[target] = int64(n)
	}
	return sizes, nil
}

// wayWords are what becomes of a partition.
var wayWords = map[layout.Way]string{layout.Keep: "as it is", layout.Grow: "grows", layout.Shrink: "gets smaller", layout.Copy: "gets smaller: files are copied into a new file system"}

// tableWords are the kinds of partition tables.
var tableWords = map[layout.Table]string{layout.GPT: "GUID partition table", layout.MBR: "partition table of a PC's BIOS", layout.None: "no partitions"}

// refitDetails shows how a disk will be divided.
func refitDetails(w io.Writer, d wire.Refit) {
	fmt.Fprintf(w, "\ndisk %s: %s, where it was %s (%s)\n\n", d.Target, size(d.Size), size(d.Was), tableWords[d.Table])
	var rows [][]string
	for _, p := range d.Parts {
		name := layout.Part{Number: p.Number}.Name(d.Target)
		how := wayWords[p.Way]
		if p.Offset != p.WasOffset {
			how += ", and moves"
		}
		rows = append(rows, []string{name, orDash(p.Format), size(p.WasSize), size(p.Size), how})
	}
	table(w, []string{"PARTITION", "FORMAT", "WAS>", "WILL BE>", ""}, rows)
	for _, n := range d.Notices {
		fmt.Fprintf(w, "  ! %s\n", n)
	}
}

// imageCloneCommand makes guests of an image that are machines of their own.
func imageCloneCommand() *cli.Command {
	return &cli.Command{Name: "clone", Usage: "make one guest of an image or many, each a machine of its own", ArgsUsage: "IMAGE",
		Description: "Each has a machine ID, SSH host keys, addresses of network cards and a host name of its own, as its name says: web-{01..20} are twenty. What lies on their disks is otherwise that of the image: name other addresses in their settings, or let the network give them.",
		Flags: []cli.Flag{output(), waitFlag(), &cli.StringFlag{Name: "as", Usage: "names of the guests to make, such as web-07, web-{01..20} or web-{a,b}", Required: true},
			&cli.StringFlag{Name: "hypervisor", Usage: "where; by default where the machine lived"}, &cli.StringFlag{Name: "pool", Usage: "storage pool for their disks"},
			&cli.BoolFlag{Name: "start", Usage: "power each on and wait for its guest agent"}, sizeFlag(),
			&cli.BoolFlag{Name: "preview", Usage: "only say how long it would take, and how disks will be divided"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask before disks are divided otherwise"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return wrongUse("%s takes an image's name", c.FullName())
			}
			var names []string
			for _, word := range append([]string{c.String("as")}, c.Args().Tail()...) { // many shells make words of braces themselves
				more, err := braced(word)
				if err != nil {
					return err
				}
				names = append(names, more...)
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			b := wire.RestoreBody{As: names[0], Clones: names[1:], Hypervisor: c.String("hypervisor"), Pool: c.String("pool"), Start: c.Bool("start"), Identity: true}
			if b.Sizes, err = sizesOf(c); err != nil {
				return err
			}
			if err := foretold(ctx, c, k, id, b); err != nil || c.Bool("preview") {
				return err
			}
			run, err := k.Restore(ctx, id, b)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		}}
}

// mostNames is how many names one word stands for.
const mostNames = 1000

// braced makes names of a word with braces, as shells do: {01..20} counts, {a,b} lists.
func braced(word string) ([]string, error) {
	before, rest, open := strings.Cut(word, "{")
	if !open {
		return []string{word}, nil
	}
	inner, after, closed := strings.Cut(rest, "}")
	if !closed || inner == "" {
		return nil, wrongUse("%q has a brace that nothing closes; write web-{01..20} or web-{a,b}", word)
	}
	var middle []string
	if from, to, counts := strings.Cut(inner, ".."); counts {
		a, wrong := strconv.Atoi(from)
		b, wrongToo := strconv.Atoi(to)
		if wrong != nil || wrongToo != nil || a < 0 || b < a || b-a >= mostNames {
			return nil, wrongUse("{%s} counts nothing; write two numbers, the lower one first, such as {01..20}", inner)
		}
		for n := a; n <= b; n++ {
			middle = append(middle, fmt.Sprintf("%0*d", len(from), n))
		}
	} else {
		middle = strings.Split(inner, ",")
	}
	ends, err := braced(after)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, m := range middle {
		for _, end := range ends {
			if out = append(out, before+m+end); len(out) > mostNames {
				return nil, wrongUse("%q are more than %d names", word, mostNames)
			}
		}
	}
	return out, nil
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/format"
	"keenlodge/internal/core/ovf"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/wire"
)

func imageImportCommand() *cli.Command {
	return &cli.Command{Name: "import", Usage: "make an image of disk files of other programs: raw, qcow2, vhdx, vmdk, or a machine as ova", ArgsUsage: "FILE…",
		Description: "What a file is shows by its first bytes; what shows nothing is raw. Its disks are called vda, vdb and so on in the order of the files. The image is of a machine that no source has, and is kept until somebody drops it.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "machine", Usage: "the machine's name; by default the file's"}, &cli.StringFlag{Name: "store", Usage: "where the image lies", Required: true},
			&cli.StringFlag{Name: "note", Usage: "what it is for"}, output()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return wrongUse("%s takes files", c.FullName())
			}
			files, err := openImports(c.Args().Slice())
			if err != nil {
				return err
			}
			defer files.close()
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			name := c.String("machine")
			if name == "" {
				name = files.machine
			}
			taken, err := k.Bring(ctx, c.String("store"), name, c.String("note"), files.brought, files.disks)
			if err != nil {
				return err
			}
			return show(c, taken, func(w io.Writer) {
				fmt.Fprintf(w, "✓ image %s of %s in %s: %s, of which %s were new to the store\n", taken.Image, name, c.String("store"), english.Plural(len(files.disks), "disk", ""), size(taken.Stored))
			})
		}}
}

// imports are disks that are brought.
type imports struct {
	machine string
	brought wire.Brought
	disks   map[string]disk.Disk // by target
	open    []*raw.File
}

func (m *imports) close() {
	for _, f := range m.open {
		f.Close()
	}
}

// openImports opens files, and the disks in them.
func openImports(names []string) (_ *imports, err error) {
	m := &imports{disks: map[string]disk.Disk{}}
	defer func() {
		if err != nil {
			m.close()
		}
	}()
	base := filepath.Base(names[0])
	m.machine = strings.TrimSuffix(strings.TrimSuffix(base, filepath.Ext(base)), "-vda")
	for _, name := range names {
		f, err := raw.Open(name)
		if err != nil {
			return nil, err
		}
		m.open = append(m.open, f)
		of, err := format.Of(f)
		if err == nil && of == format.OVA && len(names) > 1 {
			err = errors.New("it is a whole machine; import it by itself")
		}
		if err == nil && of == format.OVA {
			err = m.packaged(f, f.Size())
		} else if err == nil {
			err = m.add(f, f.Size(), of)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	return m, nil
}

// add adds a file as the next disk.
func (m *imports) add(r io.ReaderAt, length int64, of format.Kind) error {
	d, err := format.Open(r, length, of)
	if err != nil {
		return err
	}
	n := len(m.brought.Disks)
	target := "vd" + string(rune('a'+n%26))
	if n >= 26 {
		target = "vd" + string(rune('a'+n/26-1)) + string(rune('a'+n%26))
	}
	m.disks[target] = d
	m.brought.Disks = append(m.brought.Disks, wire.BroughtDisk{Target: target, Size: d.Size()})
	return nil
}

// packaged adds the disks of a package, which must be as its digests say.
func (m *imports) packaged(r io.ReaderAt, length int64) error {
	p, err := ovf.Read(r, length)
	if err != nil {
		return err
	}
	m.machine = p.Machine.Name
	m.brought.System, m.brought.CPUs, m.brought.Memory = p.Machine.System, p.Machine.CPUs, p.Machine.Memory
	if p.Machine.UEFI {
		m.brought.UEFI = &p.Machine.UEFI
	}
	for _, d := range p.Machine.Disks {
		if err := p.Check(d.File, func(int64) {}); err != nil {
			return err
		}
		in, n := p.File(d.File)
		of, err := format.Of(in)
		if err == nil {
			err = m.add(in, n, of)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", d.File, err)
		}
	}
	return nil
}

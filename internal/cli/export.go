package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/format"
	"keenlodge/internal/core/ovf"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/nbd"
	"keenlodge/internal/wire"
)

func imageExportCommand() *cli.Command {
	return &cli.Command{Name: "export", Usage: "write an image as files that other programs read: raw, qcow2, vhdx, vmdk, ova, or a file system as tar", ArgsUsage: "IMAGE",
		Description: "Each disk becomes a file, MACHINE-DISK.qcow2 and the like, in a folder; with --as ova the whole machine becomes one. What is there already stays as it is. --to - writes to standard output what is one file. Raw files in a folder are sparse.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "raw, qcow2, vhdx, vmdk or ova", Value: string(format.QCOW2)}, &cli.StringSliceFlag{Name: "disk", Usage: "only this disk, such as vda; may be given several times"},
			&cli.StringFlag{Name: "files", Usage: "a file system's files as a tar, instead: its name, such as vda1, or a folder, such as vda1:/srv; / is all of the machine's"},
			&cli.StringFlag{Name: "to", Usage: "folder to write to, or - for standard output", Value: "."}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			as, err := pick("format", format.Kind(c.String("as")), format.Kinds)
			if err != nil {
				return err
			}
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			m, err := k.Image(ctx, id)
			if err != nil {
				return err
			}
			x := exporting{k: k, m: m, as: as, to: c.String("to"), out: c.Root().Writer}
			if place := c.String("files"); place != "" || m.Files != nil {
				return x.files(ctx, place)
			}
			if x.disks, err = chosenDisks(m, c.StringSlice("disk")); err != nil {
				return err
			}
			if as == format.OVA {
				return x.whole(ctx)
			}
			if x.to == "-" && len(x.disks) != 1 {
				return fmt.Errorf("image %s has %d disks, and standard output takes one; choose it: --disk %s, or write an ova", id, len(x.disks), x.disks[0].Target)
			}
			for _, d := range x.disks {
				if err := x.disk(ctx, d); err != nil {
					return fmt.Errorf("disk %s of image %s: %w", d.Target, id, err)
				}
			}
			return nil
		})}
}

// chosenDisks are the disks of an image that are wanted, all where none is named.
func chosenDisks(m wire.ProvenImage, names []string) ([]wire.ImageDisk, error) {
	if len(names) == 0 {
		return m.Disks, nil
	}
	var out []wire.ImageDisk
	for _, name := range names {
		at := slices.IndexFunc(m.Disks, func(d wire.ImageDisk) bool { return d.Target == name })
		if at < 0 {
			return nil, fmt.Errorf("image %s has no disk %q; look at: keenlodge image show %[1]s", m.ID, name)
		}
		out = append(out, m.Disks[at])
	}
	return out, nil
}

// exporting is an image that is written as files.
type exporting struct {
	k     *client.Client
	m     wire.ProvenImage
	as    format.Kind
	to    string
	disks []wire.ImageDisk
	out   io.Writer
}

// name is what a file is called: after the machine, and the disk where it holds one.
func (x exporting) name(disk, end string) string {
	name := strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == ':' || r < ' ' {
			return '-'
		}
		return r
	}, x.m.Machine)
	if disk != "" {
		name += "-" + disk
	}
	return name + "." + end
}

// disk writes one disk.
func (x exporting) disk(ctx context.Context, d wire.ImageDisk) error {
	name := x.name(d.Target, string(x.as))
	if x.as == format.Raw && x.to != "-" { // several pieces at once, and none where there is nothing
		opened, err := x.open(ctx, d)
		if err != nil {
			return err
		}
		defer opened.Close()
		file, err := x.place(name)
		if err != nil {
			return err
		}
		if err := raw.Write(ctx, file, opened.Whole()); err != nil {
			return err
		}
		return x.told(file)
	}
	return x.file(name, func(w io.Writer) error { return x.write(ctx, w, d, x.as, name) })
}

// write writes a disk in a format.
func (x exporting) write(ctx context.Context, w io.Writer, d wire.ImageDisk, as format.Kind, name string) error {
	opened, err := x.open(ctx, d)
	if err != nil {
		return err
	}
	defer opened.Close()
	_, err = format.Write(ctx, w, opened.Whole(), as, name)
	return err
}

// open opens a disk of the image, which is read through the lodge.
func (x exporting) open(ctx context.Context, d wire.ImageDisk) (*nbd.Client, error) {
	return x.k.OpenDisk(ctx, x.m.ID, d.Target)
}

// place is where a file goes that is not there yet, in the folder that is asked for.
func (x exporting) place(name string) (string, error) {
	if err := os.MkdirAll(x.to, 0o755); err != nil {
		return "", err
	}
	file := filepath.Join(x.to, name)
	if _, err := os.Lstat(file); err == nil {
		return "", fmt.Errorf("%s is there already, and stays as it is; write to another folder with --to", file)
	}
	return file, nil
}

// file makes a file, which has its name when it is whole, or writes to standard output.
func (x exporting) file(name string, write func(io.Writer) error) error {
	if x.to == "-" {
		return write(x.out)
	}
	file, err := x.place(name)
	if err != nil {
		return err
	}
	part, err := os.CreateTemp(x.to, ".export-")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name()) // once it has its name there is nothing there
	err = write(part)
	if err == nil {
		err = part.Sync()
	}
	if err = errors.Join(err, part.Close()); err != nil {
		return err
	}
	if err := os.Link(part.Name(), file); err != nil { // which replaces nothing, as a rename would
		return err
	}
	return x.told(file)
}

func (x exporting) told(file string) error {
	st, err := os.Stat(file)
	if err == nil {
		fmt.Fprintf(x.out, "✓ %s  %s\n", file, size(st.Size()))
	}
	return err
}

// files writes a file system as a tar.
func (x exporting) files(ctx context.Context, place string) error {
	name := place
	switch {
	case x.m.Files != nil && place == "", place == "/":
		place, name = "/", ""
	case !strings.Contains(place, ":") && !strings.HasPrefix(place, "/"):
		place += ":/"
	default:
		name = strings.Trim(strings.NewReplacer(":/", "-", "/", "-").Replace(place), "-")
	}
	return x.file(x.name(strings.ReplaceAll(name, "/", "-"), "tar"), func(w io.Writer) error {
		in, err := x.k.ImageArchive(ctx, x.m.ID, place, "tar")
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(w, in)
		return err
	})
}

// whole writes the machine as one file. How long its disks are has to be known before they are in it, so they are written beside it first.
func (x exporting) whole(ctx context.Context) error {
	h, err := x.k.Hardware(ctx, x.m.ID)
	if err != nil {
		return err
	}
	place := x.to
	if place == "-" {
		place = os.TempDir()
	} else if err := os.MkdirAll(place, 0o755); err != nil {
		return err
	}
	folder, err := os.MkdirTemp(place, ".export-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	// Where the definition does not say how much it needs, it is what a small one gets.
	const plainMemory, plainCPUs = 2 << 30, 2
	m := ovf.Machine{Name: strings.TrimSuffix(x.name("", "x"), ".x"), System: h.System, CPUs: h.CPUs, Memory: h.Memory, UEFI: h.UEFI, Cards: h.Cards}
	m.CPUs, m.Memory = cmp.Or(m.CPUs, plainCPUs), cmp.Or(m.Memory, plainMemory)
	for _, d := range x.disks {
		name := x.name(d.Target, string(format.VMDK))
		f, err := os.Create(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		err = x.write(ctx, f, d, format.VMDK, name)
		st, told := f.Stat()
		if err = errors.Join(err, told, f.Close()); err != nil {
			return fmt.Errorf("disk %s of image %s: %w", d.Target, x.m.ID, err)
		}
		m.Disks = append(m.Disks, ovf.Disk{File: name, Length: st.Size(), Size: d.Size})
	}
	return x.file(x.name("", string(format.OVA)), func(w io.Writer) error {
		return ovf.Write(w, m, func(d ovf.Disk) (io.ReadCloser, error) { return os.Open(filepath.Join(folder, d.File)) })
	})
}

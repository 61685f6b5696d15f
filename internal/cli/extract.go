package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"
)

// storeExtractCommand works with a store's folder alone, on the day on which there is neither a service nor a database.
func storeExtractCommand() *cli.Command {
	return &cli.Command{Name: "extract", Usage: "write an image's disks as raw files, from a store's folder alone, with no lodge", ArgsUsage: "FOLDER [IMAGE]",
		Description: "Without an image it lists those that the store holds. Disks are written as sparse raw files, IMAGE-DISK.raw.",
		Flags:       append(openerFlags(), output(), &cli.StringFlag{Name: "to", Usage: "folder to write to", Value: "."}, &cli.StringFlag{Name: "disk", Usage: "only this disk, such as vda"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if n := c.Args().Len(); n < 1 || n > 2 {
				return wrongUse("%s takes a folder, and an image", c.FullName())
			}
			folder, err := filepath.Abs(c.Args().First())
			if err != nil {
				return err
			}
			s, err := openFolder(ctx, c, folder)
			if err != nil {
				return err
			}
			if c.Args().Len() == 1 {
				return listFolder(ctx, c, s)
			}
			return extract(ctx, c, s, c.Args().Get(1))
		}}
}

// folderStore is a store of either layout, as far as it takes to get disks out of it.
type folderStore interface {
	ImageIDs(ctx context.Context) ([]string, error)
	ReadImage(ctx context.Context, id string) (*image.Manifest, error)
	OpenDisk(ctx context.Context, m *image.Manifest, d image.Disk) (store.OpenedDisk, error)
	Archive(ctx context.Context, m *image.Manifest, out io.Writer) error
}

func openFolder(ctx context.Context, c *cli.Command, folder string) (folderStore, error) {
	m, err := dir.OpenToRead(folder)
	if err != nil {
		return nil, err
	}
	h, err := store.ReadHeader(ctx, m)
	if err != nil {
		return nil, err
	}
	if h.Layout == "open" {
		return open.Open(ctx, m)
	}
	var secret *chunk.Secret
	if h.Sealed {
		with, err := openerFrom(c, false)
		if err != nil {
			return nil, err
		}
		found, err := pooled.Unlock(ctx, m, with)
		if err != nil {
			return nil, err
		}
		secret = &found
	}
	return pooled.Open(ctx, m, secret)
}

func listFolder(ctx context.Context, c *cli.Command, s folderStore) error {
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return err
	}
	found := []*image.Manifest{}
	for _, id := range ids {
		m, err := s.ReadImage(ctx, id)
		if err != nil {
			fmt.Fprintf(os.Stderr, "keenlodge: %v\n", err)
			continue
		}
		found = append(found, m)
	}
	return show(c, found, func(w io.Writer) {
		var rows [][]string
		for _, m := range found {
			disks := ""
			for _, d := range m.Disks {
				disks += fmt.Sprintf("%s %s  ", d.Target, size(d.Size))
			}
			if m.Files != nil {
				disks = fmt.Sprintf("%d files, %s", m.Files.Entries, size(m.Files.Bytes))
			}
			rows = append(rows, []string{m.ID, m.Machine, moment(&m.Taken), string(m.Consistency), disks})
		}
		table(w, []string{"IMAGE", "MACHINE", "TAKEN", "CONSISTENCY", "HOLDS"}, rows)
	})
}

// archive writes the files of an image as a pax archive.
func archive(ctx context.Context, s folderStore, m *image.Manifest, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = s.Archive(ctx, m, f)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(fmt.Errorf("write %s: %w", file, err), os.Remove(file))
	}
	return nil
}

func extract(ctx context.Context, c *cli.Command, s folderStore, word string) error {
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return err
	}
	id, err := pick("image", word, ids)
	if err != nil {
		return err
	}
	m, err := s.ReadImage(ctx, id)
	if err != nil {
		return err
	}
	written := []string{}
	for _, d := range m.Disks {
		if only := c.String("disk"); only != "" && only != d.Target {
			continue
		}
		r, err := s.OpenDisk(ctx, m, d)
		if err != nil {
			return err
		}
		defer r.Close()
		file := filepath.Join(c.String("to"), id+"-"+filepath.Base(d.Target)+".raw")
		if err := raw.Write(ctx, file, r); err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
		written = append(written, file)
	}
	if m.Files != nil && c.String("disk") == "" {
		file := filepath.Join(c.String("to"), id+"-files.tar")
		if err := archive(ctx, s, m, file); err != nil {
			return err
		}
		written = append(written, file)
	}
	if len(written) == 0 {
		return fmt.Errorf("image %s has no disk %s", id, c.String("disk"))
	}
	return show(c, written, func(w io.Writer) {
		for _, file := range written {
			fmt.Fprintln(w, file)
		}
	})
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
)

func imageServeCommand() *cli.Command {
	return &cli.Command{Name: "serve", Usage: "offer the disks of an image on this host over NBD, read-only, until Ctrl-C", ArgsUsage: "IMAGE",
		Description: "Each disk has a Unix socket, whose address (an NBD URI) is told: for nbd-client, nbdcopy, qemu-img, QEMU and libvirt. What is read comes through the lodge's own address, so this host needs neither the store nor its key.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "folder", Usage: "where the sockets are; by default a new folder that only you can enter"}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			m, err := k.Image(ctx, id)
			if err != nil {
				return err
			}
			if m.Files != nil {
				return fmt.Errorf("image %s holds files, and no disks; look at: keenlodge image files %s", id, id)
			}
			folder := c.String("folder")
			if folder == "" {
				if folder, err = os.MkdirTemp("", "keenlodge-"+id+"-"); err != nil {
					return err
				}
				defer os.Remove(folder)
			}
			w := c.Root().Writer
			fmt.Fprintf(w, "image %s of %s, taken %s, is here to be read until Ctrl-C:\n", id, m.Machine, moment(&m.Taken))
			var all sync.WaitGroup
			for _, d := range m.Disks {
				// One connection is tried before anybody comes, so that what can't be served is an error here.
				first, err := k.Disk(ctx, id, d.Target)
				if err != nil {
					return err
				}
				first.Close()
				socket := filepath.Join(folder, d.Target)
				listener, err := net.Listen("unix", socket)
				if err != nil {
					return fmt.Errorf("serve disk %s: %w", d.Target, err)
				}
				if err := os.Chmod(socket, 0o600); err != nil {
					return errors.Join(err, listener.Close())
				}
				defer context.AfterFunc(ctx, func() { listener.Close() })()
				defer listener.Close()
				fmt.Fprintf(w, "  %-6s %9s  nbd+unix:///%s?socket=%s\n", d.Target, size(d.Size), d.Target, socket)
				all.Go(func() { serveDisk(ctx, k, id, d.Target, listener) })
			}
			all.Wait()
			return nil
		})}
}

// serveDisk passes on what comes to a listener, until that is closed.
func serveDisk(ctx context.Context, k *client.Client, id, target string, listener net.Listener) {
	var open sync.WaitGroup
	defer open.Wait()
	for {
		here, err := listener.Accept()
		if err != nil {
			return
		}
		open.Go(func() {
			defer here.Close()
			defer context.AfterFunc(ctx, func() { here.Close() })()
			there, err := k.Disk(ctx, id, target)
			if err != nil {
				fmt.Fprintf(os.Stderr, "keenlodge: disk %s: %v\n", target, err)
				return
			}
			defer there.Close()
			go func() {
				io.Copy(there, here)
				there.Close()
			}()
			io.Copy(here, there)
		})
	}
}

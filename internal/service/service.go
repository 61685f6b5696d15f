// Package service is the face that serves: the commands that run a lodge's process, its HTTP interface with the console, and the watchdog
// of a freeze.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/agent"
	"keenlodge/internal/api"
	"keenlodge/internal/console"
	"keenlodge/internal/lending"
	"keenlodge/internal/lodge"
	"keenlodge/internal/reader"
	"keenlodge/internal/reader/inside"
	"keenlodge/internal/records"
	"keenlodge/internal/rescue"
	"keenlodge/internal/rescue/making"
	"keenlodge/internal/watchdog"
	"keenlodge/internal/wire"
)

// Commands are the service's commands.
func Commands() []*cli.Command {
	return []*cli.Command{serveCommand(), watchCommand(), freezeWatchCommand(), readerGuestCommand(), rescueMediumCommand(), lendCommand(), documentCommand()}
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: "The database's password is best kept in a file that PGPASSFILE names. The first token is made with: keenlodge token new NAME --on-this-host.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Usage: "address to listen on", Value: wire.DefaultAddress, Sources: cli.EnvVars("KEENLODGE_LISTEN")},
			&cli.StringFlag{Name: "database", Usage: "PostgreSQL URL, without its password", Required: true, Sources: cli.EnvVars("KEENLODGE_DATABASE")},
			&cli.BoolFlag{Name: "tls", Usage: "speak TLS, with certificates from the lodge's own authority, whose fingerprint clients pin", Sources: cli.EnvVars("KEENLODGE_TLS")},
			&cli.StringSliceFlag{Name: "tls-name", Usage: "with --tls: a name or address by which this host is called; several times for more", Sources: cli.EnvVars("KEENLODGE_TLS_NAME")},
			&cli.StringFlag{Name: "tls-certificate", Usage: "speak TLS with this certificate (PEM, with those between it and its authority); read again when it changes", Sources: cli.EnvVars("KEENLODGE_TLS_CERTIFICATE")},
			&cli.StringFlag{Name: "tls-key", Usage: "its key (PEM)", Sources: cli.EnvVars("KEENLODGE_TLS_KEY")},
			&cli.StringFlag{Name: "agents-listen", Usage: "a second address, always with TLS from the lodge's own authority, at which servers' agents call and nobody else", Sources: cli.EnvVars("KEENLODGE_AGENTS_LISTEN")},
			&cli.StringFlag{Name: "without-tls", Usage: "listen beyond loopback without TLS: say " + plainWords, Sources: cli.EnvVars("KEENLODGE_WITHOUT_TLS")},
			&cli.StringFlag{Name: "rescue", Usage: "serve the files of a rescue medium for starting over a network from this folder (keenlodge rescue make --net)", Sources: cli.EnvVars("KEENLODGE_RESCUE")},
			&cli.StringFlag{Name: "rescue-listen", Usage: "address at which they are served, by HTTP without TLS, for firmware knows no more: there is nothing secret in them, and nothing else is served there", Value: "127.0.0.1:7435", Sources: cli.EnvVars("KEENLODGE_RESCUE_LISTEN")},
			&cli.StringFlag{Name: "scratch", Usage: "folder in which images are written out to be proven; by default in the state folder", Sources: cli.EnvVars("KEENLODGE_SCRATCH")},
			&cli.BoolFlag{Name: "mount-on-host", Usage: "for a host without a hypervisor: proofs and checks open images' file systems with this host's own kernel, not in a reader guest; only for disks that nobody hostile could write to", Sources: cli.EnvVars("KEENLODGE_MOUNT_ON_HOST")},
			&cli.StringFlag{Name: "state", Usage: "folder for what belongs to this host", Value: "/var/lib/keenlodge", Sources: cli.EnvVars("KEENLODGE_STATE")},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			return serve(ctx, door{listen: c.String("listen"), own: c.Bool("tls"), names: c.StringSlice("tls-name"), certificate: c.String("tls-certificate"), key: c.String("tls-key"), plain: c.String("without-tls"), agents: c.String("agents-listen"), rescue: c.String("rescue"), rescueListen: c.String("rescue-listen")},
				c.String("database"), c.String("state"), lodge.Config{Scratch: c.String("scratch"), MountOnHost: c.Bool("mount-on-host")})
		},
	}
}

// serve runs the service until ctx ends.
func serve(ctx context.Context, d door, database, state string, made lodge.Config) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	encrypted, err := d.encrypted()
	if err == nil {
		err = harden()
	}
	if err != nil {
		return err
	}
	if state, err = filepath.Abs(state); err != nil {
		return err
	}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return fmt.Errorf("state folder: %w; name another with --state", err)
	}
	rec, err := records.Open(ctx, database, func(away bool, err error) {
		if away {
			log.Warn("the database does not answer; what can goes on without it, the rest waits", "error", err)
		} else {
			log.Info("the database answers again")
		}
	})
	if err != nil {
		return err
	}
	defer rec.Close()
	made.Records, made.State, made.Log, made.KeyFile, made.Names = rec, state, log, keyFile(state), d.certificateNames()
	l, err := lodge.New(made)
	if err != nil {
		return err
	}
	forgetSecrets()
	if tokens, err := l.Access.Tokens(ctx); err != nil {
		return err
	} else if len(tokens) == 0 {
		log.Info("nobody can sign in yet; make the first token on this host: keenlodge token new NAME --on-this-host")
	}
	scheme, fingerprint, config := "http", "", (*tls.Config)(nil)
	if encrypted {
		if config, fingerprint, err = d.tlsConfig(ctx, l, log); err != nil {
			return err
		}
		scheme = "https"
	}
	listener, err := net.Listen("tcp", d.listen)
	if err != nil {
		return err
	}
	calling, err := d.forAgents(ctx, l, log)
	if err != nil {
		return err
	}
	told := []any{"address", scheme + "://" + listener.Addr().String()}
	if fingerprint != "" {
		told = append(told, "fingerprint", fingerprint)
	}
	if config != nil {
		listener = tls.NewListener(listener, config)
	}
	// Streams of events end with the service, not with a time limit.
	streams, endStreams := context.WithCancel(context.WithoutCancel(ctx))
	defer endStreams()
	handler := api.New(l, log, console.Handler())
	newServer := func(h http.Handler) *http.Server {
		s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return streams }}
		s.RegisterOnShutdown(endStreams)
		return s
	}
	servers := map[*http.Server]net.Listener{newServer(handler): listener}
	if calling != nil {
		told = append(told, "agents", "https://"+calling.Addr().String())
		servers[newServer(onlyAgents(handler))] = calling
		l.AgentsPort = calling.Addr().(*net.TCPAddr).Port
	}

	if d.rescue != "" {
		media, err := net.Listen("tcp", d.rescueListen)
		if err != nil {
			return err
		}
		told = append(told, "rescue", "http://"+media.Addr().String()+"/"+making.NetFiles[0])
		servers[newServer(making.Handler(d.rescue))] = media
	}

	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		return l.Serve(ctx, func() { log.Info("ready", told...) })
	})
	for server, at := range servers {
		group.Go(func() error {
			if err := server.Serve(at); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		})
		group.Go(func() error {
			<-ctx.Done()
			end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			return server.Shutdown(end)
		})
	}
	group.Go(func() error {
		<-ctx.Done()
		log.Info("stopping")
		return nil
	})
	return group.Wait()
}

func watchCommand() *cli.Command {
	return &cli.Command{
		Name: watchdog.Command, Hidden: true, Usage: "thaw a guest if the service does not (started by the service itself)",
		Action: func(ctx context.Context, _ *cli.Command) error {
			return watchdog.Thaw(context.WithoutCancel(ctx), os.Stdin, os.Stdout)
		},
	}
}

// freezeWatchCommand is the watchdog of a server's freeze, which its agent starts.
func freezeWatchCommand() *cli.Command {
	return &cli.Command{
		Name: agent.WatchCommand, Hidden: true, Usage: "thaw file systems if the agent does not (started by the agent itself)",
		Action: func(context.Context, *cli.Command) error { return agent.WatchFreeze(os.Stdin, os.Stdout) },
	}
}

// readerGuestCommand is the first process of a reader guest.
func readerGuestCommand() *cli.Command {
	return &cli.Command{
		Name: reader.Command, Hidden: true, Usage: "open the disks of a reader guest (the guest's kernel starts it)",
		Action: func(ctx context.Context, _ *cli.Command) error { return inside.Run(ctx) },
	}
}

// rescueMediumCommand is the first process on a rescue medium.
func rescueMediumCommand() *cli.Command {
	return &cli.Command{
		Name: rescue.Command, Hidden: true, Usage: "get a machine back (a rescue medium's kernel starts it)",
		Action: func(ctx context.Context, _ *cli.Command) error { return rescue.Run(ctx) },
	}
}

// lendCommand is the process that lends disks to guests that run on them already.
func lendCommand() *cli.Command {
	return &cli.Command{
		Name: lending.Command, Hidden: true, Usage: "lend disks of an image to a guest (started by the service itself)",
		Action: func(ctx context.Context, _ *cli.Command) error {
			return lending.Run(ctx, os.Stdin, os.Stdout, wire.Program)
		},
	}
}

func documentCommand() *cli.Command {
	return &cli.Command{
		Name: "openapi", Hidden: true, Usage: "write the OpenAPI document of the HTTP interface",
		Action: func(_ context.Context, c *cli.Command) error {
			document, err := api.Document()
			if err == nil {
				_, err = c.Root().Writer.Write(append(document, '\n'))
			}
			return err
		},
	}
}

package agent

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/line"
)

// firstWait is between tries to reach the lodge, and doubles up to longestWait: servers that lost their lodge together come back one by one. Tests
// shorten it.
var firstWait, longestWait = 500 * time.Millisecond, 30 * time.Second

// dialTime is how long the lodge may take to answer.
const dialTime = 20 * time.Second

// errUnknown is for an agent that the lodge does not know any more.
var errUnknown = errors.New("the lodge does not know this agent any more: it was dismissed, or away for too long; have it enrolled again, and join anew")

// Run is the agent, until ctx ends or the lodge does not know it any more: it calls the lodge, again and again, answers what that asks, and has
// its certificate renewed.
func Run(ctx context.Context, id *Identity, a *Agent, log *slog.Logger) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return id.Keep(ctx, log) })
	group.Go(func() error { a.watch(ctx); return nil })
	group.Go(func() error { return a.call(ctx, id, log) })
	err := group.Wait()
	return errors.Join(err, a.Close())
}

// call keeps a line to the lodge.
func (a *Agent) call(ctx context.Context, id *Identity, log *slog.Logger) error {
	wait := firstWait
	told := ""
	for ctx.Err() == nil {
		conn, err := id.dial(ctx)
		if err == nil {
			log.Info("connected to the lodge", "lodge", id.lodge())
			told = ""
			var asked atomic.Bool
			reply := func(ctx context.Context, call string, args json.RawMessage) (any, func(net.Conn) error, error) {
				asked.Store(true)
				return a.Reply(ctx, call, args)
			}
			err = line.Serve(ctx, conn, reply, func(call string, err error) {
				log.Warn("a call ended before its end", "call", call, "error", err)
			})
			conn.Close()
			if asked.Load() { // it was a good line: the next try comes soon
				wait = firstWait
			}
		}
		if ctx.Err() != nil {
			return nil
		}
		if errors.Is(err, errUnknown) {
			return err
		}
		if text := err.Error(); text != told { // once for each reason
			log.Warn("no line to the lodge; trying again", "lodge", id.lodge(), "error", err)
			told = text
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait/2 + rand.N(wait)):
		}
		wait = min(2*wait, longestWait)
	}
	return nil
}

// dial makes a line to the lodge.
func (id *Identity) dial(ctx context.Context) (net.Conn, error) {
	u, config, err := id.trust(id.certificate())
	if err != nil {
		return nil, err
	}
	config.NextProtos = []string{"http/1.1"} // HTTP/2 has no upgrade
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "443")
	}
	ctx, end := context.WithTimeout(ctx, dialTime)
	defer end()
	conn, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, fmt.Errorf("reach %s: %w", u.Host, err)
	}
	err = line.Upgrade(ctx, conn, u.Host, line.Path, line.Protocol)
	var refused *line.NotUpgraded
	if errors.As(err, &refused) && refused.Status == http.StatusUnauthorized {
		err = errUnknown
	}
	if err == nil {
		_, err = line.Offer(conn, line.Oldest, line.Newest)
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/line"
	"keenlodge/internal/nbd"
	"keenlodge/internal/wire"
)

// Bring brings disks, by target, to the lodge, which reads them as it likes, and waits for what becomes of them.
func (c *Client) Bring(ctx context.Context, store, machine, note string, brought wire.Brought, disks map[string]disk.Disk) (taken wire.Taken, err error) {
	conn, err := c.Import(ctx, store, machine, note)
	if err != nil {
		return taken, err
	}
	defer conn.Close()
	to := stream{conn}
	if _, err := line.Offer(to, line.Oldest, line.Newest); err != nil {
		return taken, err
	}
	serving, end := context.WithCancel(ctx)
	defer end()
	told := false
	err = line.Serve(serving, to, func(_ context.Context, call string, args json.RawMessage) (any, func(net.Conn) error, error) {
		switch call {
		case wire.CallBrought:
			return brought, nil, nil
		case wire.CallDisk:
			var target string
			if err := json.Unmarshal(args, &target); err != nil {
				return nil, nil, err
			}
			d, ok := disks[target]
			if !ok {
				return nil, nil, line.Refuse(line.Unknown, "there is no disk %q", target)
			}
			return nil, func(conn net.Conn) error { return nbd.Serve(serving, conn, nbd.Export{Name: target, Disk: d}) }, nil
		case wire.CallTaken:
			told = true
			return nil, func(net.Conn) error { end(); return nil }, json.Unmarshal(args, &taken)
		}
		return nil, nil, line.Refuse(line.Unknown, "%q is no call", call)
	}, func(string, error) {}) // the lodge is told of what goes wrong here, and says it
	switch {
	case told && taken.Why != "":
		return taken, fmt.Errorf("no image was made of %s: %s", machine, taken.Why)
	case told:
		return taken, nil
	case ctx.Err() != nil:
		return taken, context.Cause(ctx)
	}
	return taken, errors.Join(fmt.Errorf("the lodge ended before it said what became of %s; look at: keenlodge image list --machine %[1]s", machine), err)
}

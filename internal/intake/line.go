package intake

import (
	"context"
	"errors"
	"io"
	"net"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
	"keenlodge/internal/nbd"
	"keenlodge/internal/store"
	"keenlodge/internal/wire"
)

// Serve takes in what is brought over a connection, and tells the other side what became of it. It ends with the connection.
func (in *Intake) Serve(ctx context.Context, conn net.Conn, o Order) (*image.Manifest, error) {
	if _, err := line.Answer(conn, line.Oldest, line.Newest); err != nil {
		return nil, err
	}
	l, err := line.Over(conn)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	go func() {
		select {
		case <-l.Closed(): // whoever brings it has gone
			end(line.ErrCut)
		case <-ctx.Done():
		}
	}()
	var what wire.Brought
	if err := l.Ask(ctx, wire.CallBrought, nil, &what); err != nil {
		return nil, err
	}
	m, err := in.Take(ctx, o, what, func(ctx context.Context, target string) (store.OpenedDisk, error) {
		stream, err := l.Open(ctx, wire.CallDisk, target, nil)
		if err != nil {
			return nil, err
		}
		opened, err := nbd.Over(ctx, stream, nil, target, "")
		if err != nil {
			return nil, errors.Join(err, stream.Close())
		}
		return brought{opened.Whole(), opened}, nil
	})
	taken := wire.Taken{}
	if err != nil {
		taken.Why = fault.Text(err)
	} else {
		taken.Image, taken.Stored = m.ID, m.Sizes.Stored
	}
	return m, errors.Join(err, l.Ask(context.WithoutCancel(ctx), wire.CallTaken, taken, nil))
}

// brought is a disk that is read whole.
type brought struct {
	disk.Disk
	io.Closer
}

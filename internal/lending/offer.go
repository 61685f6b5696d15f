package lending

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/nbd"
)

// Listen listens at the socket of a disk on this host, in place of whoever did before.
func Listen(socket string) (net.Listener, error) {
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(socket, 0o666); err != nil { // who comes is asked who he is
		return nil, errors.Join(err, listener.Close())
	}
	return listener, nil
}

// Offer serves a disk to who comes and may open the file that lies over it, until nobody can come any more; where idle is not 0, until nobody has been
// there for so long. What goes wrong with somebody is told.
func Offer(ctx context.Context, listener net.Listener, overlay string, export nbd.Export, idle time.Duration, told func(error)) {
	var alone *time.Timer
	if idle > 0 {
		alone = time.AfterFunc(idle, func() { listener.Close() })
		defer alone.Stop()
	}
	var mu sync.Mutex
	here := 0
	count := func(n int) {
		mu.Lock()
		defer mu.Unlock()
		if here += n; alone == nil {
			return
		}
		if here == 0 {
			alone.Reset(idle)
		} else {
			alone.Stop()
		}
	}
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		count(1)
		go func() {
			defer count(-1)
			defer conn.Close()
			if c, is := conn.(*net.UnixConn); is {
				if err := mayHave(c, overlay); err != nil {
					told(err)
					return
				}
			}
			if err := nbd.Serve(ctx, conn, export); err != nil && ctx.Err() == nil {
				told(err)
			}
		}()
	}
}

// mayHave reports why whoever connects may not have a disk: only root may, and the account to which the file belongs that lies over it.
func mayHave(conn *net.UnixConn, overlay string) error {
	raw, err := conn.SyscallConn()
	if err != nil {
		return err
	}
	var peer *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) { peer, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }); err != nil || failed != nil {
		return errors.Join(err, failed)
	}
	st, err := os.Stat(overlay)
	if err != nil {
		return err
	}
	if owner := st.Sys().(*syscall.Stat_t).Uid; peer.Uid != 0 && peer.Uid != owner {
		return fmt.Errorf("an account (%d) that is not that of %s was turned away", peer.Uid, overlay)
	}
	return nil
}

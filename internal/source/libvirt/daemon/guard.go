package daemon

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
)

// ThawLater has the host thaw a guest after a time, whatever becomes of the line, unless end is called before. Only by SSH it can be asked to.
func (c *Conn) ThawLater(ctx context.Context, name string, limit time.Duration) (end func(), err error) {
	w, ok := c.Way.(*SSH)
	if !ok {
		return nil, errors.New("only by SSH a host can be asked to do that")
	}
	return w.guard(ctx, c.path, name, limit)
}

// hostGuard waits on a guest's host, and then thaws the guest by libvirt's own client. Only the word ends it: a line that is cut says nothing.
const hostGuard = `( sleep %d; exec virsh -q -c qemu://%s domfsthaw %s ) >/dev/null 2>&1 </dev/null & command -v virsh >/dev/null && echo waiting; read -r word; [ "$word" = thawed ] && kill $!`

// guard starts a guard on the host. It needs a shell there, and virsh.
func (w *SSH) guard(ctx context.Context, path, name string, limit time.Duration) (end func(), err error) {
	line, err := w.talking.get(ctx, w)
	if err != nil {
		return nil, err
	}
	s, err := line.NewSession()
	if err != nil {
		return nil, fmt.Errorf("it gives no session: %w", err)
	}
	in, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if w.socket != systemSocket {
		path += "?socket=" + w.socket
	}
	if err := s.Start(fmt.Sprintf(hostGuard, int(limit/time.Second), quoted(path), quoted(name))); err != nil {
		s.Close()
		return nil, fmt.Errorf("it runs no command: %w", err)
	}
	said := make(chan bool, 1)
	go func() {
		var word [8]byte
		n, _ := out.Read(word[:])
		said <- string(word[:n]) == "waiting\n"
	}()
	select {
	case ok := <-said:
		if ok {
			return func() { fmt.Fprintln(in, "thawed"); s.Close() }, nil
		}
	case <-time.After(AnswerTime):
	case <-ctx.Done():
	}
	s.Close()
	return nil, errors.New("it has no virsh, or no shell for this account")
}

// quoted is a word as a shell takes it (POSIX, section 2.2.2).
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

package qemu

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"

	"keenlodge/internal/source"
)

const (
	// answerTime is how long QEMU or an agent may take to answer.
	answerTime = 20 * time.Second
	// mostSaid bounds what one answer may have, in bytes.
	mostSaid = 16 << 20
)

// conn is a connection to a QEMU process's machine protocol (QMP; QEMU, docs/interop/qmp-spec) or to the agent in its guest. Both take one client
// at a time, so it is kept no longer than for some commands.
type conn struct {
	net.Conn
	in   *bufio.Reader
	dec  *json.Decoder
	last int
	stop func() bool
}

// refusal is an error that the other side told.
type refusal struct {
	Class string `json:"class"`
	Desc  string `json:"desc"`
}

func (r refusal) Error() string { return r.Desc }

// open connects to a socket. Where nobody listens there is no such guest, or it does not run.
func open(ctx context.Context, socket string) (*conn, error) {
	raw, err := (&net.Dialer{Timeout: answerTime}).DialContext(ctx, "unix", socket)
	switch {
	case errors.Is(err, os.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return nil, fmt.Errorf("%w: nobody listens at %s", source.ErrNoMachine, socket)
	case err != nil:
		return nil, err
	}
	raw.SetDeadline(time.Now().Add(answerTime))
	c := &conn{Conn: raw, in: bufio.NewReader(io.LimitReader(raw, mostSaid))}
	c.dec = json.NewDecoder(c.in)
	c.stop = context.AfterFunc(ctx, func() { raw.Close() })
	return c, nil
}

func (c *conn) close() {
	c.stop()
	c.Conn.Close()
}

// monitor connects to a guest's QMP.
func monitor(ctx context.Context, socket string) (*conn, error) {
	c, err := open(ctx, socket)
	if err != nil {
		return nil, err
	}
	var greeting struct{ QMP *json.RawMessage }
	if err = c.dec.Decode(&greeting); err == nil && greeting.QMP == nil {
		err = errors.New("what listens there does not speak QMP")
	}
	if err == nil {
		err = c.run("qmp_capabilities", nil, nil)
	}
	if err != nil {
		c.close()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			err = fmt.Errorf("%w: another program holds its QMP socket %s, which takes one client at a time; give the lodge one of its own (a second -qmp)", source.ErrBusy, socket)
		}
		return nil, err
	}
	return c, nil
}

// agent connects to the agent of a guest. What it still says to somebody before us is skipped (guest-sync-delimited).
func agent(ctx context.Context, socket string) (*conn, error) {
	c, err := open(ctx, socket)
	if err != nil {
		return nil, err
	}
	c.SetDeadline(time.Now().Add(answerTime / 2))
	id := time.Now().UnixNano() >> 12
	_, err = fmt.Fprintf(c, "\xff{\"execute\":\"guest-sync-delimited\",\"arguments\":{\"id\":%d}}\n", id)
	for err == nil {
		if _, err = c.in.ReadBytes(0xff); err != nil {
			break
		}
		var line []byte
		if line, err = c.in.ReadBytes('\n'); err != nil {
			break
		}
		var said struct{ Return int64 }
		if json.Unmarshal(line, &said) == nil && said.Return == id {
			c.dec = json.NewDecoder(c.in)
			c.SetDeadline(time.Now().Add(answerTime))
			return c, nil
		}
	}
	c.close()
	return nil, fmt.Errorf("%w: the agent does not answer: %w", source.ErrBusy, err)
}

// run carries a command out and decodes what it returns into into, unless that is nil. Events are passed over.
func (c *conn) run(command string, arguments, into any) error {
	c.last++
	request := map[string]any{"execute": command, "id": c.last}
	if arguments != nil {
		request["arguments"] = arguments
	}
	body, err := json.Marshal(request)
	if err == nil {
		_, err = c.Write(append(body, '\n'))
	}
	for err == nil {
		var said struct {
			ID     *int            `json:"id"`
			Return json.RawMessage `json:"return"`
			Error  *refusal        `json:"error"`
		}
		if err = c.dec.Decode(&said); err != nil || said.Return == nil && said.Error == nil || said.ID != nil && *said.ID != c.last {
			continue
		}
		if said.Error != nil {
			return fmt.Errorf("%s: %w", command, *said.Error)
		}
		if into == nil {
			return nil
		}
		return json.Unmarshal(said.Return, into)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = fmt.Errorf("%w within %s", source.ErrUnreachable, answerTime)
	}
	return fmt.Errorf("%s: %w", command, err)
}

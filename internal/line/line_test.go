package line

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The newest version that both speak is taken; without one in common both say which to update.
func TestVersions(t *testing.T) {
	for _, c := range []struct{ agentOld, agentNew, lodgeOld, lodgeNew, want byte }{
		{1, 1, 1, 1, 1}, {1, 2, 1, 1, 1}, {1, 1, 1, 2, 1}, {1, 3, 2, 4, 3}, {2, 2, 1, 3, 2}, {1, 1, 2, 3, 0}, {4, 5, 2, 3, 0},
	} {
		agent, lodge := net.Pipe()
		type got struct {
			version byte
			err     error
		}
		answered := make(chan got)
		go func() {
			v, err := Answer(lodge, c.lodgeOld, c.lodgeNew)
			answered <- got{v, err}
		}()
		v, err := Offer(agent, c.agentOld, c.agentNew)
		other := <-answered
		if c.want == 0 {
			require.ErrorContains(t, err, "update the older of the two", c)
			require.ErrorContains(t, other.err, "update the older of the two", c)
			continue
		}
		require.NoError(t, err, c)
		require.NoError(t, other.err, c)
		require.Equal(t, []byte{c.want, c.want}, []byte{v, other.version}, c)
	}
	agent, lodge := net.Pipe()
	go lodge.Close()
	_, err := Offer(agent, 1, 1)
	require.Error(t, err)
}

// joined is a line whose agent answers with reply.
func joined(t *testing.T, reply Reply) (*Line, chan error) {
	agent, lodge := net.Pipe()
	ended := make(chan error, 1)
	go func() { ended <- Serve(t.Context(), agent, reply, func(string, error) {}) }()
	l, err := Over(lodge)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l, ended
}

// Calls are answered or refused, streams go on after the answer, and a line that is cut ends all that waits on it.
func TestLine(t *testing.T) {
	hang := make(chan struct{})
	l, ended := joined(t, func(_ context.Context, call string, args json.RawMessage) (any, func(net.Conn) error, error) {
		switch call {
		case CallAbout:
			return About{Host: "gate-07"}, nil, nil
		case CallRead:
			var r Read
			if err := json.Unmarshal(args, &r); err != nil {
				return nil, nil, err
			}
			return nil, func(c net.Conn) error { _, err := io.WriteString(c, strings.Repeat(r.Target, 1000)); return err }, nil
		case CallBegin:
			return nil, nil, Refuse(Busy, "another capture is open\x07")
		case CallMounts:
			<-hang
		}
		return nil, nil, errors.New("odd")
	})
	ctx := t.Context()
	var a About
	require.NoError(t, l.Ask(ctx, CallAbout, nil, &a))
	require.Equal(t, "gate-07", a.Host)
	s, err := l.Open(ctx, CallRead, Read{Target: "sda"}, nil)
	require.NoError(t, err)
	body, err := io.ReadAll(s)
	require.NoError(t, err)
	require.Equal(t, strings.Repeat("sda", 1000), string(body))
	err = l.Ask(ctx, CallBegin, Begin{}, nil)
	var refused *Refusal
	require.ErrorAs(t, err, &refused)
	require.Equal(t, Busy, refused.Kind)
	require.Equal(t, "another capture is open", strings.Trim(refused.Text, "\uFFFD ·?"))
	require.EqualError(t, l.Ask(ctx, "nonsense", nil, nil), "odd")
	short, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, l.Ask(short, CallMounts, nil, nil), context.DeadlineExceeded)
	waiting := make(chan error)
	go func() { waiting <- l.Ask(ctx, CallMounts, nil, nil) }()
	require.NoError(t, l.Ask(ctx, CallAbout, nil, nil))
	l.Close()
	require.ErrorIs(t, <-waiting, ErrCut)
	require.ErrorIs(t, <-ended, ErrCut)
	require.ErrorIs(t, l.Ask(ctx, CallAbout, nil, nil), ErrCut)
	close(hang)
}

// A frame that lies about its length takes no memory and ends its stream.
func FuzzFrame(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x02{}"))
	f.Add([]byte("\x00\x3f\xff\xff{"))
	f.Add([]byte("\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var a answer
		if readFrame(strings.NewReader(string(b)), &a) == nil {
			require.LessOrEqual(t, len(a.Result), len(b))
		}
	})
}

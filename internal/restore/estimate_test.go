package restore

import (
	"bytes"
	"io"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// What earlier restores onto the same moved in the time that they wrote says how fast that goes; other targets, kinds and failures say nothing, and
// neither does too little.
func TestEarlierRestores(t *testing.T) {
	rec, ctx := recordstest.Open(t), t.Context()
	rs := &Restores{rec: rec}
	for i, c := range []struct {
		kind          run.Kind
		onto, machine string
		state         run.State
		done          int64
		step          string
	}{
		{run.Restore, "quay-1", "", run.Done, 400 << 20, "writing vda"},
		{run.Restore, "quay-1", "", run.Done, 800 << 20, "writing vda"},
		{run.Restore, "quay-1", "", run.Failed, 9000 << 20, "writing vda"},
		{run.Restore, "quay-1", "", run.Done, 9 << 20, "writing vda"},
		{run.Restore, "pier-2", "", run.Done, 9000 << 20, "writing vda"},
		{run.Restore, "quay-1", "", run.Done, 9000 << 20, "starting guest"},
		{run.Restore, "quay-1", "", run.Done, 9000 << 20, "pulling the rest behind it"},
		{run.Backup, "quay-1", "", run.Done, 9000 << 20, "writing vda"},
		{run.Files, "servers", "u-7", run.Warned, 100 << 20, "writing"},
		{run.Files, "servers", "u-8", run.Done, 9000 << 20, "writing"},
	} {
		id := string(rune('a'+i)) + "0000000"
		require.NoError(t, rec.QueueRun(ctx, records.Run{ID: id, Kind: c.kind, Cause: run.Hand, Made: time.Now()}))
		task, err := rec.AddTask(ctx, records.Task{Run: id, Machine: "m", MachineID: c.machine, Hypervisor: c.onto})
		require.NoError(t, err)
		task.State, task.Done = c.state, c.done
		task.Steps = []records.TaskStep{{Name: c.step, Took: int64(4 * time.Second)}, {Name: "storing", Took: int64(time.Hour)}}
		if c.step == "pulling the rest behind it" {
			task.Steps = append([]records.TaskStep{{Name: "writing vda", Took: int64(time.Millisecond)}}, task.Steps...)
		}
		require.NoError(t, rec.SaveTask(ctx, task))
	}
	p, err := rs.went(ctx, "hypervisor quay-1", run.Restore, "quay-1", "")
	require.NoError(t, err)
	require.Equal(t, 200.0*(1<<20), p.Speed)
	p, err = rs.went(ctx, "machine gate-07", run.Files, "servers", "u-7")
	require.NoError(t, err)
	require.Equal(t, 25.0*(1<<20), p.Speed)
	p, err = rs.went(ctx, "machine gate-09", run.Files, "servers", "u-9")
	require.NoError(t, err)
	require.Zero(t, p.Speed)
}

// What can't be read is an error, what is too little to tell is not.
func TestMeasuring(t *testing.T) {
	speed, err := measure(bytes.NewReader(make([]byte, 900<<10)))
	require.NoError(t, err)
	require.Zero(t, speed)
	speed, err = measure(&drip{most: 3 << 20})
	require.NoError(t, err)
	require.Greater(t, speed, float64(1<<20))
	_, err = measure(iotest.TimeoutReader(bytes.NewReader(make([]byte, 9<<20))))
	require.ErrorIs(t, err, iotest.ErrTimeout)
}

// drip gives its bytes in a few milliseconds.
type drip struct{ most, given int }

func (d *drip) Read(p []byte) (int, error) {
	time.Sleep(2 * time.Millisecond)
	n := min(len(p), d.most-d.given)
	if n == 0 {
		return 0, io.EOF
	}
	d.given += n
	return n, nil
}

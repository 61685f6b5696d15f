package standin

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
)

// State is how a task stands.
type State string

// What a task may be.
const (
	Going  State = "going"
	Done   State = "done"
	Failed State = "failed"
)

// Task is something that takes time, with the thing that it is about. Result is what it made, Error why it failed.
type Task struct {
	ID     string          `json:"id"`
	Call   string          `json:"call"`
	About  string          `json:"about"`
	State  State           `json:"state"`
	Result json.RawMessage `json:"result,omitempty"`
	Error  string          `json:"error,omitempty"`
}

// mostTasks is how many tasks that are over are remembered.
const mostTasks = 1000

// Task answers a call with a task that goes on by itself; about is the part of the path that names the thing that it is about. prepare looks at what is asked for, and returns what does it: that changes something by [Frame.Do].
func (f *Frame) Task(name, method, path, about string, prepare func(r *http.Request) (act func(ctx context.Context) (any, error), err error)) {
	f.handle(name, method, path, func(_ http.ResponseWriter, r *http.Request, pretend bool) (any, error) {
		f.mu.Lock()
		act, err := prepare(r)
		f.mu.Unlock()
		if err != nil {
			return nil, err
		}
		stuck := f.faults.next(name+work).Do == Stuck
		begun := Task{ID: NewID(), Call: name, About: Param(r, about), State: Going}
		if err := f.Do(func() error { return f.tasks.Put(begun.ID, begun) }); err != nil {
			return nil, err
		}
		f.going.Go(func() {
			if !sleep(f.ctx, f.Pace) {
				return // it is told as failed at the next start
			}
			var out any
			var err error
			t := begun // which is being answered meanwhile
			switch {
			case stuck:
				err = Refuse(http.StatusConflict, "the storage does not let it happen now")
			case !pretend:
				out, err = act(f.ctx)
			}
			t.State = Done
			if err == nil && out != nil {
				t.Result, err = json.Marshal(out)
			}
			if err != nil {
				t.State, t.Error = Failed, err.Error()
			}
			_ = f.Do(func() error { return f.end(t) }) // where its disk is full it stays as it was, until the next start
		})
		return begun, nil
	})
}

// end records how a task ended, and forgets old ones.
func (f *Frame) end(t Task) error {
	if err := f.tasks.Put(t.ID, t); err != nil {
		return err
	}
	if len(f.tasks.rows) <= mostTasks {
		return nil
	}
	all := slices.DeleteFunc(f.tasks.All(), func(o Task) bool { return o.State == Going || o.ID == t.ID })
	for _, o := range all[:len(all)/2] {
		if err := f.tasks.Delete(o.ID); err != nil {
			return err
		}
	}
	return nil
}

// abandon tells tasks as failed that were going when the process ended.
func (f *Frame) abandon() error {
	return f.Do(func() error {
		for _, t := range f.tasks.All() {
			if t.State != Going {
				continue
			}
			t.State, t.Error = Failed, "the system was restarted meanwhile; how far it came is not known"
			if err := f.tasks.Put(t.ID, t); err != nil {
				return err
			}
		}
		return nil
	})
}

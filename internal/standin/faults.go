package standin

import (
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
)

// Doing is what goes wrong.
type Doing string

// What may go wrong with a call. Nothing answers as if it had been done, and does nothing. Stuck is for tasks: it ends as failed.
const (
	Refused   Doing = "refuse"
	Hang      Doing = "hang"
	Slow      Doing = "slow"
	Nothing   Doing = "nothing"
	Stuck     Doing = "stuck"
	DieBefore Doing = "die before"
	DieAfter  Doing = "die after"
)

// work ends what the work of a task is called, which a fault has to name.
const work = " work"

// Fault has a call go wrong: the After-th from now on and the Times-1 that follow it; Times 0 is once, and -1 is each. Call "" is any call.
type Fault struct {
	Call    string  `json:"call"`
	Do      Doing   `json:"do"`
	After   int     `json:"after,omitempty"`
	Times   int     `json:"times,omitempty"`
	Seconds float64 `json:"seconds,omitempty"`
}

// faults are those that were asked for, and how often each call came.
type faults struct {
	mu    sync.Mutex
	armed []Fault
	calls map[string]int
}

func (f *faults) add(x Fault) error {
	if !slices.Contains([]Doing{Refused, Hang, Slow, Nothing, Stuck, DieBefore, DieAfter}, x.Do) {
		return Refuse(http.StatusBadRequest, "a fault does not %q", x.Do)
	}
	if x.Times == 0 {
		x.Times = 1
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.armed = append(f.armed, x)
	return nil
}

func (f *faults) clear() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.armed = nil
}

// next counts a call, and tells how it goes wrong.
func (f *faults) next(call string) (out Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.calls == nil {
		f.calls = map[string]int{}
	}
	f.calls[call]++
	left := f.armed[:0]
	for _, x := range f.armed {
		if x.Call == call || x.Call == "" && !strings.HasSuffix(call, work) {
			switch {
			case x.After > 0:
				x.After--
			case out.Do == "":
				if out = x; x.Times > 0 {
					x.Times--
				}
			}
		}
		if x.Times != 0 {
			left = append(left, x)
		}
	}
	f.armed = left
	return out
}

func (f *faults) counts() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return maps.Clone(f.calls)
}

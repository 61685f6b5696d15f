package lodge

import (
	"sync"

	"keenlodge/internal/records"
)

// Event tells that something changed: a run, with how it stands now, many runs, an image or the site.
type Event struct {
	Kind string       `json:"kind" enum:"run,runs,image,site"`
	Run  *records.Run `json:"run,omitempty"`
}

// hub passes events on to those who listen in this process.
type hub struct {
	mu        sync.Mutex
	listeners map[chan Event]bool
}

// backlog is how many events a listener may be behind before it is cut off; it then begins again with the whole picture.
const backlog = 256

func (h *hub) send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.listeners {
		select {
		case ch <- e:
		default:
			delete(h.listeners, ch)
			close(ch)
		}
	}
}

// Listen gives a channel of events and a function that ends it. The channel is closed when the listener is too slow.
func (l *Lodge) Listen() (<-chan Event, func()) {
	ch := make(chan Event, backlog)
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	if l.hub.listeners == nil {
		l.hub.listeners = map[chan Event]bool{}
	}
	l.hub.listeners[ch] = true
	return ch, func() {
		l.hub.mu.Lock()
		defer l.hub.mu.Unlock()
		if l.hub.listeners[ch] {
			delete(l.hub.listeners, ch)
			close(ch)
		}
	}
}

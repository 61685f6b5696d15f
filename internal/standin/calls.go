package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
)

// Refusal is an answer that says why something is not done, with its status of HTTP (RFC 9110, section 15).
type Refusal struct {
	Status int    `json:"-"`
	Text   string `json:"error"`
}

func (r Refusal) Error() string { return r.Text }

// Refuse makes one.
func Refuse(status int, format string, args ...any) error {
	return Refusal{status, fmt.Sprintf(format, args...)}
}

// Param is a part of a call's path.
func Param(r *http.Request, name string) string { return chi.URLParam(r, name) }

// Body reads what a caller sent as JSON.
func Body[T any](r *http.Request) (out T, err error) {
	in := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20))
	in.DisallowUnknownFields()
	if err := in.Decode(&out); err != nil && !errors.Is(err, io.EOF) {
		return out, Refuse(http.StatusBadRequest, "what was sent can't be read: %v", err)
	}
	return out, nil
}

// Get answers a call that changes nothing. name is what faults and counts call it.
func (f *Frame) Get(name, path string, answer func(r *http.Request) (any, error)) {
	f.handle(name, http.MethodGet, path, func(w http.ResponseWriter, r *http.Request, _ bool) (any, error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		return answer(r)
	})
}

// Change answers a call that changes something at once: either all that it does, or, where it fails, nothing.
func (f *Frame) Change(name, method, path string, answer func(r *http.Request) (any, error)) {
	f.handle(name, method, path, func(_ http.ResponseWriter, r *http.Request, pretend bool) (out any, err error) {
		return out, f.transact(pretend, func() (err error) {
			out, err = answer(r)
			return err
		})
	})
}

// Stream answers a call that reads what is sent, or sends much: it locks by [Frame.Do] what it needs.
func (f *Frame) Stream(name, method, path string, answer func(w http.ResponseWriter, r *http.Request) (any, error)) {
	f.handle(name, method, path, func(w http.ResponseWriter, r *http.Request, pretend bool) (any, error) {
		if pretend {
			_, err := io.Copy(io.Discard, r.Body)
			return struct{}{}, err
		}
		return answer(w, r)
	})
}

// Do changes something, all or nothing.
func (f *Frame) Do(change func() error) error { return f.transact(false, change) }

func (f *Frame) transact(pretend bool, change func() error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := change(); err != nil || pretend {
		f.Journal.rollBack()
		return err
	}
	return f.Journal.commit()
}

// handle adds a call: it is counted, paced, signed in for, and fails where that was asked for.
func (f *Frame) handle(name, method, path string, answer func(w http.ResponseWriter, r *http.Request, pretend bool) (any, error)) {
	f.router.Method(method, path, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fault := f.faults.next(name)
		if f.limit != nil && !f.limit.Allow() {
			w.Header().Set("Retry-After", "1")
			write(w, nil, Refuse(http.StatusTooManyRequests, "more than %g calls in a second; ask again in a second", f.Rate))
			return
		}
		if err := f.sessions.check(r); err != nil {
			write(w, nil, err)
			return
		}
		switch fault.Do {
		case Refused:
			write(w, nil, Refuse(http.StatusServiceUnavailable, "%s is not to be had just now", name))
			return
		case Hang:
			<-r.Context().Done()
			return
		case DieBefore:
			os.Exit(9)
		case Slow:
			if !sleep(r.Context(), time.Duration(fault.Seconds*float64(time.Second))) {
				return
			}
		}
		out, err := answer(w, r, fault.Do == Nothing)
		if fault.Do == DieAfter {
			os.Exit(9)
		}
		write(w, out, err)
	}))
}

func sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

// write answers with JSON.
func write(w http.ResponseWriter, out any, err error) {
	status := http.StatusOK
	if err != nil {
		refusal := Refusal{http.StatusInternalServerError, err.Error()}
		errors.As(err, &refusal)
		status, out = refusal.Status, refusal
	}
	if out == nil {
		return // it was sent
	}
	body, err := json.Marshal(out)
	if err != nil {
		status, body = http.StatusInternalServerError, []byte(`{"error":"the answer can't be written"}`)
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(status)
	w.Write(body)
}

// NewID draws an ID.
func NewID() string { return uuid.NewString() }

// own adds what every stand-in answers.
func (f *Frame) own() {
	f.router.Post("/session", func(w http.ResponseWriter, r *http.Request) {
		out, err := f.sessions.begin(r, f.Session)
		write(w, out, err)
	})
	f.Get("task.show", "/tasks/{task}", func(r *http.Request) (any, error) { return f.tasks.Get(Param(r, "task")) })
	f.Get("task.list", "/tasks", func(r *http.Request) (any, error) {
		about := r.URL.Query().Get("about")
		return slices.DeleteFunc(f.tasks.All(), func(t Task) bool { return t.State != Going || about != "" && t.About != about }), nil
	})
	// What follows is for whoever tries something out: no real system has it.
	f.router.Post("/faults", func(w http.ResponseWriter, r *http.Request) {
		asked, err := Body[Fault](r)
		if err == nil {
			err = errors.Join(f.sessions.check(r), f.faults.add(asked))
		}
		write(w, struct{}{}, err)
	})
	f.router.Delete("/faults", func(w http.ResponseWriter, r *http.Request) {
		f.faults.clear()
		write(w, struct{}{}, f.sessions.check(r))
	})
	f.router.Get("/calls", func(w http.ResponseWriter, r *http.Request) { write(w, f.faults.counts(), nil) })
}

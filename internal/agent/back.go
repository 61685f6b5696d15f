package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net"
	"time"

	"keenlodge/internal/ahead"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/line"
	"keenlodge/internal/unpack"
)

// planPatience is how long a plan is kept that nobody has carried out.
const planPatience = 15 * time.Minute

// planned is the plan that was made last.
type planned struct {
	*unpack.Restore
	at time.Time
}

// place is where files go back to on this server.
func (a *Agent) place() unpack.Place {
	return unpack.Place{Root: a.offer.Files.Root, Writable: a.offer.Writable, Folder: a.folder}
}

// plan plans that files go back.
func (a *Agent) plan(ctx context.Context, args json.RawMessage) (any, func(net.Conn) error, error) {
	o, err := with(args, func(o back.Order) (back.Order, error) { return o, nil })
	if err != nil {
		return nil, nil, err
	}
	return nil, func(conn net.Conn) error {
		chunks := &line.Chunks{R: conn}
		list, err := files.NewListReader(chunks)
		var r *unpack.Restore
		if err == nil {
			r, err = a.place().Plan(ctx, o, list)
		}
		if err != nil { // the lodge reads no answer before all of the list has gone out
			io.Copy(io.Discard, chunks)
		}
		out := bufio.NewWriterSize(conn, 64<<10)
		to := json.NewEncoder(out)
		if err != nil {
			to.Encode(line.Planned{Failed: err.Error()})
			return out.Flush()
		}
		a.mu.Lock()
		a.planned = &planned{r, time.Now()}
		a.mu.Unlock()
		for i := range r.Steps {
			if err := to.Encode(line.Planned{Step: &r.Steps[i]}); err != nil {
				return err
			}
		}
		if err := to.Encode(line.Planned{Sum: &line.PlanSum{Digest: r.Digest(), Counts: r.Counts, Short: r.Short}}); err != nil {
			return err
		}
		return out.Flush()
	}, nil
}

// put carries a plan out.
func (a *Agent) put(ctx context.Context, args json.RawMessage) (any, func(net.Conn) error, error) {
	p, err := with(args, func(p line.Put) (line.Put, error) { return p, nil })
	if err != nil {
		return nil, nil, err
	}
	a.mu.Lock()
	r := a.planned
	if r == nil || r.Order.ID != p.ID || r.Digest() != p.Digest || time.Since(r.at) > planPatience {
		r = nil
	} else if a.putting != "" {
		err = line.Refuse(line.Busy, "files go back to it just now, for restore %s", a.putting)
	} else {
		a.planned, a.putting = nil, p.ID
	}
	a.mu.Unlock()
	if r == nil {
		return nil, nil, line.Refuse(line.Unknown, "there is no such plan for restore %s", p.ID)
	}
	if err != nil {
		return nil, nil, err
	}
	return nil, func(conn net.Conn) error {
		defer a.putDone()
		in := ahead.New(conn, 512<<10, 6) // what comes is taken while what came is written
		defer in.Close()
		return tell(conn, func(told func(back.Progress)) (back.Done, error) { return r.Put(ctx, files.NewReader(in), told) })
	}, nil
}

func (a *Agent) putDone() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.putting = ""
}

// undo takes a restore back.
func (a *Agent) undo(ctx context.Context, args json.RawMessage) (any, func(net.Conn) error, error) {
	id, err := with(args, func(id string) (string, error) { return id, nil })
	if err != nil {
		return nil, nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.putting != "" {
		return nil, nil, line.Refuse(line.Busy, "files go back to it just now, for restore %s", a.putting)
	}
	a.putting = id
	return nil, func(conn net.Conn) error {
		defer a.putDone()
		return tell(conn, func(told func(back.Progress)) (back.Done, error) { return a.place().Undo(ctx, id, told) })
	}, nil
}

// tell carries something out, and tells how far it has come and what came of it.
func tell(conn net.Conn, do func(told func(back.Progress)) (back.Done, error)) error {
	to := json.NewEncoder(conn)
	done, err := do(func(p back.Progress) { to.Encode(line.Told{Progress: &p}) })
	last := line.Told{Done: &done}
	if err != nil {
		last.Failed = err.Error()
	}
	return to.Encode(last)
}

// tidyRestores removes what restores left that died, and what is held no longer.
func (a *Agent) tidyRestores() {
	a.mu.Lock()
	putting := a.putting
	a.mu.Unlock()
	found, err := a.place().Tidy(time.Now(), func(id string) bool { return id == putting })
	if len(found) > 0 || err != nil {
		a.log.Warn("tidied up after restores", "found", found, "error", err)
	}
}

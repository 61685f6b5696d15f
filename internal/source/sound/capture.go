package sound

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/export"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/receive"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// patience is how long a capture waits for a line that was cut.
const patience = 10 * time.Minute

// capture is an export that lies on the appliance, to be brought here.
type capture struct {
	a        *Appliance
	ctx      context.Context // until it is closed
	stop     context.CancelFunc
	r        source.Request
	node     node
	export   exported
	told     export.Told
	warnings []string
	healthy  bool
	began    bool // from here on something may be there
	from     *io.PipeReader
	asked    sync.Once // to have the content come
}

func (c *capture) Disks() []source.CapturedDisk { return nil }
func (c *capture) Definition() string           { return c.told.Definition() }
func (c *capture) Firmware() []image.Firmware   { return nil }
func (c *capture) Warnings() []string           { return slices.Clone(c.warnings) }
func (c *capture) Checkpoints() []string        { return nil }

// Consistency implements [source.Capture]: it is the application's own where its database was whole.
func (c *capture) Consistency() (image.Consistency, time.Duration) {
	if c.healthy {
		return image.Application, 0
	}
	return image.Crash, 0
}

// Capture implements [source.Capturer].
func (a *Appliance) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	if r.Files == nil || !r.Files.Export {
		return nil, fmt.Errorf("%s is an appliance, which hands out exports of itself and nothing else; have it covered by a policy of scope export, and leave it out of others (except)", r.Machine)
	}
	c := &capture{a: a, r: r}
	c.ctx, c.stop = context.WithCancel(ctx)
	if err := c.begin(ctx); err != nil {
		return nil, errors.Join(err, c.Close(context.WithoutCancel(ctx), false, nil))
	}
	return c, nil
}

func (c *capture) begin(ctx context.Context) error {
	phrases, err := c.a.passphrases()
	if err != nil {
		return err
	}
	dead, err := c.a.marks(ctx)
	if err == nil {
		c.warnings, err = c.r.ClearDead(ctx, c.a, dead)
	}
	if err != nil {
		return err
	}
	var is about
	if c.node, is, err = c.a.machine(ctx, c.r.Machine); err != nil {
		return err
	}
	if id := rest.Identity(is.ID); c.r.UUID != "" && id != c.r.UUID {
		return fmt.Errorf("appliance %s: %w here with ID %s; the one of that name has %s", c.r.Machine, source.ErrNoMachine, c.r.UUID, plain.Text(id, 100))
	}
	if err := c.check(ctx); err != nil {
		return err
	}
	has, err := c.node.parts(ctx)
	if err != nil {
		return err
	}
	c.told = is.told()
	parts, left, err := export.Choose(has, c.r.Files.Parts, c.r.Files.LeaveOut)
	if err != nil {
		return err
	}
	var names []string
	size := int64(0)
	for _, p := range parts {
		names, size = append(names, p.Name), size+p.Bytes
	}
	if size > is.Free {
		return fmt.Errorf("its parts are of %s, and node %s has room for exports of %s; remove old exports there, or leave parts out that are optional", humanize.IBytes(uint64(size)), c.told.Node, humanize.IBytes(uint64(max(0, is.Free))))
	}
	c.told.By, c.told.LeftOut, c.told.File = "schedule", left, c.r.Machine+".tar.age"
	if c.r.ByHand {
		c.told.By = "hand"
	}
	c.began = true
	asked := map[string]any{"by": c.told.By, "about": fmt.Sprintf("Keen Lodge, policy %s, run %s", c.r.Policy, c.r.Run), "parts": names, "passphrase": phrases[0]}
	if err := c.node.Task(ctx, exportTime, http.MethodPost, rest.Path("exports", marked+c.r.ID), asked, &c.export); err != nil {
		return fmt.Errorf("appliance %s: export it: %w", c.r.Machine, turned(err))
	}
	if err := c.look(ctx); err != nil {
		return err
	}
	if c.told.Parts, err = clean(c.export.Parts); err != nil {
		return err
	}
	for _, name := range names {
		if !slices.ContainsFunc(c.told.Parts, func(p export.Part) bool { return p.Name == name }) {
			return fmt.Errorf("appliance %s: part %q is not in the export, though it was asked for", c.r.Machine, name)
		}
	}
	c.told.Bytes, c.told.SHA256 = c.export.Bytes, strings.ToLower(plain.Text(c.export.SHA256, 100))
	return nil
}

// check has the appliance check its own database, as far as that is asked for.
func (c *capture) check(ctx context.Context) error {
	if c.r.Quiesce == machine.NoFreeze {
		return nil
	}
	var found struct {
		Healthy bool     `json:"healthy"`
		Found   []string `json:"found"`
	}
	err := c.node.Task(ctx, taskTime, http.MethodPost, "/health", nil, &found)
	if c.healthy = err == nil && found.Healthy; c.healthy {
		return nil
	}
	if err == nil {
		err = errors.New(plain.Text(strings.Join(found.Found, "; "), mostWords))
	}
	err = fmt.Errorf("the check of the database of %s did not find it whole: %w", c.r.Machine, err)
	if c.r.Quiesce == machine.Required {
		return fmt.Errorf("%w; with quiesce \"preferred\" it is exported as it is", err)
	}
	c.warnings = append(c.warnings, err.Error()+"; it was exported as it is")
	return nil
}

// look makes sure that the export is there: an answer alone is none.
func (c *capture) look(ctx context.Context) error {
	for until := time.Now().Add(lateTime); ; {
		all, err := c.node.exports(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(e exported) bool { return e.Mark == marked+c.r.ID })
		if i >= 0 && all[i].ID == c.export.ID && all[i].Bytes > 0 {
			return nil
		}
		if time.Now().After(until) {
			return fmt.Errorf("appliance %s: it says that it has exported itself, and there is no export of mark %s", c.r.Machine, marked+c.r.ID)
		}
		if err := rest.Wait(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

func (n node) exports(ctx context.Context) (out []exported, err error) {
	if err := n.Call(ctx, http.MethodGet, "/exports", nil, &out); err != nil {
		return nil, fmt.Errorf("list the exports that lie there: %w", err)
	}
	return out, nil
}

// marks lists the IDs of captures whose exports lie on the nodes that answer.
func (a *Appliance) marks(ctx context.Context) (ids []string, err error) {
	for _, n := range a.nodes {
		all, err := n.exports(ctx)
		if errors.Is(err, source.ErrUnreachable) {
			continue // what lies there is cleared when it answers again
		}
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			if id, ok := strings.CutPrefix(e.Mark, marked); ok && !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	return ids, nil
}

// Archive implements [source.Archiver]: it has one file. Nothing comes before it is read.
func (c *capture) Archive() (io.Reader, bool, string, int64) {
	return archive{c}, false, "an export holds all of its appliance", c.told.Bytes
}

type archive struct{ c *capture }

func (a archive) Read(p []byte) (int, error) {
	a.c.asked.Do(func() {
		from, to := io.Pipe()
		a.c.from = from
		go func() { to.CloseWithError(a.c.write(to)) }()
	})
	return a.c.from.Read(p)
}

// write writes the archive: what comes has to be what the appliance said.
func (c *capture) write(to io.Writer) error {
	w := files.NewWireWriter(to)
	if err := w.Entry(&files.Entry{Path: c.told.File, Kind: files.File, Mode: 0o600, Modified: time.Now(), Size: c.told.Bytes, Digest: c.told.SHA256}); err != nil {
		return err
	}
	content := &counted{to: w, most: c.told.Bytes, sum: sha256.New()}
	err := c.bring(content)
	switch sum := hex.EncodeToString(content.sum.Sum(nil)); {
	case err != nil:
		return fmt.Errorf("appliance %s: %w", c.r.Machine, err)
	case content.n != c.told.Bytes:
		return fmt.Errorf("appliance %s: %d of the %d bytes came that its export has", c.r.Machine, content.n, c.told.Bytes)
	case sum != c.told.SHA256:
		return fmt.Errorf("appliance %s: what came is not its export: its SHA-256 is %s, and the appliance says %s", c.r.Machine, sum, c.told.SHA256)
	}
	return w.Close(files.Last{Whole: []string{"."}})
}

// bring has the content come, by the way that the settings say.
func (c *capture) bring(to *counted) error {
	if by := c.a.settings.By; by != "" && by != export.Read {
		return c.receive(by, to)
	}
	for begun := time.Now(); ; {
		at := to.n
		_, err := c.node.Fetch(c.ctx, rest.Path("exports", c.export.ID, "content")+fmt.Sprintf("?from=%d", at), to)
		if to.n > at {
			begun = time.Now()
		}
		if rest.Is(err, http.StatusConflict) {
			return turned(err)
		}
		if err == nil || to.failed != nil || c.ctx.Err() != nil || !errors.Is(err, source.ErrUnreachable) && !errors.Is(err, source.ErrBusy) || time.Since(begun) > patience {
			return errors.Join(to.failed, err)
		}
		if c.r.Tell != nil {
			c.r.Tell("the line to %s was cut after %d bytes of its export; it is tried again for %s", c.r.Machine, to.n, patience)
		}
		if err := rest.Wait(c.ctx, time.Second); err != nil {
			return err
		}
	}
}

// turned has a refusal of a node that is active no more be one that may pass: another try finds the one that is.
func turned(err error) error {
	if rest.Is(err, http.StatusConflict) {
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	}
	return err
}

// receive has the appliance push the export.
func (c *capture) receive(by export.Way, to *counted) error {
	offer, err := receive.New(c.ctx, by, c.a.settings.Listen)
	if err != nil {
		return err
	}
	defer offer.Close()
	go func() {
		err := c.node.Task(c.ctx, exportTime, http.MethodPost, rest.Path("exports", c.export.ID, "send"), map[string]string{"to": offer.To, "name": offer.Name, "secret": offer.Secret, "known_by": offer.KnownBy}, nil)
		if err == nil {
			err = errors.New("it says that it has sent its export, and nothing came")
		}
		offer.Fail(turned(err)) // which is nothing where all of it has come
	}()
	_, err = io.Copy(to, offer)
	return errors.Join(to.failed, err)
}

// counted passes on what comes, up to a length.
type counted struct {
	to      io.Writer
	n, most int64
	sum     interface {
		io.Writer
		Sum([]byte) []byte
	}
	failed error
}

func (c *counted) Write(p []byte) (n int, err error) {
	if c.n+int64(len(p)) > c.most {
		c.failed = fmt.Errorf("more came than the %d bytes that its export has", c.most)
		return 0, c.failed
	}
	if n, err = c.to.Write(p); err != nil {
		c.failed = err
	}
	c.sum.Write(p[:n])
	c.n += int64(n)
	return n, err
}

// Close implements [source.Capture].
func (c *capture) Close(ctx context.Context, _ bool, _ []string) error {
	c.stop()
	if c.from != nil {
		c.from.CloseWithError(errors.New("the capture has ended"))
	}
	if !c.began {
		return nil
	}
	ctx, done := context.WithTimeout(ctx, taskTime)
	defer done()
	if c.export.ID == "" { // whether one was made is not known
		_, err := c.a.Clear(ctx, c.r.Machine, c.r.ID, false)
		c.began = err != nil
		return err
	}
	err := c.node.remove(ctx, c.export.ID)
	c.began = err != nil
	return err
}

// remove removes an export, and looks whether it is gone.
func (n node) remove(ctx context.Context, id string) error {
	err := n.Call(ctx, http.MethodDelete, rest.Path("exports", id), nil, nil)
	if err != nil && !rest.Is(err, http.StatusNotFound) {
		return fmt.Errorf("remove export %s: %w", id, err)
	}
	all, err := n.exports(ctx)
	if err == nil && slices.ContainsFunc(all, func(e exported) bool { return e.ID == id }) {
		err = fmt.Errorf("export %s was removed, and is there still", id)
	}
	return err
}

// Clear implements [source.Capturer]: what a capture left is on one node or the other.
func (a *Appliance) Clear(ctx context.Context, _, id string, _ bool) (found []string, err error) {
	var errs []error
	for _, n := range a.nodes {
		if err := n.settled(ctx, marked+id); err != nil {
			errs = append(errs, err)
			continue
		}
		all, err := n.exports(ctx)
		errs = append(errs, err)
		for _, e := range all {
			if e.Mark == marked+id {
				found = append(found, fmt.Sprintf("an export of %s on node %s", humanize.IBytes(uint64(max(0, e.Bytes))), plain.Text(e.Node, 100)))
				errs = append(errs, n.remove(ctx, e.ID))
			}
		}
	}
	return found, errors.Join(errs...)
}

// settled waits until nothing is going on about a mark: what a dead process asked for may still come to be.
func (n node) settled(ctx context.Context, mark string) error {
	for {
		var going []struct{}
		if err := n.Call(ctx, http.MethodGet, "/tasks?about="+mark, nil, &going); err != nil {
			return err
		}
		if len(going) == 0 {
			return nil
		}
		if err := rest.Wait(ctx, 200*time.Millisecond); err != nil {
			return fmt.Errorf("what was asked for by mark %s is still going on: %w", mark, err)
		}
	}
}

// Checkpoints implements [source.Capturer]: exports hold all, and build on nothing.
func (*Appliance) Checkpoints(context.Context, string) ([]string, error) { return nil, nil }

// DropCheckpoints implements [source.Capturer].
func (*Appliance) DropCheckpoints(_ context.Context, _ string, ids []string) ([]string, error) {
	return ids, nil
}

// Thaw implements [source.Capturer]: nothing is frozen.
func (*Appliance) Thaw(context.Context, string) error { return nil }

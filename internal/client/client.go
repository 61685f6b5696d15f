// Package client is the typed client of the lodge's HTTP interface, for the command line and the tests.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/nbd"
	"keenlodge/internal/pinned"
	"keenlodge/internal/wire"
)

// Client talks to a lodge.
type Client struct {
	url, token string
	http       http.Client
	upgrade    string // what a request asks to go on as, "" for nothing
	// Reason is why what is done is done; the trail keeps it. "" for no reason given.
	Reason string
}

// New makes a client of the lodge at url, such as http://127.0.0.1:7433.
func New(url, token string) *Client { return &Client{url: strings.TrimSuffix(url, "/"), token: token} }

// Problem is an error that the lodge told (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return text
}

// call makes a request and decodes the answer into out, which may be nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var content io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		content = bytes.NewReader(b)
	}
	r, err := c.send(ctx, method, path, content)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(r.Body).Decode(out); err != nil {
		return fmt.Errorf("answer of %s %s: %w", method, c.url+path, err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, content io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, content)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if c.Reason != "" {
		req.Header.Set("Keenlodge-Reason", c.Reason)
	}
	if content != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.upgrade != "" {
		req.Header.Set("Connection", "Upgrade")
		req.Header.Set("Upgrade", c.upgrade)
	}
	r, err := c.http.Do(req)
	if err != nil {
		var unknown *pinned.Unknown
		var wrong *pinned.Wrong
		switch { // somebody answers, but who?
		case errors.As(err, &unknown):
			return nil, unknown
		case errors.As(err, &wrong):
			return nil, wrong
		}
		var e *url.Error
		if errors.As(err, &e) && ctx.Err() == nil {
			return nil, fmt.Errorf("no lodge answers at %s: %w; is \"keenlodge serve\" running, and is KEENLODGE_URL right?", c.url, e.Err)
		}
		return nil, err
	}
	if r.StatusCode < 400 {
		return r, nil
	}
	defer r.Body.Close()
	p := &Problem{Status: r.StatusCode, Title: r.Status}
	if body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20)); err == nil {
		json.Unmarshal(body, p) // what is not a problem document leaves the status as the words
	}
	return nil, p
}

func list[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	var out []T
	return out, c.call(ctx, http.MethodGet, path, nil, &out)
}

// mostAtOnce is how many rows a page has where all are asked for.
const mostAtOnce = 500

// pages reads a list page by page, up to the page's limit, or all of it. more says that there is more than was asked for.
func pages[T any](ctx context.Context, c *Client, path string, query url.Values, p wire.Page) (out []T, more bool, err error) {
	out = []T{}
	for name, value := range map[string]string{"sort": p.Sort, "after": p.After} {
		if value != "" {
			query.Set(name, value)
		}
	}
	for {
		size := mostAtOnce
		if p.Limit > 0 {
			size = min(size, p.Limit-len(out))
		}
		query.Set("limit", fmt.Sprint(size))
		r, err := c.send(ctx, http.MethodGet, path+"?"+query.Encode(), nil)
		if err != nil {
			return nil, false, err
		}
		var rows []T
		err = json.NewDecoder(r.Body).Decode(&rows)
		r.Body.Close()
		if err != nil {
			return nil, false, fmt.Errorf("answer of GET %s: %w", c.url+path, err)
		}
		out = append(out, rows...)
		next := nextCursor(r.Header.Get("Link"))
		if next == "" || p.Limit > 0 && len(out) >= p.Limit {
			return out, next != "", nil
		}
		query.Set("after", next)
	}
}

// nextCursor is the cursor in a Link header, or "".
func nextCursor(link string) string {
	address, _, ok := strings.Cut(strings.TrimPrefix(link, "<"), ">")
	if !ok {
		return ""
	}
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Query().Get("after")
}

// filled are the parameters of a query that are not empty.
func filled(of map[string]string) url.Values {
	out := url.Values{}
	for name, value := range of {
		if value != "" {
			out.Set(name, value)
		}
	}
	return out
}

func flag(on bool) string {
	if on {
		return "true"
	}
	return ""
}

// Machines lists machines by label; more says that there are more than the filter's limit.
func (c *Client) Machines(ctx context.Context, f wire.MachineFilter) (machines []wire.Machine, more bool, err error) {
	return pages[wire.Machine](ctx, c, "/api/v1/machines", filled(map[string]string{"hypervisor": f.Hypervisor, "state": string(f.State), "text": f.Text}), f.Page)
}

// RetireMachine takes a machine down on purpose, or with try tells what would go.
func (c *Client) RetireMachine(ctx context.Context, name string, b wire.RetireBody) (out []wire.SetPreview, err error) {
	return out, c.call(ctx, http.MethodPut, "/api/v1/machines/"+url.PathEscape(name)+"/retirement", b, &out)
}

// UnretireMachine takes a retirement back.
func (c *Client) UnretireMachine(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/machines/"+url.PathEscape(name)+"/retirement", nil, nil)
}

// ContinueMachine says that a machine is the one that another was.
func (c *Client) ContinueMachine(ctx context.Context, name, old string) (out wire.Machine, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/machines/"+url.PathEscape(name)+"/continuation", wire.ContinueBody{Old: old}, &out)
}

// FindMachines asks every hypervisor for its guests.
func (c *Client) FindMachines(ctx context.Context) (out []wire.Found, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/hypervisors/find", nil, &out)
}

// Hypervisors lists hypervisors, by name, and how each stands.
func (c *Client) Hypervisors(ctx context.Context) ([]wire.Hypervisor, error) {
	return list[wire.Hypervisor](ctx, c, "/api/v1/hypervisors")
}

// AddHypervisor tries a hypervisor and adds it to the site if no step failed.
func (c *Client) AddHypervisor(ctx context.Context, name string, a wire.HypervisorAddition) (out wire.HypervisorAdded, err error) {
	return out, c.call(ctx, http.MethodPut, "/api/v1/hypervisors/"+url.PathEscape(name), a, &out)
}

// ProbeHypervisor tries a hypervisor; without a spec the site's.
func (c *Client) ProbeHypervisor(ctx context.Context, name string, spec *site.Hypervisor) (out []probe.Step, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/hypervisors/"+url.PathEscape(name)+"/probes", wire.HypervisorTrial{Spec: spec}, &out)
}

// Around lists what stands around a hypervisor's machines, by kind and name, the newest first.
func (c *Client) Around(ctx context.Context, hypervisor string) ([]wire.Thing, error) {
	return list[wire.Thing](ctx, c, "/api/v1/hypervisors/"+url.PathEscape(hypervisor)+"/around")
}

// Stores lists stores.
func (c *Client) Stores(ctx context.Context) ([]wire.Store, error) {
	return list[wire.Store](ctx, c, "/api/v1/stores")
}

// Policies lists policies.
func (c *Client) Policies(ctx context.Context) ([]wire.Policy, error) {
	return list[wire.Policy](ctx, c, "/api/v1/policies")
}

// RunPolicy starts a run. note, which may be empty, says what it is for.
func (c *Client) RunPolicy(ctx context.Context, name, note string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/policies/"+url.PathEscape(name)+"/runs?note="+url.QueryEscape(note), nil, &out)
}

// PreviewRotation tells what the next rotation would do.
func (c *Client) PreviewRotation(ctx context.Context, policy, rule string) ([]wire.SetPreview, error) {
	sets, _, err := pages[wire.SetPreview](ctx, c, "/api/v1/policies/"+url.PathEscape(policy)+"/rotation", filled(map[string]string{"rule": rule}), wire.Page{})
	return sets, err
}

// ConfirmRotation lets a rotation happen that the guard holds back: these images go, or none.
func (c *Client) ConfirmRotation(ctx context.Context, policy string, drops []string) (out []string, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/policies/"+url.PathEscape(policy)+"/rotation", map[string][]string{"drops": drops}, &out)
}

// UndropImage brings a dropped image back, and all that it leans on.
func (c *Client) UndropImage(ctx context.Context, id string) (out []string, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/undrop", nil, &out)
}

// FoldImage starts the folding of an image.
func (c *Client) FoldImage(ctx context.Context, id string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/folds", nil, &out)
}

// Runs lists runs, newest first; more says that there are more than the filter's limit.
func (c *Client) Runs(ctx context.Context, f wire.RunFilter) (runs []wire.Run, more bool, err error) {
	return pages[wire.Run](ctx, c, "/api/v1/runs", filled(map[string]string{"id": f.ID, "policy": f.Policy, "kind": f.Kind}), f.Page)
}

// Run is one run with all its tasks.
func (c *Client) Run(ctx context.Context, id string) (out wire.Run, err error) {
	path := "/api/v1/runs/" + url.PathEscape(id)
	if err = c.call(ctx, http.MethodGet, path, nil, &out); err != nil {
		return out, err
	}
	for len(out.Tasks) > 0 && len(out.Tasks) < out.Machines {
		more, err := list[wire.Task](ctx, c, fmt.Sprintf("%s/tasks?limit=1000&after=%d", path, out.Tasks[len(out.Tasks)-1].ID))
		if err != nil {
			return out, err
		}
		if len(more) == 0 {
			break
		}
		out.Tasks = append(out.Tasks, more...)
	}
	return out, nil
}

// RunLog is a run's log.
func (c *Client) RunLog(ctx context.Context, id string) ([]wire.LogLine, error) {
	return list[wire.LogLine](ctx, c, "/api/v1/runs/"+url.PathEscape(id)+"/log")
}

// Images lists images, newest first; more says that there are more than the filter's limit.
func (c *Client) Images(ctx context.Context, f wire.ImageFilter) (images []wire.Image, more bool, err error) {
	return pages[wire.Image](ctx, c, "/api/v1/images", filled(map[string]string{"id": f.ID, "machine": f.Machine, "policy": f.Policy, "store": f.Store,
		"gone": flag(f.Gone), "only_gone": flag(f.OnlyGone)}), f.Page)
}

// Image is one image with its proofs.
func (c *Client) Image(ctx context.Context, id string) (out wire.ProvenImage, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/images/"+url.PathEscape(id), nil, &out)
}

// Hardware is what the machine of an image needs to run.
func (c *Client) Hardware(ctx context.Context, id string) (out machine.Hardware, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/images/"+url.PathEscape(id)+"/hardware", nil, &out)
}

// Prove starts a proof.
func (c *Client) Prove(ctx context.Context, id string, level image.Level) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/proofs", map[string]image.Level{"level": level}, &out)
}

// Exhibit reads a file that belongs to a proof of an image.
func (c *Client) Exhibit(ctx context.Context, id, name string) ([]byte, error) {
	in, err := c.inImage(ctx, id, "exhibits/"+url.PathEscape(name), nil)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(in)
}

// Groups lists groups, by name.
func (c *Client) Groups(ctx context.Context) (out []wire.Group, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/groups", nil, &out)
}

// ProveGroup starts a trial of a group.
func (c *Client) ProveGroup(ctx context.Context, name string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/groups/"+url.PathEscape(name)+"/proofs", nil, &out)
}

// StartDrill has machines brought back as if they were lost.
func (c *Client) StartDrill(ctx context.Context, o wire.DrillOrder) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/drills", o, &out)
}

// Drills lists drills, newest first; more says that there are more than the page has.
func (c *Client) Drills(ctx context.Context, p wire.Page) (out []wire.Drill, more bool, err error) {
	return pages[wire.Drill](ctx, c, "/api/v1/drills", url.Values{}, p)
}

// Drill is what a drill showed.
func (c *Client) Drill(ctx context.Context, run string) (out wire.Drill, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/drills/"+url.PathEscape(run), nil, &out)
}

// DrillPage is a drill as a page of HTML.
func (c *Client) DrillPage(ctx context.Context, run string) ([]byte, error) {
	r, err := c.send(ctx, http.MethodGet, "/api/v1/drills/"+url.PathEscape(run)+"/page", nil)
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	return io.ReadAll(r.Body)
}

// Promises lists what is owed to machines; more says that there are more than the page has. Standing and machine, which may be empty, narrow it.
func (c *Client) Promises(ctx context.Context, standing, machine string, p wire.Page) (out []wire.OwedMachine, more bool, err error) {
	return pages[wire.OwedMachine](ctx, c, "/api/v1/promises", filled(map[string]string{"standing": standing, "machine": machine}), p)
}

// LookedAtImage says that a person has looked at what is unusual in an image.
func (c *Client) LookedAtImage(ctx context.Context, id, note string) (out wire.Image, err error) {
	return out, c.call(ctx, http.MethodPut, "/api/v1/images/"+url.PathEscape(id)+"/looked", map[string]string{"note": note}, &out)
}

// PinImage pins an image.
func (c *Client) PinImage(ctx context.Context, id, note string) (out wire.Image, err error) {
	return out, c.call(ctx, http.MethodPut, "/api/v1/images/"+url.PathEscape(id)+"/pin", map[string]string{"note": note}, &out)
}

// UnpinImage lets a pinned image go.
func (c *Client) UnpinImage(ctx context.Context, id string) (out wire.Image, err error) {
	return out, c.call(ctx, http.MethodDelete, "/api/v1/images/"+url.PathEscape(id)+"/pin", nil, &out)
}

// Restore starts a restore.
func (c *Client) Restore(ctx context.Context, id string, r wire.RestoreBody) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/restores", r, &out)
}

// PreviewRestore says what that would come to.
func (c *Client) PreviewRestore(ctx context.Context, id string, r wire.RestoreBody) (out wire.RestorePreview, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/restores/preview", r, &out)
}

// ListFilesOf has all files of an image listed, so that they are found by their names.
func (c *Client) ListFilesOf(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/listing", nil, nil)
}

// FindFiles finds files by their name in all images of a machine, at most so many.
func (c *Client) FindFiles(ctx context.Context, machine, name string, most int) (out wire.FoundFiles, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/machines/"+url.PathEscape(machine)+"/files", map[string]any{"name": name, "most": most}, &out)
}

// UnlockImage unlocks what is locked on an image's disks, while somebody looks into it.
func (c *Client) UnlockImage(ctx context.Context, id, fileSystem string, key []byte) (out wire.OpenedDisks, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/unlock", map[string]any{"file_system": fileSystem, "key": key}, &out)
}

// PreviewFiles says what would become of files of an image that go back onto a machine, with so many of the steps.
func (c *Client) PreviewFiles(ctx context.Context, id string, b wire.FilesBack, most int) (out wire.FilesPlan, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/files/preview?most="+strconv.Itoa(most), b, &out)
}

// RestoreFiles starts a restore of files of an image onto a machine.
func (c *Client) RestoreFiles(ctx context.Context, id string, b wire.FilesBack) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/images/"+url.PathEscape(id)+"/files/restores", b, &out)
}

// UndoRestore starts to take back what a restore of files did.
func (c *Client) UndoRestore(ctx context.Context, run string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/runs/"+url.PathEscape(run)+"/undo", nil, &out)
}

// Site is the configuration.
func (c *Client) Site(ctx context.Context) (out site.Site, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/site", nil, &out)
}

// ApplySite replaces the configuration, or tells what that would change.
func (c *Client) ApplySite(ctx context.Context, s site.Site, try bool) (out wire.Applied, err error) {
	return out, c.call(ctx, http.MethodPut, fmt.Sprintf("/api/v1/site?try=%t", try), s, &out)
}

// Watch calls changed with each state of a run, the present one first, until the run is over; it returns the last.
// A stream that breaks is begun again.
func (c *Client) Watch(ctx context.Context, id string, changed func(wire.Run)) (wire.Run, error) {
	for tries := 0; ; tries++ {
		run, err := c.watchOnce(ctx, id, func(r wire.Run) { tries = 0; changed(r) })
		if err == nil && run.Over() || ctx.Err() != nil || tries >= 5 {
			return run, err
		}
		var p *Problem
		if errors.As(err, &p) {
			return run, err
		}
		select {
		case <-ctx.Done():
			return run, ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// apply brings a run up to date by what changed, and reports whether anything of it did.
func apply(run *wire.Run, e wire.Event) (changed bool) {
	for _, r := range e.Runs {
		if r.ID == run.ID {
			r.Tasks = run.Tasks
			*run, changed = r, true
		}
	}
	for _, t := range e.Tasks {
		if t.Run != run.ID {
			continue
		}
		changed = true
		if i := slices.IndexFunc(run.Tasks, func(o wire.Task) bool { return o.ID == t.ID }); i >= 0 {
			run.Tasks[i] = t
		} else {
			run.Tasks = append(run.Tasks, t)
		}
	}
	return changed
}

func (c *Client) watchOnce(ctx context.Context, id string, changed func(wire.Run)) (run wire.Run, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r, err := c.send(ctx, http.MethodGet, "/api/v1/events", nil)
	if err != nil {
		return run, err
	}
	defer r.Body.Close()
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		body, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e struct {
			wire.Event
			wire.Hello
		}
		if err := json.Unmarshal([]byte(body), &e); err != nil {
			return run, fmt.Errorf("stream of changes: %w", err)
		}
		switch {
		case e.Program != "" || slices.Contains(e.Changed, wire.RunsChanged): // the stream stands (or still does), so the present state misses nothing
			if run, err = c.Run(ctx, id); err != nil {
				return run, err
			}
		case !apply(&run, e.Event):
			continue
		}
		changed(run)
		if run.Over() {
			return run, nil
		}
	}
	return run, errors.Join(errors.New("the stream of changes ended"), lines.Err())
}

// Parts lists the parts of a server's system state, and where measured how large each is.
func (c *Client) Parts(ctx context.Context, machine string, measured bool) ([]wire.Part, error) {
	path := "/api/v1/machines/" + url.PathEscape(machine) + "/parts"
	if measured {
		path += "?measure=true"
	}
	return list[wire.Part](ctx, c, path)
}

// Unread lists the files that a run could not read as they were.
func (c *Client) Unread(ctx context.Context, run string) ([]wire.UnreadFile, error) {
	return list[wire.UnreadFile](ctx, c, "/api/v1/runs/"+url.PathEscape(run)+"/unread")
}

// ImageFiles opens the list of a folder of an image, with what lies below that or without, or, with no path, of all files of an image of files;
// [files.NewListReader] reads it. Close it.
func (c *Client) ImageFiles(ctx context.Context, id, path string, below bool) (io.ReadCloser, error) {
	return c.inImage(ctx, id, "files", url.Values{"path": {path}, "below": {strconv.FormatBool(below)}})
}

// WholeFiles opens the list of what lies at a path of an image, with all that lies below it and all that is known of it; close it.
func (c *Client) WholeFiles(ctx context.Context, id, path string) (io.ReadCloser, error) {
	return c.inImage(ctx, id, "files", url.Values{"path": {path}, "below": {"true"}, "whole": {"true"}})
}

// ImageFile opens a file of an image; close it.
func (c *Client) ImageFile(ctx context.Context, id, path string) (io.ReadCloser, error) {
	return c.inImage(ctx, id, "content", url.Values{"path": {path}})
}

// ImageArchive opens an archive, a tar, zip or stream, of what lies at a path of an image; close it.
func (c *Client) ImageArchive(ctx context.Context, id, path, form string) (io.ReadCloser, error) {
	return c.inImage(ctx, id, "archive", url.Values{"path": {path}, "form": {form}})
}

func (c *Client) inImage(ctx context.Context, id, what string, query url.Values) (io.ReadCloser, error) {
	r, err := c.send(ctx, http.MethodGet, "/api/v1/images/"+url.PathEscape(id)+"/"+what+"?"+query.Encode(), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// Disk connects to a disk of an image, which is offered over NBD under its target's name, read-only. Close it.
func (c *Client) Disk(ctx context.Context, id, target string) (io.ReadWriteCloser, error) {
	return c.upgraded(ctx, http.MethodGet, "/api/v1/images/"+url.PathEscape(id)+"/disks/"+url.PathEscape(target)+"/nbd", wire.NBD)
}

// OpenDisk is [Client.Disk], as a disk that can be read. Close it.
func (c *Client) OpenDisk(ctx context.Context, id, target string) (*nbd.Client, error) {
	conn, err := c.Disk(ctx, id, target)
	if err != nil {
		return nil, err
	}
	opened, err := nbd.Over(ctx, stream{conn}, nil, target, "")
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return opened, nil
}

// stream is what a request was upgraded to, as a connection. Who waits for it has a context.
type stream struct{ io.ReadWriteCloser }

func (stream) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (stream) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (stream) SetDeadline(time.Time) error      { return nil }
func (stream) SetReadDeadline(time.Time) error  { return nil }
func (stream) SetWriteDeadline(time.Time) error { return nil }

// Import connects to bring disks that become an image of a machine, in a store: see [wire.Import]. Close it.
func (c *Client) Import(ctx context.Context, store, machine, note string) (io.ReadWriteCloser, error) {
	return c.upgraded(ctx, http.MethodPost, "/api/v1/stores/"+url.PathEscape(store)+"/imports?"+url.Values{"machine": {machine}, "note": {note}}.Encode(), wire.Import)
}

// upgraded makes a request that goes on as another protocol. Close what is returned.
func (c *Client) upgraded(ctx context.Context, method, path, protocol string) (io.ReadWriteCloser, error) {
	plain, ok := c.http.Transport.(*http.Transport)
	if !ok {
		plain = http.DefaultTransport.(*http.Transport)
	}
	plain = plain.Clone() // HTTP/2 has no upgrade
	plain.ForceAttemptHTTP2, plain.TLSNextProto = false, map[string]func(string, *tls.Conn) http.RoundTripper{}
	if plain.TLSClientConfig != nil {
		plain.TLSClientConfig.NextProtos = []string{"http/1.1"}
	}
	once := *c
	once.http.Transport = plain
	once.upgrade = protocol
	r, err := once.send(ctx, method, path, nil)
	if err != nil {
		return nil, err
	}
	conn, ok := r.Body.(io.ReadWriteCloser)
	if r.StatusCode != http.StatusSwitchingProtocols || !ok {
		r.Body.Close()
		return nil, fmt.Errorf("%s does not go on as %s: %s", c.url, protocol, r.Status)
	}
	return conn, nil
}

// FileSystems are what lies on the disks of an image.
func (c *Client) FileSystems(ctx context.Context, id string) (o wire.OpenedDisks, err error) {
	return o, c.call(ctx, http.MethodGet, "/api/v1/images/"+url.PathEscape(id)+"/file-systems", nil, &o)
}

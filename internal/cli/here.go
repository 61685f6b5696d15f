package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sys/unix"

	"keenlodge/internal/client"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/unpack"
	"keenlodge/internal/wire"
)

// here is a folder of this computer into which files of an image go.
type here struct {
	k      *client.Client
	image  string
	folder string
	place  unpack.Place
	plans  []hereplan
}

// hereplan is a path of the image that goes into it.
type hereplan struct {
	path string
	*unpack.Restore
}

// restoreHere puts files of an image into a folder of this computer, as [restoreFilesCommand] puts them onto a machine.
func restoreHere(ctx context.Context, c *cli.Command, k *client.Client, id string, rule back.Existing) (err error) {
	for _, name := range []string{"machine", "into", "delete", "part", "personal", "forget", "plan"} {
		if c.IsSet(name) {
			return wrongUse("--%s is of files that go onto a machine; leave it out with --here", name)
		}
	}
	json, most := c.String("output") == "json", previewSteps
	if json {
		if most = allSteps; !c.Bool("preview") {
			return wrongUse("with --here only a preview can be had as JSON")
		}
	}
	paths := c.Args().Tail()
	if len(paths) == 0 {
		return wrongUse("say which files: /etc/hosts, or a folder; / is all of them")
	}
	m, err := k.Image(ctx, id)
	if err != nil {
		return err
	}
	h, unlock, err := openHere(c.String("here"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	h.k, h.image = k, id
	if rule == "" {
		rule = back.Rules[0]
	}
	counts := map[back.Action]back.Counts{}
	var steps []back.Step
	for _, p := range paths {
		r, err := h.plan(ctx, p, rule, m.Taken)
		if err != nil {
			return fmt.Errorf("%s into %s: %w", p, h.folder, err)
		}
		for a, n := range r.Counts {
			was := counts[a]
			counts[a] = back.Counts{Paths: was.Paths + n.Paths, Bytes: was.Bytes + n.Bytes}
		}
		if r.Short != "" {
			return fmt.Errorf("%s: nothing was written; make room, or take less", r.Short)
		}
		if left := most - len(steps); left > 0 {
			steps = append(steps, r.Steps[:min(left, len(r.Steps))]...)
		}
		h.plans = append(h.plans, hereplan{p, r})
	}
	shown := wire.PlanOf(counts, steps)
	shown.Machine = "here"
	for i := range shown.Steps {
		shown.Steps[i].Path = strings.TrimPrefix(shown.Steps[i].Path, "/")
	}
	if json {
		return show(c, shown, nil)
	}
	planDetails(c.Root().Writer, m.Image, shown, "into folder "+h.folder+" of this computer")
	switch acts := acting(shown); {
	case acts == 0:
		fmt.Fprintln(c.Root().Writer, "\nthere is nothing to be done")
		return nil
	case c.Bool("preview"):
		return nil
	case !c.Bool("yes"):
		if err := confirm("\nCarry this out"); err != nil {
			return err
		}
	}
	var done back.Done
	for _, p := range h.plans {
		for _, s := range p.Steps {
			if s.Action == back.Refuse {
				done.Fail(files.Readable(s.Path), errors.New(s.Why))
			}
		}
		d, err := h.put(ctx, p)
		if done.Join(d); err != nil {
			return fmt.Errorf("%s into %s: %w", p.path, h.folder, err)
		}
	}
	bytes := int64(0)
	for _, n := range done.Counts {
		bytes += n.Bytes
	}
	fmt.Fprintf(c.Root().Writer, "✓ %d paths  %s  in %s\n", done.Paths(), size(bytes), h.folder)
	for _, f := range done.Failed {
		fmt.Fprintf(c.Root().Writer, "✗ %s: %s\n", f.Path, f.Why)
	}
	if done.Failures > 0 {
		return fmt.Errorf("%d of %d paths could not be had", done.Failures, done.Failures+done.Paths())
	}
	return nil
}

// openHere makes the folder, if it is not there, and keeps others out of it meanwhile. What a process that died left there is removed.
func openHere(folder string) (h here, unlock func() error, err error) {
	if h.folder, err = filepath.Abs(folder); err != nil {
		return h, nil, err
	}
	if err = os.MkdirAll(h.folder, 0o755); err != nil {
		return h, nil, err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return h, nil, fmt.Errorf("a place to note what is being written: %w", err)
	}
	sum := sha256.Sum256([]byte(h.folder))
	notes := filepath.Join(cache, "keenlodge", hex.EncodeToString(sum[:8]))
	if err = os.MkdirAll(notes, 0o700); err != nil {
		return h, nil, err
	}
	lock, err := os.Open(notes)
	if err != nil {
		return h, nil, err
	}
	if err = unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return h, nil, errors.Join(fmt.Errorf("another restore into %s is under way; wait for it", h.folder), lock.Close())
	}
	h.place = unpack.Place{Root: h.folder, Writable: []string{"/"}, Folder: notes}
	if _, err = h.place.Tidy(time.Now(), func(string) bool { return false }); err != nil {
		return h, nil, errors.Join(err, lock.Close())
	}
	return h, lock.Close, nil
}

// plan says what becomes of what lies at a path of the image.
func (h here) plan(ctx context.Context, text string, rule back.Existing, taken time.Time) (*unpack.Restore, error) {
	in, err := h.k.WholeFiles(ctx, h.image, text)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	list, err := files.NewListReader(in)
	if err != nil {
		return nil, err
	}
	from := text
	if name, p, named := strings.Cut(text, ":"); named && !strings.HasPrefix(name, "/") {
		from = p // in a file system of that name
	}
	root := back.Root{From: ".", To: "."}
	if from = path.Clean("/" + files.FromReadable(from)); from != "/" {
		root = back.Root{From: from[1:], To: path.Base(from)}
	}
	return h.place.Plan(ctx, back.Order{ID: image.NewID(), Roots: []back.Root{root}, Existing: rule, Moment: taken}, list)
}

// put writes what was planned.
func (h here) put(ctx context.Context, p hereplan) (back.Done, error) {
	in, err := h.k.ImageArchive(ctx, h.image, p.path, "stream")
	if err != nil {
		return back.Done{}, err
	}
	defer in.Close()
	return p.Put(ctx, files.NewReader(in), func(back.Progress) {})
}

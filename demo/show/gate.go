package show

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// prepare begins to make gate-07's disk, beside all else.
func (s *show) prepare(ctx context.Context) {
	s.disk = make(chan made, 1)
	go func() {
		begun := time.Now()
		disk, err := s.p.MakeServer(ctx)
		s.disk <- made{disk, time.Since(begun), err}
	}()
}

// made is a disk that was made, and how long that took.
type made struct {
	disk string
	took time.Duration
	err  error
}

// enroll has gate-07 enrolled. It is started as soon as its disk is there, and all that is shown of it goes on beside the other steps.
func (s *show) enroll(ctx context.Context) error {
	authority, err := s.c.Authority(ctx)
	if err != nil {
		return err
	}
	word, err := s.c.AdmitAgent(ctx, demo.Gate, site.Servers)
	if err != nil {
		return err
	}
	knows := s.p.Path("gate")
	if err := os.Mkdir(knows, 0o700); err != nil {
		return err
	}
	// QEMU's network has the host's loopback at this address.
	for name, text := range map[string]string{"lodge": fmt.Sprintf("https://%s:%d", demo.LoopbackInside, word.Port), "fingerprint": authority.Fingerprint, "word": word.Word} {
		if err := os.WriteFile(filepath.Join(knows, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	all.Policies["weekly-system"] = site.Policy{Machines: []string{"gate-*"}, Scope: image.SystemState, Store: "quay-shelf", Cycle: "full once", Rotation: "newest 8", Prove: image.ByRead,
		Schedules: []site.Schedule{{When: "every sun at 03:00"}}}
	all.Policies["monthly-whole"] = site.Policy{Machines: []string{"gate-*"}, Store: "quay-shelf", Cycle: "full once", Rotation: "newest 3", Quiesce: machine.Required, LongestFreeze: "20 seconds", Prove: image.ByRead,
		Schedules: []site.Schedule{{When: "monthly on the 1st at 04:00"}}}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	s.server = make(chan server, 1)
	go func() { s.server <- s.serverStory(ctx, knows) }()
	s.done("enroll", "%s may join with a word, once; its Debian is made and booted meanwhile", demo.Gate)
	return nil
}

// server is what is shown of gate-07: what each step came to, and how long it took.
type server struct {
	steps []serverStep
	err   error
}

type serverStep struct {
	name, text string
	took       time.Duration
}

// gate shows a server: its parts, its system state, and the whole of it, taken while it writes.
func (s *show) gate(context.Context) error {
	told := <-s.server
	for _, v := range told.steps {
		s.doneIn(v.took, v.name, "%s", v.text)
	}
	s.last = time.Now()
	return told.err
}

func (s *show) serverStory(ctx context.Context, knows string) (out server) {
	last := time.Now()
	done := func(step, format string, args ...any) {
		out.steps = append(out.steps, serverStep{step, fmt.Sprintf(format, args...), time.Since(last)})
		last = time.Now()
	}
	m := <-s.disk
	if out.err = m.err; out.err != nil {
		return out
	}
	if _, out.err = s.p.StartServer(ctx, m.disk, knows); out.err != nil {
		return out
	}
	out.err = demo.Until(ctx, 4*time.Minute, "the agent of "+demo.Gate, func() error {
		found, _, err := s.c.Machines(ctx, wire.MachineFilter{Text: demo.Gate})
		if err == nil && (len(found) == 0 || found[0].State != machine.Running) {
			err = errors.New("it does not call")
		}
		return err
	})
	if out.err != nil {
		out.err = fmt.Errorf("%w; what it said is in %s", out.err, s.p.Path(demo.Gate+".console"))
		return out
	}
	how := "made before"
	if m.took > 5*time.Second {
		how = "installed by debootstrap in " + m.took.Round(time.Second).String()
	}
	done("server", "%s, a Debian 12 in QEMU (%s), calls the lodge by itself", demo.Gate, how)
	parts, err := s.c.Parts(ctx, demo.Gate, true)
	if out.err = err; err != nil {
		return out
	}
	bytes := int64(0)
	for _, p := range parts {
		bytes += p.Bytes
	}
	done("parts", "the system state of %s: %d parts, %.1f MiB", demo.Gate, len(parts), float64(bytes)/(1<<20))
	for _, policy := range []string{"weekly-system", "weekly-system", "monthly-whole", "monthly-whole"} {
		text, err := s.serverImage(ctx, policy)
		if out.err = err; err != nil {
			return out
		}
		name, _, _ := strings.Cut(policy, "-")
		done(name, "%s", text)
	}
	text, err := s.filesBack(ctx)
	if out.err = err; err == nil {
		done("back", "%s", text)
	}
	return out
}

// filesBack puts a folder of the server's newest system state beside where it was, and takes that back.
func (s *show) filesBack(ctx context.Context) (string, error) {
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Policy: "weekly-system"})
	if err != nil {
		return "", err
	}
	b := wire.FilesBack{Paths: []string{"/etc/turnstile"}, At: "/srv/back"}
	p, err := s.c.PreviewFiles(ctx, images[0].ID, b, 100)
	if err != nil {
		return "", err
	}
	b.Digest = p.Digest
	put, err := s.c.RestoreFiles(ctx, images[0].ID, b)
	if err == nil {
		put, err = s.ended(ctx, put)
	}
	if err != nil {
		return "", err
	}
	undone, err := s.c.UndoRestore(ctx, put.ID)
	if err == nil {
		undone, err = s.ended(ctx, undone)
	}
	return fmt.Sprintf("/etc/turnstile of image %s went to /srv/back of %s, as %d paths that were shown before (run %s), and was taken back (run %s)", images[0].ID, demo.Gate, len(p.Steps), put.ID, undone.ID), err
}

// ended waits for the end of a run that has to be a good one.
func (s *show) ended(ctx context.Context, r wire.Run) (wire.Run, error) {
	r, err := s.c.Watch(ctx, r.ID, func(wire.Run) {})
	if err == nil && r.State != "done" {
		err = fmt.Errorf("run %s is %s: %s", r.ID, r.State, r.Error)
	}
	return r, err
}

// serverImage makes an image of the server by a policy, and tells of it.
func (s *show) serverImage(ctx context.Context, policy string) (string, error) {
	r, err := s.runOf(ctx, policy, "")
	if err != nil {
		return "", err
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Policy: policy})
	if err != nil {
		return "", err
	}
	if len(images) == 0 || images[0].Run != r.ID {
		return "", fmt.Errorf("run %s of %s made no image: %s", r.ID, policy, r.Error)
	}
	m := images[0]
	what := fmt.Sprintf("consistency %s, its file systems stood still for %s", m.Consistency, time.Duration(m.Frozen).Round(time.Millisecond))
	if m.Files != nil {
		what = fmt.Sprintf("%d files in %d parts", m.Files.Entries, len(m.Files.Parts))
		if m.Files.Unread > 0 {
			return "", fmt.Errorf("%d files of %s could not be read; look at: keenlodge run show %s --unread", m.Files.Unread, demo.Gate, r.ID)
		}
	}
	return fmt.Sprintf("%s of %s: %s, read %.1f MiB, stored %.1f MiB; %s; proven by %s", m.Capture, demo.Gate, m.Scope, float64(m.Read)/(1<<20), float64(m.Stored)/(1<<20), what, m.Proven), nil
}

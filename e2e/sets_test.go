package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt"
	"keenlodge/internal/wire"
)

// in lists the images in a store, newest first.
func in(t *testing.T, store string) []wire.Image {
	t.Helper()
	return keenJSON[[]wire.Image](t, "image", "list", "--store", store)
}

func openStoreText(name, folder, more string) string {
	return fmt.Sprintf("  %s:\n    medium: dir\n    layout: open\n    folder: %s\n%s", name, folder, more)
}

// inGuest runs a shell command in a guest, by its agent; it does not wait for its end.
func inGuest(t *testing.T, guest, command string) {
	t.Helper()
	ask, err := json.Marshal(map[string]any{"execute": "guest-exec", "arguments": map[string]any{"path": "/bin/sh", "arg": []string{"-c", command}}})
	require.NoError(t, err)
	virsh(t, "qemu-agent-command", guest, string(ask))
}

// An incremental capture of a guest under write load, put over the full one before it, is what a full read of the same instant
// gives, block by block.
func TestAnIncrementalUnderWriteLoad(t *testing.T) {
	ctx := t.Context()
	inGuest(t, "tickets-db", "while true; do dd if=/dev/urandom of=/data/load bs=64k count=48 conv=fsync; rm /data/load; done")
	t.Cleanup(func() { inGuest(t, "tickets-db", "killall sh dd") })
	h, err := libvirt.Dial(ctx, place.Quay.Spec())
	require.NoError(t, err)
	defer h.Close()
	var marks []string
	capture := func(since string) source.Capture {
		marks = append(marks, image.NewID())
		c, err := h.Capture(ctx, source.Request{Machine: "tickets-db", ID: marks[len(marks)-1], Quiesce: machine.NoFreeze, Since: since, Checkpoint: true,
			Starting: func() error { return nil }})
		require.NoError(t, err)
		return c
	}
	defer func() { h.DropCheckpoints(context.Background(), "tickets-db", marks) }()
	first := capture("")
	older := map[string]string{}
	for _, d := range first.Disks() {
		require.Nil(t, d.Whole, "it is full")
		older[d.Target] = filepath.Join(t.TempDir(), d.Target)
		require.NoError(t, raw.Write(ctx, older[d.Target], d))
	}
	require.NoError(t, first.Close(ctx, true, nil))

	changed := int64(0)
	for round := range 3 {
		time.Sleep(700 * time.Millisecond) // the guest writes meanwhile; what comes of it decides nothing but how much there is to compare
		c := capture(marks[round])
		for _, d := range c.Disks() {
			require.NotNil(t, d.Whole, d.Why)
			f, err := os.OpenFile(older[d.Target], os.O_RDWR, 0)
			require.NoError(t, err)
			err = disk.Walk(ctx, d, func(e disk.Extent) error {
				if e.Kind == disk.Unchanged {
					return nil
				}
				changed += e.Length
				body := make([]byte, e.Length)
				if e.Kind == disk.Data {
					if _, err := d.ReadAt(body, e.Offset); err != nil {
						return err
					}
				}
				_, err := f.WriteAt(body, e.Offset)
				return err
			})
			require.NoError(t, err)
			require.NoError(t, f.Close())
			opened, err := raw.Open(older[d.Target])
			require.NoError(t, err)
			at, err := disk.FirstDifference(ctx, opened, d.Whole)
			require.NoError(t, err)
			require.EqualValues(t, -1, at, "disk %s differs", d.Target)
			opened.Close()
		}
		require.NoError(t, c.Close(ctx, true, marks[:round]))
	}
	require.Greater(t, changed, int64(1<<20), "the guest wrote, or this test tests nothing")
	require.Less(t, changed, int64(500<<20))
}

// A hypervisor's word for what changed is not trusted blindly: whatever is wrong with it, the run reads all, says why, and the
// image is the disk.
func TestChangesAreNotTrustedBlindly(t *testing.T) {
	folder := t.TempDir()
	withPolicy(t, "hourly-tickets", policyText("berth-sim", "shelf-blind", "    cycle: full once\n"), storeText("shelf-blind", folder))
	file := filepath.Join(place.Folder, "pool", "berth-sim-vda.qcow2")
	requireDisk := func(id string) {
		out := t.TempDir()
		keenOK(t, "store", "extract", folder, id, "--to", out)
		told, err := exec.Command("qemu-img", "compare", "-U", "-f", "raw", "-F", "qcow2", filepath.Join(out, id+"-vda.raw"), file).CombinedOutput()
		require.NoError(t, err, string(told))
	}
	tool := func(name string, args ...string) {
		t.Helper()
		told, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, string(told))
	}
	keenOK(t, "policy", "run", "hourly-tickets", "--wait")
	require.Equal(t, "it is the first of its set", in(t, "shelf-blind")[0].CaptureWhy)
	for _, c := range []struct {
		what, why string
		code      int
		spoil     func(last wire.Image)
	}{
		{"nothing", "", 0, func(wire.Image) { tool("qemu-io", "-f", "qcow2", "-c", "write -q -P 7 300M 64k", file) }},
		{"the bitmap is lost", "missing or broken bitmap", 0, func(m wire.Image) { tool("qemu-img", "bitmap", "--remove", file, "keenlodge-"+m.ID) }},
		{"the checkpoint is lost, its bitmap is there", "", 0, func(m wire.Image) {
			virsh(t, "checkpoint-delete", "berth-sim", "keenlodge-"+m.ID, "--metadata")
		}},
		{"the checkpoint is lost", "has no checkpoint of image", 0, func(m wire.Image) {
			virsh(t, "checkpoint-delete", "berth-sim", "keenlodge-"+m.ID, "--metadata")
			tool("qemu-img", "bitmap", "--remove", file, "keenlodge-"+m.ID)
		}},
		{"the guest was made anew over its disks", "", 0, func(m wire.Image) {
			text := filepath.Join(t.TempDir(), "berth-sim.xml")
			require.NoError(t, os.WriteFile(text, []byte(virsh(t, "dumpxml", "berth-sim")), 0o600))
			virsh(t, "undefine", "berth-sim", "--checkpoints-metadata")
			virsh(t, "define", text)
		}},
		{"the bitmap lies", "changed where the hypervisor says that it did not", 3, func(m wire.Image) {
			tool("qemu-img", "bitmap", "--disable", file, "keenlodge-"+m.ID)
			tool("qemu-io", "-f", "qcow2", "-c", "write -q -P 9 60M 40M", file)
			tool("qemu-img", "bitmap", "--enable", file, "keenlodge-"+m.ID)
		}},
		{"the disk grew", "its size changed from 384 MiB to 400 MiB", 0, func(wire.Image) { tool("qemu-img", "resize", "-q", "-f", "qcow2", file, "400M") }},
		{"what it builds on is damaged", "damaged", 0, func(wire.Image) {
			packs, err := filepath.Glob(filepath.Join(folder, "pack", "*", "*"))
			require.NoError(t, err)
			for _, p := range packs {
				require.NoError(t, os.Remove(p))
			}
		}},
		{"the image left the store", "is not in the store any more", 0, func(m wire.Image) { require.NoError(t, os.Remove(filepath.Join(folder, "image", m.ID))) }},
	} {
		if !faultsToo() && !slices.Contains([]string{"nothing", "the checkpoint is lost", "the bitmap lies"}, c.what) {
			continue
		}
		last := in(t, "shelf-blind")[0]
		c.spoil(last)
		s := keen(t, "policy", "run", "hourly-tickets", "--wait")
		require.Equal(t, c.code, s.code, "%s: %s%s", c.what, s.out, s.err)
		m := in(t, "shelf-blind")[0]
		require.NotEqual(t, last.ID, m.ID)
		log := keenOK(t, "run", "log")
		if c.why == "" {
			require.Equal(t, []any{"incremental", last.ID}, []any{string(m.Capture), m.Since}, log)
			require.Less(t, m.Read, int64(1<<20))
		} else {
			require.EqualValues(t, "full", m.Capture, "%s: %s", c.what, log)
			require.Contains(t, log, c.why, c.what)
			require.Contains(t, m.CaptureWhy, c.why)
		}
		requireDisk(m.ID)
		require.LessOrEqual(t, len(strings.Fields(virsh(t, "checkpoint-list", "berth-sim", "--name"))), 3, "one a set, and the one before")
	}
	keenOK(t, "policy", "run", "hourly-tickets", "--wait")
	require.EqualValues(t, "incremental", in(t, "shelf-blind")[0].Capture, "after a full one it goes on")
	require.Equal(t, "shut off", strings.TrimSpace(virsh(t, "domstate", "berth-sim")))

	if !faultsToo() { // it takes forerunners
		return
	}
	// An image far larger than its forerunners of the same kind is told, with the numbers.
	tool("qemu-io", "-f", "qcow2", "-c", "write -q -P 5 60M 300M", file)
	virsh(t, "checkpoint-delete", "berth-sim", "keenlodge-"+in(t, "shelf-blind")[0].ID, "--metadata")
	tool("qemu-img", "bitmap", "--remove", file, "keenlodge-"+in(t, "shelf-blind")[0].ID)
	s := keen(t, "policy", "run", "hourly-tickets", "--wait")
	require.Equal(t, 3, s.code, "%s%s", s.out, s.err)
	require.Regexp(t, `far larger than usual: \d+ MiB read; the last \d+ of its kind had \d+ MiB in the middle, give or take`, s.out)
}

// An open store holds what a pooled one kept of the same instant; QEMU finds nothing wrong; a guest boots from a chain with
// nothing of ours in between; and its images are proven, browsed and restored like others.
func TestAnOpenStore(t *testing.T) {
	pooled, plain := t.TempDir(), t.TempDir()
	withPolicy(t, "monthly-whole", policyText("berth-sim", "shelf-twin", "    cycle: full every 7th\n"), storeText("shelf-twin", pooled))
	keenOK(t, "policy", "run", "monthly-whole", "--wait")
	twin := in(t, "shelf-twin")[0].ID
	out := t.TempDir()
	keenOK(t, "store", "extract", pooled, twin, "--to", out)

	withPolicy(t, "hourly-tickets", policyText("timetable, berth-sim", "shelf-plain", "    cycle: full every 7th\n    prove: read\n"), openStoreText("shelf-plain", plain, "    compress: true\n"))
	for range 3 {
		backUp(t, "hourly-tickets")
	}
	files, err := filepath.Glob(filepath.Join(plain, "*", "*.qcow2"))
	require.NoError(t, err)
	require.Len(t, files, 3+2*3)
	for _, f := range files {
		told, err := exec.Command("qemu-img", "check", f).CombinedOutput()
		require.NoError(t, err, string(told))
	}
	var newest wire.Image
	for _, m := range in(t, "shelf-plain") {
		if m.Machine == "timetable" && newest.ID == "" {
			newest = m
		}
		if m.Machine != "berth-sim" {
			continue
		}
		file, err := filepath.Glob(filepath.Join(plain, "berth-sim", "*-"+m.ID+"-vda.qcow2"))
		require.NoError(t, err)
		told, err := exec.Command("qemu-img", "compare", "-f", "raw", "-F", "qcow2", filepath.Join(out, twin+"-vda.raw"), file[0]).CombinedOutput()
		require.NoError(t, err, string(told))
	}
	require.Equal(t, []string{"incremental", "read", "shelf-plain"}, []string{string(newest.Capture), string(newest.Proven), newest.Store})
	require.NotEmpty(t, newest.Base)

	if faultsToo() { // make faults does it: it is a large disk
		require.Contains(t, keenOK(t, "image", "prove", newest.ID, "--level", "mount", "--wait"), "ledger clean")
		keenOK(t, "image", "restore", newest.ID, "--as", "timetable-again", "--wait")
		virsh(t, "undefine", "timetable-again")
	}
	require.Contains(t, keenOK(t, "store", "extract", plain), newest.ID)
	s := keen(t, "store", "check", "shelf-plain", "--repair")
	require.Contains(t, s.err, "nothing in it can be mended from another store")
	s = keen(t, "store", "key", "list", "shelf-plain")
	require.Contains(t, s.err, "has the open layout")
	require.Contains(t, keenOK(t, "store", "show", "shelf-plain"), "open layout")
	keenOK(t, "store", "check", "shelf-plain", "--read")

	if faultsToo() { // make faults does it: it waits for a guest
		bootFrom(t, filepath.Join(plain, "timetable"), newest.ID)
	}

	if !faultsToo() { // a store that another lodge takes over is tested with a pooled one
		return
	}
	// Another lodge takes it over, with what leans on what.
	other := secondLodge(t)
	s = other("store", "add", "found", "--folder", plain)
	require.Contains(t, s.err, "holds a store of the open layout, but its entry says pooled")
	s = other("store", "add", "found", "--folder", plain, "--layout", "open")
	require.Equal(t, 0, s.code, s.err)
	s = other("store", "adopt", "found")
	require.Contains(t, s.out, "6 images in 2 sets adopted")
	s = other("image", "show", newest.ID)
	require.Contains(t, s.out, "incremental, scope machine, changes since image "+newest.Base)
	require.Regexp(t, `leans on +`+newest.Base, s.out)

	// The last one leans on an increment, so only the one in the middle can be folded; the last one can't tell the difference.
	s = keen(t, "image", "fold", newest.ID, "--wait")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.out, "fold that one first")
	keenOK(t, "image", "fold", newest.Base, "--wait")
	require.Contains(t, keenOK(t, "image", "show", newest.Base), "full, scope machine; folded from image")
	keenOK(t, "image", "prove", newest.ID, "--level", "read", "--wait")
	keenOK(t, "store", "check", "shelf-plain", "--read")
}

// bootFrom starts a guest over a copy of an open store's folder, as an administrator would with QEMU's own tools.
func bootFrom(t *testing.T, folder, id string) {
	t.Helper()
	pool := filepath.Join(place.Folder, "pool", "chain")
	require.NoError(t, os.CopyFS(pool, os.DirFS(folder)))
	defer os.RemoveAll(pool)
	file, err := filepath.Glob(filepath.Join(pool, "*-"+id+"-vda.qcow2"))
	require.NoError(t, err)
	require.Len(t, file, 1)
	over := filepath.Join(pool, "try.qcow2")
	told, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", "-F", "qcow2", "-b", file[0], over).CombinedOutput()
	require.NoError(t, err, string(told))
	told, err = exec.Command("chown", "-R", "--reference="+filepath.Join(place.Folder, "pool"), pool).CombinedOutput()
	require.NoError(t, err, string(told))
	text := virsh(t, "dumpxml", "--inactive", "timetable")
	cut := func(from, to, by string) {
		i := strings.Index(text, from)
		require.Positive(t, i, from)
		j := i + strings.Index(text[i:], to) + len(to)
		text = text[:i] + by + text[j:]
	}
	cut("<name>", "</name>", "<name>timetable-chain</name>")
	cut("<uuid>", "</uuid>", "")
	cut("<mac ", "/>", "")
	cut("<disk ", "</disk>", "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='"+over+"'/><target dev='vda' bus='virtio'/></disk>")
	cut("<disk type='file' device='disk'>\n      <driver name='qemu' type='raw'/>", "</disk>", "")
	xml := filepath.Join(t.TempDir(), "chain.xml")
	require.NoError(t, os.WriteFile(xml, []byte(text), 0o600))
	virsh(t, "create", xml)
	defer virsh(t, "destroy", "timetable-chain")
	require.NoError(t, place.Quay.AwaitGuest(t.Context(), "timetable-chain"))
}

// With fold, "newest 2" of a chain without end is two images: the full one is folded into the next each time.
func TestFoldKeepsTheCount(t *testing.T) {
	plain := t.TempDir()
	withPolicy(t, "weekly-system", "    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-fold\n    rotation: newest 2\n    cycle: full once\n    fold: true\n", openStoreText("shelf-fold", plain, "    grace: none\n"))
	for n := range 4 {
		keenOK(t, "policy", "run", "weekly-system", "--wait")
		left := in(t, "shelf-fold")
		require.Len(t, left, min(n+1, 2))
		require.EqualValues(t, "full", left[len(left)-1].Capture)
		if n > 0 {
			require.Equal(t, []string{"incremental", left[1].ID}, []string{string(left[0].Capture), left[0].Base})
		}
	}
	require.Contains(t, keenOK(t, "image", "history", "--policy", "weekly-system"), "folded into image")
	require.Contains(t, keenOK(t, "store", "check", "shelf-fold", "--read"), "nothing is damaged")
	files, err := filepath.Glob(filepath.Join(plain, "tickets-db", "*.qcow2"))
	require.NoError(t, err)
	require.Len(t, files, 2*2)
}

// A rotation that would drop too much is held back, and says so, until a person has seen what goes; what went can be brought back.
func TestTheGuardHoldsUntilConfirmed(t *testing.T) {
	plain := t.TempDir()
	rule := func(r string) {
		withPolicy(t, "weekly-system", "    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-guard\n    rotation: "+r+"\n", openStoreText("shelf-guard", plain, ""))
	}
	rule("newest 9")
	for range 5 {
		keenOK(t, "policy", "run", "weekly-system", "--wait")
	}
	pinned := in(t, "shelf-guard")[4].ID
	keenOK(t, "image", "pin", pinned, "--note", "before the harbour upgrade")
	held := func(why string) {
		t.Helper()
		s := keen(t, "policy", "run", "weekly-system", "--wait")
		require.Equal(t, 3, s.code, "%s%s", s.out, s.err)
		require.Contains(t, keenOK(t, "run", "log"), "let it happen: keenlodge rotation confirm weekly-system")
		require.Contains(t, keenOK(t, "policy", "list"), why)
		require.Contains(t, keenOK(t, "rotation", "preview", "weekly-system"), "the guard would hold this back")
	}
	db := database(t)
	move := func(by, which string) {
		_, err := db.Exec(t.Context(), "update images set taken = taken + $1::text::interval where store = 'shelf-guard' and "+which, by)
		require.NoError(t, err)
	}
	// The clock jumps back: the newest image is of tomorrow.
	move("1 day", "true")
	held("is the clock right?")
	_, err := db.Exec(t.Context(), "update images set taken = now() - interval '1 minute' where store = 'shelf-guard' and taken > now()")
	require.NoError(t, err)
	// It jumps ten years ahead, under a rule that goes by age.
	rule("30 days")
	move("-10 years", "true")
	held("is the rule right?")
	move("9 years 364 days", "taken < now() - interval '5 years'")
	// A rule is typed wrong.
	rule("30 days")
	keenOK(t, "policy", "run", "weekly-system", "--wait")
	require.NotContains(t, keenOK(t, "policy", "list"), "is the rule right?", "all is well again")
	file, _, err := place.Site()
	require.NoError(t, err)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	wrong := filepath.Join(t.TempDir(), "wrong.yaml")
	text := strings.Replace(string(body), "policies:\n", "policies:\n  weekly-system:\n    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-guard\n    rotation: 12 hours\n", 1)
	require.NoError(t, os.WriteFile(wrong, []byte(strings.Replace(text, "stores:\n", "stores:\n"+openStoreText("shelf-guard", plain, ""), 1)), 0o600))
	out := keenOK(t, "site", "apply", "--try", wrong)
	require.Regexp(t, `"12 hours" drops 5 of 8 images \(.*\), "30 days" would drop 0; the guard would hold that back: it would drop 5 of 8`, out)
	keenOK(t, "site", "apply", wrong)
	held("is the rule right?")

	sets := keenJSON[[]wire.SetPreview](t, "rotation", "preview", "weekly-system")
	_, err = lodge.ConfirmRotation(t.Context(), "weekly-system", []string{sets[0].Images[1].ID})
	require.ErrorContains(t, err, "what goes has changed since it was looked at")
	s := keen(t, "rotation", "confirm", "weekly-system")
	require.Equal(t, 2, s.code, "without a terminal it must be told so")
	out = keenOK(t, "rotation", "confirm", "weekly-system", "--yes")
	require.Contains(t, out, "images are dropped")
	require.NotContains(t, keenOK(t, "policy", "list"), "is held back")
	var stay []string
	for _, m := range in(t, "shelf-guard") {
		stay = append(stay, m.ID)
	}
	require.Contains(t, stay, pinned)
	require.Contains(t, keenOK(t, "image", "show", pinned), "yes: before the harbour upgrade")

	history := keenOK(t, "image", "history", "--policy", "weekly-system")
	require.Contains(t, history, "(confirmed by hand)")
	require.Contains(t, history, "until ")
	var went []string // images of one moment come in any order
	for _, m := range sets[0].Images {
		if m.Verdict == "drop" {
			went = append(went, m.ID)
		}
	}
	gone := went[0]
	require.NotContains(t, stay, gone)
	require.Contains(t, keenOK(t, "image", "undrop", gone), "back: "+gone)
	keenOK(t, "image", "prove", gone, "--level", "mount", "--wait")
	// When its grace is over it is gone for good.
	_, err = lodge.ConfirmRotation(t.Context(), "weekly-system", []string{gone})
	require.ErrorContains(t, err, "0 images now, 1 were confirmed", "it is the newest proven one")
	_, err = db.Exec(t.Context(), "update images set gone = gone - interval '25 hours' where policy = 'weekly-system'")
	require.NoError(t, err)
	require.Contains(t, keenOK(t, "store", "sweep", "shelf-guard"), "dropped images taken out")
	s = keen(t, "image", "undrop", went[1])
	require.Equal(t, 1, s.code)
	require.Contains(t, s.err, "it can't be brought back")
}

// "newest 1" never has no image on disk, at any instant; images by hand are a set of their own, with their note.
func TestReplaceTheLatest(t *testing.T) {
	plain := t.TempDir()
	withPolicy(t, "weekly-system", "    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-one\n    rotation: newest 1\n    by_hand: apart\n", openStoreText("shelf-one", plain, "    grace: none\n"))
	db := database(t)
	scheduled := func() {
		t.Helper()
		before := keenJSON[[]wire.Run](t, "run", "list")[0].ID
		_, err := db.Exec(t.Context(), "update policies set next_due = now() where name = 'weekly-system'")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			r, _, err := lodge.Runs(t.Context(), wire.RunFilter{Page: wire.Page{Limit: 1}})
			return err == nil && r[0].ID != before && r[0].Over()
		}, 30*time.Second, 20*time.Millisecond)
	}
	scheduled()
	stop, fewest := make(chan struct{}), make(chan int)
	go func() {
		least := 99
		for {
			select {
			case <-stop:
				fewest <- least
				return
			default:
				found, _ := filepath.Glob(filepath.Join(plain, "tickets-db", "*.json"))
				least = min(least, len(found))
			}
		}
	}()
	for range 3 {
		scheduled()
	}
	close(stop)
	require.Positive(t, <-fewest)
	latest := in(t, "shelf-one")
	require.Len(t, latest, 1)
	keenOK(t, "policy", "run", "weekly-system", "--wait", "--note", "before the harbour upgrade")
	keenOK(t, "policy", "run", "weekly-system", "--wait", "--note", "after it")
	both := in(t, "shelf-one")
	require.Len(t, both, 2)
	require.Equal(t, []any{"after it", true}, []any{both[0].Note, both[0].SeparateSet})
	require.Equal(t, latest[0].ID, both[1].ID)
	require.Len(t, keenJSON[[]wire.SetPreview](t, "rotation", "preview", "weekly-system"), 2)
}

// A store that runs short of room drops its oldest images so that the next run finds room, and says when that is not enough.
func TestTheFloorDropsTheOldest(t *testing.T) {
	// How large an image is depends on what the tests before wrote: the store takes four and a half of them.
	policy := "    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-small\n    rotation: newest 9\n"
	withPolicy(t, "weekly-system", policy, openStoreText("shelf-small", t.TempDir(), ""))
	keenOK(t, "policy", "run", "weekly-system", "--wait")
	first := in(t, "shelf-small")[0]
	small := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", 0, fmt.Sprintf("size=%d", 40<<20+first.Stored*46/10)))
	t.Cleanup(func() { syscall.Unmount(small, syscall.MNT_DETACH) })
	policy = strings.Replace(policy, "shelf-small", "shelf-floor", 1)
	withPolicy(t, "weekly-system", policy, openStoreText("shelf-floor", small, "    floor: 40 MiB\n"))
	for range 5 {
		s := keen(t, "policy", "run", "weekly-system", "--wait")
		require.Equal(t, 0, s.code, "%s%s", s.out, s.err)
		require.Eventually(t, func() bool {
			r, _, err := lodge.Runs(t.Context(), wire.RunFilter{Page: wire.Page{Limit: 1}})
			return err == nil && r[0].Over()
		}, 20*time.Second, 50*time.Millisecond, "the sweep that follows")
	}
	left := in(t, "shelf-floor")
	require.GreaterOrEqual(t, len(left), 2)
	require.Less(t, len(left), 5)
	require.Contains(t, keenOK(t, "image", "history", "--store", "shelf-floor"), "must keep 40 MiB free")
	for _, m := range left {
		keenOK(t, "image", "pin", m.ID)
	}
	s := keen(t, "policy", "run", "weekly-system", "--wait")
	require.Equal(t, 3, s.code, "%s%s", s.out, s.err)
	log := keenOK(t, "run", "log", keenJSON[[]wire.Run](t, "run", "list")[0].ID)
	if !strings.Contains(log, "can't be reached") { // the newest run is the sweep that was asked for
		log = keenOK(t, "run", "log", keenJSON[[]wire.Run](t, "run", "list")[1].ID)
	}
	require.Contains(t, log, "the floor of store shelf-floor can't be reached by rotation")
	for _, m := range left {
		keenOK(t, "image", "unpin", m.ID)
	}
}

package layout_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/core/raw"
)

const mib = 1 << 20

// A disk of 20 MiB with one volume and no table: on one of 30 MiB it has all of that, if it can grow.
func ExampleDisk_Fit() {
	d := disk.Memory(make([]byte, 20*mib))
	copy(d[0x438:], "\x53\xef") // it looks like an ext2
	l, err := layout.Read(d)
	if err != nil {
		panic(err)
	}
	p, err := l.Fit(30*mib, func(q layout.Part) int64 { return layout.Least(d, q) }, "")
	fmt.Println(l.Table, p.Steps[0].Way, p.Steps[0].To.Length/mib, err)
	// Output: none grow 30 <nil>
}

// file is a disk on which sfdisk made partitions.
func file(t testing.TB, size int64, script string) (place string, f *raw.File) {
	t.Helper()
	place = filepath.Join(t.TempDir(), "disk")
	err := os.WriteFile(place, nil, 0o600)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(place, size))
	cmd := exec.Command("sfdisk", "-q", place)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", script, out)
	f, err = raw.Open(place)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return place, f
}

// told is what sfdisk says of a disk: where each partition lies, by number, in sectors.
func told(t testing.TB, place string) (label string, parts map[int][2]int64) {
	t.Helper()
	out, err := exec.Command("sfdisk", "-J", place).Output()
	require.NoError(t, err)
	var said struct {
		Table struct {
			Label      string `json:"label"`
			Partitions []struct {
				Node        string
				Start, Size int64
			} `json:"partitions"`
		} `json:"partitiontable"`
	}
	require.NoError(t, json.Unmarshal(out, &said))
	parts = map[int][2]int64{}
	for _, p := range said.Table.Partitions {
		n := 0
		fmt.Sscan(strings.TrimPrefix(p.Node, place), &n)
		parts[n] = [2]int64{p.Start, p.Size}
	}
	return said.Table.Label, parts
}

// write writes a disk out.
func write(t testing.TB, d disk.Disk) string {
	t.Helper()
	place := filepath.Join(t.TempDir(), "written")
	require.NoError(t, raw.Write(t.Context(), place, d))
	return place
}

// Any division that sfdisk makes is read as it says, and on a disk of another size it is what was planned, by its word: nothing lost but what was to get
// smaller, nothing overlaps, and what lies in partitions is what lay there.
func TestAnyDivision(t *testing.T) {
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 7))
		size := int64(24+r.IntN(40)) * mib
		script := []string{"label: gpt"}
		mbr := r.IntN(2) == 0
		if mbr {
			script[0] = "label: dos"
		}
		n, at, boxed := 1+r.IntN(6), int64(2048), false
		for i := range n {
			if mbr && (i == 3 || i == 1 && r.IntN(2) == 0) && !boxed && i < n-1 {
				script = append(script, fmt.Sprintf("%d: start=%d, type=5", i+1, at))
				boxed = true
			}
			number := i + 1
			if boxed {
				number, at = 5+i, at+2048
			} else if mbr && i > 3 {
				break
			}
			long := int64(2048 * (1 + r.IntN(9)))
			script = append(script, fmt.Sprintf("start=%d, size=%d", at, long))
			if at += long; r.IntN(3) == 0 {
				at += 2048 * int64(r.IntN(5))
			}
			_ = number
		}
		if r.IntN(2) == 0 || at*512 > size-2*mib {
			size = at*512 + 2*mib
		}
		on, f := file(t, size, strings.Join(script, "\n"))
		label, was := told(t, on)
		w, err := os.OpenFile(on, os.O_WRONLY, 0)
		require.NoError(t, err)
		for number, p := range was { // each knows itself, and some look like what can change
			if mbr && number <= 4 && boxedAt(script, number) {
				continue
			}
			_, err = w.WriteAt(fmt.Appendf(nil, "partition %d", number), p[0]*512)
			require.NoError(t, err)
			_, err = w.WriteAt(fmt.Appendf(nil, "end %d", number), (p[0]+p[1])*512-16)
			require.NoError(t, err)
			if r.IntN(2) == 0 {
				_, err = w.WriteAt([]byte("\x53\xef"), p[0]*512+0x438)
				require.NoError(t, err)
			}
		}
		_, err = w.WriteAt([]byte("boot loader"), 40*512)
		require.NoError(t, err)
		require.NoError(t, w.Close())

		l, err := layout.Read(f)
		require.NoError(t, err, "seed %d\n%s", seed, script)
		require.Equal(t, map[string]layout.Table{"gpt": layout.GPT, "dos": layout.MBR}[label], l.Table)
		require.Len(t, l.Parts, len(was))
		for _, p := range l.Parts {
			require.Equal(t, was[p.Number], [2]int64{p.Offset / 512, p.Length / 512}, "seed %d, partition %d\n%s", seed, p.Number, script)
		}

		other := size + int64(r.IntN(60))*mib - int64(r.IntN(30))*mib + 512*int64(r.IntN(2000))
		extra := []layout.Extra{"", "", layout.ESP, layout.BIOSBoot}[r.IntN(4)]
		if mbr && extra == layout.BIOSBoot {
			extra = ""
		}
		plan, err := l.Fit(other, func(p layout.Part) int64 {
			if p.Format == "ext2" {
				return mib
			}
			return p.Length
		}, extra)
		if err != nil {
			require.ErrorIs(t, err, layout.ErrTooSmall, "seed %d", seed)
			if extra == "" {
				require.Less(t, other, size)
			}
			continue
		}
		composed, err := plan.Compose(f)
		require.NoError(t, err, "seed %d", seed)
		place := write(t, composed)
		out, err := exec.Command("sfdisk", "--verify", place).CombinedOutput()
		require.NoError(t, err, "seed %d: %s", seed, out)
		require.Contains(t, string(out), "No errors", "seed %d", seed)
		_, is := told(t, place)
		require.Len(t, is, len(plan.Steps), "seed %d\n%s", seed, script)
		body, err := os.ReadFile(place)
		require.NoError(t, err)
		require.Equal(t, "boot loader", string(body[40*512:][:11]))
		last := int64(0)
		for _, s := range plan.Steps {
			n := s.To.Number
			require.Equal(t, is[n], [2]int64{s.To.Offset / 512, s.To.Length / 512}, "seed %d, partition %d", seed, n)
			last = max(last, s.To.End())
			if mbr && n <= 4 && boxedAt(script, n) || s.Way == layout.Add {
				continue
			}
			require.Equal(t, fmt.Sprintf("partition %d", n), string(body[s.To.Offset:][:len(fmt.Sprintf("partition %d", n))]), "seed %d", seed)
			if s.Way == layout.Keep {
				require.Equal(t, fmt.Sprintf("end %d", n), string(body[s.To.End()-16:][:len(fmt.Sprintf("end %d", n))]), "seed %d, partition %d", seed, n)
			}
		}
		require.Equal(t, other-last, plan.Free)
		again, err := layout.Read(composed)
		require.NoError(t, err)
		require.Len(t, again.Parts, len(plan.Steps))
	}
}

// boxedAt reports whether a script makes a partition the box of logical ones.
func boxedAt(script []string, number int) bool {
	for _, l := range script {
		if strings.HasPrefix(l, fmt.Sprintf("%d: ", number)) && strings.HasSuffix(l, "type=5") {
			return true
		}
	}
	return false
}

// Debian's usual division has swap behind the root, in a box: on a larger disk the root has the room, and the swap is behind it again.
func TestTheRootGrowsAndSwapMoves(t *testing.T) {
	on, f := file(t, 100*mib, "label: dos\nstart=2048, size=122880, bootable, type=83\n2: start=126974, size=69632, type=5\n5: start=126976, size=69630, type=82")
	w, err := os.OpenFile(on, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("\x53\xef"), mib+0x438)
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("SWAPSPACE2"), 126976*512+4086)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	l, err := layout.Read(f)
	require.NoError(t, err)
	p, err := l.Fit(200*mib, func(p layout.Part) int64 { return p.Length }, "")
	require.NoError(t, err)
	composed, err := p.Compose(f)
	require.NoError(t, err)
	_, is := told(t, write(t, composed))
	by := is[1][1] - 122880
	require.EqualValues(t, 104*2048, by, "all the room, in whole MiB")
	require.Equal(t, map[int][2]int64{1: {2048, 122880 + by}, 2: {126974 + by, 69632}, 5: {126976 + by, 69630}}, is)

	_, err = l.Fit(60*mib, func(p layout.Part) int64 { return p.Length }, "")
	require.ErrorIs(t, err, layout.ErrTooSmall)
	require.ErrorContains(t, err, "needs a disk of 96 MiB at least, and this one is of 60 MiB")
}

func FuzzRead(f *testing.F) {
	for _, script := range []string{"label: gpt\nsize=4096\nsize=8192", "label: dos\nsize=4096\n2: type=5\n5: size=2048\n6: size=2048"} {
		_, d := file(f, 24*mib, script)
		head := make([]byte, 64<<10)
		_, err := d.ReadAt(head, 0)
		require.NoError(f, err)
		f.Add(head, int64(24*mib))
	}
	f.Fuzz(func(t *testing.T, head []byte, size int64) {
		if size < 0 || size > 64*mib {
			return
		}
		d, err := disk.Stretches(max(size, int64(len(head))), []disk.Stretch{{Length: max(1, int64(len(head))), From: disk.Memory(append(head, 0))}})
		if err != nil {
			return
		}
		l, err := layout.Read(d)
		if err != nil {
			return
		}
		for _, other := range []int64{d.Size(), d.Size() / 2, d.Size() + 5*mib} {
			p, err := l.Fit(other, func(p layout.Part) int64 { return layout.Least(d, p) }, "")
			if err != nil {
				continue
			}
			if c, err := p.Compose(d); err == nil {
				layout.Read(c)
			}
		}
	})
}

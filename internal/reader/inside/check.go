package inside

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
)

// checkers are the tools that check a kind of file system and change nothing (e2fsck(8), xfs_repair(8), btrfs-check(8), fsck.fat(8)).
var checkers = map[string][]string{
	"ext2": {"/e2fsck", "-f", "-n"}, "ext3": {"/e2fsck", "-f", "-n"}, "ext4": {"/e2fsck", "-f", "-n"},
	"xfs": {"/xfs_repair", "-n"}, "btrfs": {"/btrfs", "check", "--readonly"}, "vfat": {"/fsck.fat", "-n"},
}

// checkTime is how long a tool may take.
const checkTime = 2 * time.Hour

// check has a file system checked by its own tool. It was mounted before, so that its journal is played back, in the guest's own memory.
func (g *Guest) check(ctx context.Context, name string) (reader.Checked, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	i := slices.IndexFunc(g.opened.FileSystems, func(f reader.FileSystem) bool { return f.Name == name })
	if i < 0 {
		return reader.Checked{}, line.Refuse(line.Unknown, "there is no file system %q", name)
	}
	f := g.opened.FileSystems[i]
	tool, ok := checkers[f.Format]
	if !ok {
		return reader.Checked{}, nil
	}
	if _, err := os.Stat(tool[0]); errors.Is(err, os.ErrNotExist) {
		return reader.Checked{}, nil // the host has none
	}
	g.dismantle()
	if place := g.systems[f.Name]; place != "" {
		if err := unix.Unmount(place, 0); err != nil {
			return reader.Checked{}, fmt.Errorf("take %s apart, to check it: %w", name, err)
		}
		delete(g.systems, f.Name)
	}
	defer g.together()
	ctx, end := context.WithTimeout(ctx, checkTime)
	defer end()
	out, err := exec.CommandContext(ctx, tool[0], append(slices.Clone(tool[1:]), g.devices[f.Name])...).CombinedOutput()
	var ended *exec.ExitError
	if ctx.Err() != nil || err != nil && !errors.As(err, &ended) {
		return reader.Checked{}, fmt.Errorf("%s of %s: %w", tool[0][1:], name, errors.Join(err, context.Cause(ctx)))
	}
	return reader.Checked{Tool: tool[0][1:], Clean: err == nil, Said: plain.Text(string(out[max(0, len(out)-2000):]), 2000)}, nil
}

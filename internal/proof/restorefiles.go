package proof

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"keenlodge/internal/browse"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/unpack"
)

const (
	// sampled is of how many files, about, the content is compared once more.
	sampled = 500
	// eachEntry is what an entry takes in a file system beside its content, at most, in bytes.
	eachEntry = 4 << 10
)

// filesByRestore writes the files of an image out into a folder, as a restore does, and compares what lies there with the image's list, whole, and of a
// sample of files what they hold.
func (pr *Proofs) filesByRestore(ctx context.Context, st store.Store, m *image.Manifest, progress func(int64)) (evidence []string, err error) {
	w, err := pr.Scratch.Room(m.Files.Bytes + m.Files.Entries*eachEntry)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	folder, notes := filepath.Join(w.Folder, "whole"), filepath.Join(w.Folder, "notes")
	if err := errors.Join(os.Mkdir(folder, 0o700), os.Mkdir(notes, 0o700)); err != nil {
		return nil, err
	}
	place := unpack.Place{Root: folder, Writable: []string{"/"}, Folder: notes}
	order := back.Order{ID: image.NewID(), Roots: []back.Root{{From: ".", To: "."}}, Existing: back.Replace, Moment: m.Taken}
	plan, err := planned(ctx, st, m, place, order)
	if err != nil {
		return nil, err
	}
	archive := browse.TakeFiles(ctx, st, m, func(string) bool { return true })
	told := int64(0)
	done, err := plan.Put(ctx, files.NewReader(archive), func(p back.Progress) { progress(p.Bytes - told); told = p.Bytes })
	archive.Close()
	if err == nil && done.Failures > 0 {
		err = fmt.Errorf("%d paths could not be written to the scratch folder, such as %s: %s", done.Failures, done.Failed[0].Path, done.Failed[0].Why)
	}
	if err != nil {
		return nil, err
	}
	order.Look = true
	if plan, err = planned(ctx, st, m, place, order); err != nil {
		return nil, err
	}
	for _, s := range plan.Steps {
		if s.Action.Acts() {
			return nil, fmt.Errorf("/%s: what was written out is not what the image says of it (%s: %s): the scratch folder's medium does not keep what it is given", files.Readable(s.Path), s.Action, s.Why)
		}
	}
	n, size, err := pr.sample(ctx, st, m, folder, progress)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("%d files written out whole (%s), and what is there compared with the image's list: kind, size, owner, rights, time and attributes", m.Files.Entries, humanize.IBytes(uint64(m.Files.Bytes))),
		fmt.Sprintf("%d of them read again and compared with the image (%s)", n, humanize.IBytes(uint64(size)))}, nil
}

// planned plans that all files of an image go back to a place.
func planned(ctx context.Context, st store.Store, m *image.Manifest, place unpack.Place, o back.Order) (*unpack.Restore, error) {
	in, err := st.ListFiles(ctx, m)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	list, err := files.NewListReader(in)
	if err != nil {
		return nil, err
	}
	return place.Plan(ctx, o, list)
}

// sample compares the content of some files that were written out with the image, other ones each time.
func (pr *Proofs) sample(ctx context.Context, st store.Store, m *image.Manifest, folder string, progress func(int64)) (n, size int64, err error) {
	every, salt := uint64(max(1, m.Files.Entries/sampled)), fmt.Sprint(time.Now().UnixNano())
	chosen := func(p string) bool {
		h := fnv.New64a()
		io.WriteString(h, salt+p)
		return h.Sum64()%every == 0
	}
	top, err := unix.Open(folder, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, 0, err
	}
	defer unix.Close(top)
	err = st.ReadEntries(ctx, m, chosen, func(e *files.Entry, stored io.Reader) error {
		if e.Kind != files.File || e.Same != "" || e.Unread != "" {
			return nil
		}
		fd, err := unix.Openat2(top, e.Path, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NOFOLLOW, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
		if err != nil {
			return err
		}
		f := os.NewFile(uintptr(fd), e.Path)
		defer f.Close()
		same, err := equal(f, e.Flowing(e.Matched(stored)))
		if err != nil {
			return err
		}
		if !same {
			return errors.New("what was written out is not what the image holds: the scratch folder's medium does not keep what it is given")
		}
		n, size = n+1, size+e.Size
		progress(e.Stored())
		return nil
	})
	return n, size, err
}

// equal reports whether two readers give the same. An error is of the second, which is the image.
func equal(one, two io.Reader) (bool, error) {
	a, b := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(two, b)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return false, err
		}
		m, _ := io.ReadFull(one, a)
		if !bytes.Equal(a[:m], b[:n]) {
			return false, nil
		}
		if n < len(b) {
			return true, nil
		}
	}
}

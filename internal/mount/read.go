package mount

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"

	"keenlodge/internal/core/ledger"
)

// mostRead is how many bytes of files [ReadFiles] reads from one file system; what is beyond is listed only.
const mostRead = 8 << 30

// Count is what was read of a file system. Bytes are those of the files that were read whole.
type Count struct {
	Folders int64 `json:"folders"`
	Entries int64 `json:"entries"`
	Read    int64 `json:"read"`
	Bytes   int64 `json:"bytes"`
	// Ledger says what its ledger does, empty where it has none.
	Ledger string `json:"ledger,omitempty"`
}

// ReadFiles lists a mounted file system, reads its files, and checks a ledger where there is one. The error is about what lies there.
func ReadFiles(ctx context.Context, folder string) (c Count, err error) {
	root, err := os.OpenRoot(folder) // nothing in it leads out of it
	if err != nil {
		return c, err
	}
	defer root.Close()
	buffer := make([]byte, 1<<20)
	err = fs.WalkDir(root.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return err
		}
		if e.IsDir() {
			c.Folders++
			return nil
		}
		c.Entries++
		if !e.Type().IsRegular() || c.Bytes >= mostRead {
			return nil
		}
		n, err := readFile(ctx, root, path, buffer, mostRead-c.Bytes)
		c.Read, c.Bytes = c.Read+1, c.Bytes+n
		if err != nil {
			return fmt.Errorf("read %s: %w", path, err)
		}
		return nil
	})
	if err != nil {
		return c, err
	}
	book, err := openRegular(root, ledger.FileName)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	defer book.Close()
	s, err := ledger.Check(heard{ctx, io.LimitReader(book, mostRead)})
	if err != nil {
		return c, fmt.Errorf("%s: %w", ledger.FileName, err)
	}
	c.Ledger = s.String()
	return c, nil
}

// openRegular opens a regular file and nothing else: a pipe in its place would never answer.
func openRegular(root *os.Root, path string) (*os.File, error) {
	st, err := root.Lstat(path)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no regular file (%s)", path, st.Mode().Type())
	}
	return root.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
}

// readFile reads a file to its end, or as far as most: one may be said to be larger than anything.
func readFile(ctx context.Context, root *os.Root, path string, buffer []byte, most int64) (int64, error) {
	file, err := openRegular(root, path)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	return io.CopyBuffer(struct{ io.Writer }{io.Discard}, heard{ctx, io.LimitReader(file, most)}, buffer)
}

// heard is a reader that ends with its context.
type heard struct {
	ctx context.Context
	io.Reader
}

func (h heard) Read(p []byte) (int, error) {
	if h.ctx.Err() != nil {
		return 0, context.Cause(h.ctx)
	}
	return h.Reader.Read(p)
}

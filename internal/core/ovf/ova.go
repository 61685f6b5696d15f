package ovf

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"regexp"
	"strings"
)

const (
	// mostText bounds a descriptor and a manifest, in bytes, mostMembers the files of a package.
	mostText, mostMembers = 16 << 20, 1024
)

// Write writes a package as one file: the descriptor, the files of the disks, which open gives one after another, and last the digests of all
// (DSP0243 1.1.0, 5.1 and 5.3).
func Write(w io.Writer, m Machine, open func(d Disk) (io.ReadCloser, error)) error {
	out := tar.NewWriter(w)
	var digests bytes.Buffer // of all members, as far as they are written
	add := func(name string, length int64, from io.Reader) error {
		if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: length, Format: tar.FormatGNU}); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		sum := sha256.New()
		n, err := io.CopyBuffer(out, io.TeeReader(from, sum), make([]byte, 1<<20))
		if err == nil && n != length {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		fmt.Fprintf(&digests, "SHA256(%s)= %x\n", name, sum.Sum(nil))
		return nil
	}
	descriptor := Describe(m)
	if err := add(m.Name+".ovf", int64(len(descriptor)), bytes.NewReader(descriptor)); err != nil {
		return err
	}
	for _, d := range m.Disks {
		from, err := open(d)
		if err != nil {
			return err
		}
		err = add(d.File, d.Length, from)
		if err = errors.Join(err, from.Close()); err != nil {
			return err
		}
	}
	if err := add(m.Name+".mf", int64(digests.Len()), bytes.NewReader(bytes.Clone(digests.Bytes()))); err != nil {
		return err
	}
	return out.Close()
}

// Package is an OVA file, open for reading.
type Package struct {
	Machine Machine
	files   map[string]*io.SectionReader
	digests map[string]digest
}

// digest is what a file's digest should be.
type digest struct {
	hash func() hash.Hash
	sum  string
}

// line is one of a manifest.
var line = regexp.MustCompile(`^(SHA1|SHA256)\s*\((.+)\)\s*=\s*([0-9a-fA-F]+)\s*$`)

// Read opens an OVA file of so many bytes. Of its disks nothing is read yet: see [Package.Check].
func Read(r io.ReaderAt, length int64) (*Package, error) {
	counted := &counting{r: io.NewSectionReader(r, 0, length)}
	in := tar.NewReader(counted)
	p := &Package{files: map[string]*io.SectionReader{}, digests: map[string]digest{}}
	first, manifest := "", ""
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it can't be read as an OVA: %w", err)
		}
		if first == "" && path.Ext(h.Name) != ".ovf" {
			return nil, fmt.Errorf("it is no OVA: it begins with %.80q, and no descriptor (.ovf)", h.Name)
		}
		if h.Typeflag != tar.TypeReg || !plainName(h.Name) || len(p.files) == mostMembers || p.files[h.Name] != nil {
			return nil, fmt.Errorf("it has a member %.80q that no package has: a folder, a link, a name that leads out of it or is there twice", h.Name)
		}
		if h.Size > length-counted.n {
			return nil, fmt.Errorf("%s: it is cut off", h.Name)
		}
		p.files[h.Name] = io.NewSectionReader(r, counted.n, h.Size)
		if first == "" {
			first = h.Name
		}
		if path.Ext(h.Name) == ".mf" {
			manifest = h.Name
		}
	}
	if first == "" {
		return nil, errors.New("it is no OVA: there is nothing in it")
	}
	if manifest != "" {
		text, err := p.text(manifest)
		if err != nil {
			return nil, err
		}
		for l := range strings.Lines(string(text)) {
			if at := line.FindStringSubmatch(strings.TrimSpace(l)); at != nil {
				make := sha256.New
				if at[1] == "SHA1" {
					make = sha1.New
				}
				p.digests[at[2]] = digest{make, strings.ToLower(at[3])}
			}
		}
	}
	descriptor, err := p.text(first)
	if err != nil {
		return nil, err
	}
	if err := p.Check(first, func(int64) {}); err != nil {
		return nil, err
	}
	if p.Machine, err = Parse(descriptor); err != nil {
		return nil, err
	}
	for _, d := range p.Machine.Disks {
		if f := p.files[d.File]; f == nil {
			return nil, fmt.Errorf("its disk %s is not in it", d.File)
		}
	}
	return p, nil
}

// text reads a small file.
func (p *Package) text(name string) ([]byte, error) {
	f := p.files[name]
	if f.Size() > mostText {
		return nil, fmt.Errorf("%s has %d bytes, which is too many for a text", name, f.Size())
	}
	return io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
}

// File is a file of the package, and its length in bytes.
func (p *Package) File(name string) (io.ReaderAt, int64) {
	f := p.files[name]
	return f, f.Size()
}

// Check compares a file with the digest that the package has of it; where it has none there is nothing to compare. progress is called with bytes that were read.
func (p *Package) Check(name string, progress func(int64)) error {
	want, ok := p.digests[name]
	if !ok {
		return nil
	}
	f := p.files[name]
	sum := want.hash()
	in := bufio.NewReaderSize(io.NewSectionReader(f, 0, f.Size()), 1<<20)
	buffer := make([]byte, 1<<20)
	for {
		n, err := in.Read(buffer)
		sum.Write(buffer[:n])
		progress(int64(n))
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if hex.EncodeToString(sum.Sum(nil)) != want.sum {
		return fmt.Errorf("%s is not what the package's own digest says: it was damaged or changed", name)
	}
	return nil
}

// counting counts what is read; what is skipped is read by nobody, and counts as well.
type counting struct {
	r *io.SectionReader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// Seek implements [io.Seeker], so that nothing is read of what is passed over.
func (c *counting) Seek(offset int64, whence int) (int64, error) {
	at, err := c.r.Seek(offset, whence)
	if err == nil {
		c.n = at
	}
	return at, err
}

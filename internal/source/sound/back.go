package sound

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"filippo.io/age"
	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"keenlodge/internal/core/export"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

const (
	// aboutFile is what an export begins with, partsFolder where its parts lie after it.
	aboutFile, partsFolder = "export.json", "parts/"
	// headLength is how much of an export is looked at to find its passphrase: the head of an age file with one recipient is shorter, in bytes.
	headLength = 1 << 10
)

// wrong is a verdict on an export.
func wrong(format string, args ...any) error {
	return fmt.Errorf("%w: %w", source.ErrExport, fmt.Errorf(format, args...))
}

// phrase finds the passphrase of an export by its head.
func (a *Appliance) phrase(head []byte) (string, error) {
	all, err := a.passphrases()
	if err != nil {
		return "", err
	}
	var last error
	for _, p := range all {
		key, err := age.NewScryptIdentity(p)
		if err != nil {
			return "", err
		}
		key.SetMaxWorkFactor(20)
		if _, last = age.Decrypt(bytes.NewReader(head), key); last == nil {
			return p, nil
		}
	}
	if noMatch := new(age.NoIdentityMatchError); errors.As(last, &noMatch) {
		return "", wrong("none of the %d passphrases of %s opens it; add the one that it was written with as a further line", len(all), a.settings.PassphraseFile)
	}
	return "", wrong("it is no file that age has encrypted with a passphrase: %w", last)
}

// OpenExport implements [source.Exporter].
func (a *Appliance) OpenExport(_ context.Context, told export.Told, content io.Reader) ([]string, error) {
	in := bufio.NewReaderSize(content, headLength)
	head, err := in.Peek(headLength)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	phrase, err := a.phrase(head)
	if err != nil {
		return nil, err
	}
	key, err := age.NewScryptIdentity(phrase)
	if err != nil {
		return nil, err
	}
	key.SetMaxWorkFactor(20)
	opened, err := age.Decrypt(in, key)
	if err != nil {
		return nil, wrong("open it: %w", err)
	}
	total, err := matched(told, opened)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("opened with its passphrase: %s %s, build %s; %s (%s) read whole, each as its appliance said", told.Product, told.Release, told.Build, english.Plural(len(told.Parts), "part", ""), humanize.IBytes(uint64(total)))}, nil
}

// matched reads what an export holds, to its end, and matches it with what is told of it. It returns how many bytes its parts have.
func matched(told export.Told, opened io.Reader) (total int64, err error) {
	packed := tar.NewReader(opened)
	next := func(name string) error {
		h, err := packed.Next()
		if errors.Is(err, io.EOF) {
			err = errors.New("it ends before")
		}
		if err == nil && h.Name != name {
			err = fmt.Errorf("there is %q in its place", plain.Text(h.Name, 100))
		}
		if err != nil {
			return wrong("%s: %w", name, err)
		}
		return nil
	}
	if err := next(aboutFile); err != nil {
		return 0, err
	}
	var is about
	if err := json.NewDecoder(io.LimitReader(packed, 1<<20)).Decode(&is); err != nil {
		return 0, wrong("%s: %w", aboutFile, err)
	}
	if err := told.Fits(is.System, is.Release, is.build()); err != nil {
		return 0, wrong("what it says of itself is not what the image says: %w", err)
	}
	for _, p := range told.Parts {
		if err := next(partsFolder + p.Name); err != nil {
			return 0, err
		}
		sum := sha256.New()
		n, err := io.Copy(sum, packed)
		if got := hex.EncodeToString(sum.Sum(nil)); err == nil && p.SHA256 != "" && got != p.SHA256 {
			err = fmt.Errorf("its SHA-256 is %s, and should be %s", got, p.SHA256)
		}
		if err != nil {
			return 0, wrong("part %s: %w", p.Name, err)
		}
		total += n
	}
	if h, err := packed.Next(); err == nil {
		return 0, wrong("after its parts there is %q, of which the image says nothing", plain.Text(h.Name, 100))
	} else if !errors.Is(err, io.EOF) {
		return 0, wrong("after its parts: %w", err)
	}
	if _, err := io.Copy(io.Discard, opened); err != nil { // what is cut has no end that is sealed
		return 0, wrong("its end: %w", err)
	}
	return total, nil
}

// Holding implements [source.Exporter].
func (a *Appliance) Holding(ctx context.Context, name string) (fresh bool, mark string, err error) {
	_, is, err := a.machine(ctx, name)
	mark, _ = strings.CutPrefix(is.Imported, marked)
	return is.Fresh, plain.Text(mark, 100), err
}

// CanTakeBack implements [source.Exporter].
func (a *Appliance) CanTakeBack(ctx context.Context, name string, told export.Told) error {
	_, is, err := a.machine(ctx, name)
	if err != nil {
		return err
	}
	return is.takes(told)
}

// takes says why an appliance can't take an export back, nil where it can.
func (a about) takes(told export.Told) error {
	now := a.told()
	return told.Fits(now.Product, now.Release, now.Build)
}

// TakeBack implements [source.Exporter].
func (a *Appliance) TakeBack(ctx context.Context, name, mark string, told export.Told, content io.Reader) (err error) {
	in := bufio.NewReaderSize(content, headLength)
	head, err := in.Peek(headLength)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	phrase, err := a.phrase(head)
	if err != nil {
		return err
	}
	n, is, err := a.machine(ctx, name)
	if err == nil {
		err = is.takes(told)
	}
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_, left := a.ClearTakeBack(context.WithoutCancel(ctx), name, mark, false)
			err = errors.Join(err, left)
		}
	}()
	at := rest.Path("imports", marked+mark)
	if err := n.Send(ctx, http.MethodPut, at, told.Bytes, in, nil); err != nil {
		return fmt.Errorf("bring the export to %s: %w", name, err)
	}
	if err := n.Task(ctx, exportTime, http.MethodPost, at+"/apply", map[string]string{"passphrase": phrase}, nil); err != nil {
		return fmt.Errorf("have %s take the export back: %w", name, err)
	}
	return a.holds(ctx, name, mark, told)
}

// holds makes sure that an appliance has what an export says: an answer alone is no restore.
func (a *Appliance) holds(ctx context.Context, name, mark string, told export.Told) error {
	n, is, err := a.machine(ctx, name)
	if err != nil {
		return err
	}
	if is.Imported != marked+mark {
		return fmt.Errorf("%s says that it has taken the export back, and has not: the last one was %q", name, plain.Text(is.Imported, 100))
	}
	all, err := n.parts(ctx)
	if err != nil {
		return err
	}
	has := map[string]export.Part{}
	for _, p := range all {
		has[p.Name] = p
	}
	for _, p := range told.Parts {
		if got, ok := has[p.Name]; !ok || got.Bytes != p.Bytes || got.SHA256 != p.SHA256 {
			return wrong("part %s is not on %s as it was exported", p.Name, name)
		}
	}
	return nil
}

// ClearTakeBack implements [source.Exporter].
func (a *Appliance) ClearTakeBack(ctx context.Context, name, mark string, reset bool) (found []string, err error) {
	var errs []error
	for _, n := range a.nodes {
		err := n.settled(ctx, marked+mark)
		if err == nil {
			err = n.Call(ctx, http.MethodDelete, rest.Path("imports", marked+mark), nil, nil)
		}
		errs = append(errs, err)
	}
	if reset {
		n, is, err := a.machine(ctx, name)
		if err == nil && is.Imported == marked+mark {
			found = append(found, "the export that it had taken back")
			err = n.Task(ctx, taskTime, http.MethodPost, "/reset", map[string]string{"if": is.Imported}, nil)
			if err == nil {
				if fresh, _, looked := a.Holding(ctx, name); looked != nil || !fresh {
					err = errors.Join(looked, fmt.Errorf("%s was reset, and is not fresh", name))
				}
			}
		}
		errs = append(errs, err)
	}
	return found, errors.Join(errs...)
}

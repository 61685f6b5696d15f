package s3

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"

	"keenlodge/internal/store/medium"
)

// Locking is a bucket with object lock, in which each object keeps its versions. An object is its oldest version: what was put over it later,
// and the marks that a deletion leaves, hide nothing. It implements [medium.Locker].
type Locking struct {
	*Bucket
	// byDefault is how long the bucket locks all that is put into it, "" where it does not.
	byDefault string

	mu     sync.Mutex
	oldest map[string]string // versions that were seen to be the oldest, by names
}

// remembered bounds how many versions are kept in memory; asking for one again is one call.
const remembered = 1 << 14

// Locks implements [medium.Locker].
func (h *Locking) Locks() string {
	if h.byDefault != "" {
		return fmt.Sprintf("by the bucket's object lock. But it also locks all else that is put into it for %s, even what comes and goes, such as the signs of life of a run: take its default retention away", h.byDefault)
	}
	return "by the bucket's object lock, in compliance mode: nobody can take it off or shorten it, no key and no administrator of the service"
}

// version is one of an object.
type version struct {
	name, id string
	size     int64
	modified time.Time
	mark     bool // that it was deleted
	at       int  // in a list
}

// page is how many versions are asked for at once.
const page = 1000

// objects visits each object whose name begins with prefix, with all of its versions: those that are no marks newest first. Services tell of an object's
// versions and of its marks in different parts of a page, so an object is complete when it did not appear for two pages.
func (h *Locking) objects(ctx context.Context, prefix string, visit func([]version) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // ends the listing where visit fails
	type seen struct {
		versions []version
		last     int
	}
	gathered := map[string]*seen{}
	var queue []version // of which the last two pages are waited for
	settle := func(before int) error {
		for len(queue) > 0 && queue[0].at < before {
			name := queue[0].name
			queue = queue[1:]
			if o := gathered[name]; o != nil && o.last < before {
				delete(gathered, name)
				if err := visit(o.versions); err != nil {
					return err
				}
			}
		}
		return nil
	}
	n := 0
	for o := range h.core.Client.ListObjectsIter(ctx, h.c.Bucket, minio.ListObjectsOptions{Prefix: h.prefix + prefix, Recursive: true, WithVersions: true, MaxKeys: page}) {
		if o.Err != nil {
			return h.failed("list", prefix, o.Err)
		}
		n++
		v := version{strings.TrimPrefix(o.Key, h.prefix), o.VersionID, o.Size, o.LastModified, o.IsDeleteMarker, n}
		row := gathered[v.name]
		if row == nil {
			row = &seen{}
			gathered[v.name] = row
		}
		row.versions, row.last = append(row.versions, v), n
		queue = append(queue, v)
		if err := settle(n - 2*page); err != nil {
			return err
		}
	}
	if err := context.Cause(ctx); err != nil {
		return err
	}
	return settle(n + 1)
}

// first is the oldest version that is no mark.
func first(row []version) (version, bool) {
	for _, v := range slices.Backward(row) {
		if !v.mark {
			return v, true
		}
	}
	return version{}, false
}

// all lists the versions of one object.
func (h *Locking) all(ctx context.Context, name string) (found []version, err error) {
	err = h.objects(ctx, name, func(row []version) error {
		if row[0].name == name { // and not another, whose name begins so
			found = row
		}
		return nil
	})
	return found, err
}

func (h *Locking) remember(name, id string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.oldest == nil || len(h.oldest) >= remembered {
		h.oldest = map[string]string{}
	}
	h.oldest[name] = id
}

// find is the version that an object is.
func (h *Locking) find(ctx context.Context, verb, name string) (string, error) {
	h.mu.Lock()
	id, ok := h.oldest[name]
	h.mu.Unlock()
	if ok {
		return id, nil
	}
	row, err := h.all(ctx, name)
	if err != nil {
		return "", err
	}
	v, ok := first(row)
	if !ok {
		return "", fmt.Errorf("%s: %w", medium.Doing(verb, name, h), medium.ErrNotFound)
	}
	h.remember(name, v.id)
	return v.id, nil
}

func (h *Locking) forget(name string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.oldest, name)
}

// PutUntil implements [medium.Locker].
func (h *Locking) PutUntil(ctx context.Context, name string, content []byte, until time.Time) error {
	_, err := h.core.Client.PutObject(ctx, h.c.Bucket, h.prefix+name, bytes.NewReader(content), int64(len(content)), minio.PutObjectOptions{PartSize: partSize,
		ContentType: "application/octet-stream", Mode: minio.Compliance, RetainUntilDate: up(until), SendContentMd5: true})
	return h.failed("write", name, err)
}

// up is a moment that the protocol can say, not before t.
func up(t time.Time) time.Time { return t.Add(time.Second - 1).UTC().Truncate(time.Second) }

// Extend implements [medium.Locker].
func (h *Locking) Extend(ctx context.Context, name string, until time.Time) error {
	id, err := h.find(ctx, "lock", name)
	if err != nil {
		return err
	}
	mode, until := minio.Compliance, up(until)
	err = h.failed("lock", name, h.core.Client.PutObjectRetention(ctx, h.c.Bucket, h.prefix+name, minio.PutObjectRetentionOptions{Mode: &mode, RetainUntilDate: &until, VersionID: id}))
	if err == nil || errors.Is(err, medium.ErrNotFound) || errors.Is(err, medium.ErrUnreachable) {
		return err
	}
	// A lock is never shortened; it may be longer already.
	if had, asked := h.lockedUntil(ctx, name, id); asked == nil && !had.Before(until) {
		return nil
	}
	return err
}

// lockedUntil is until when a version is locked, the zero time for one that is not. Looking at it tells so by headers; services answer the call that is
// made for it in forms that differ.
func (h *Locking) lockedUntil(ctx context.Context, name, id string) (time.Time, error) {
	o, err := h.core.Client.StatObject(ctx, h.c.Bucket, h.prefix+name, minio.StatObjectOptions{VersionID: id})
	text := o.Metadata.Get("X-Amz-Object-Lock-Retain-Until-Date")
	if err != nil || text == "" {
		return time.Time{}, err
	}
	return time.Parse(time.RFC3339, text)
}

// Get implements [medium.Medium].
func (h *Locking) Get(ctx context.Context, name string, offset, length int64) ([]byte, error) {
	id, err := h.find(ctx, "read", name)
	if err != nil || length == 0 {
		return nil, err
	}
	out, err := h.get(ctx, name, id, offset, length)
	if errors.Is(err, medium.ErrNotFound) {
		h.forget(name) // it went, and may have come again
		if id, err = h.find(ctx, "read", name); err == nil {
			out, err = h.get(ctx, name, id, offset, length)
		}
	}
	return out, err
}

// List implements [medium.Medium].
func (h *Locking) List(ctx context.Context, prefix string, visit func(medium.Object) error) error {
	return h.objects(ctx, prefix, func(row []version) error {
		v, ok := first(row)
		if !ok {
			return nil
		}
		h.remember(v.name, v.id)
		return visit(medium.Object{Name: v.name, Size: v.size, Modified: v.modified})
	})
}

// Stat implements [medium.Medium].
func (h *Locking) Stat(ctx context.Context, name string) (medium.Object, error) {
	row, err := h.all(ctx, name)
	if err != nil {
		return medium.Object{}, err
	}
	v, ok := first(row)
	if !ok {
		return medium.Object{}, fmt.Errorf("%s: %w", medium.Doing("look at", name, h), medium.ErrNotFound)
	}
	return medium.Object{Name: name, Size: v.size, Modified: v.modified}, nil
}

// Delete implements [medium.Medium]. It deletes versions rather than leave a mark: what is to go is gone, and what is locked is not hidden.
func (h *Locking) Delete(ctx context.Context, name string) error {
	row, err := h.all(ctx, name)
	if err != nil {
		return err
	}
	h.forget(name)
	for _, v := range row { // what lies over the object goes, whether it does itself or not
		err = errors.Join(err, h.deleteVersion(ctx, v))
	}
	return err
}

func (h *Locking) deleteVersion(ctx context.Context, v version) error {
	err := h.core.Client.RemoveObject(ctx, h.c.Bucket, h.prefix+v.name, minio.RemoveObjectOptions{VersionID: v.id})
	if r := minio.ToErrorResponse(err); err != nil && (r.StatusCode == http.StatusForbidden || r.Code == "AccessDenied") {
		if until, asked := h.lockedUntil(ctx, v.name, v.id); asked == nil && until.After(time.Now().Add(-time.Minute)) {
			return fmt.Errorf("%s: %w until %s", medium.Doing("delete", v.name, h), medium.ErrLocked, until.UTC().Format("2006-01-02 15:04:05 MST"))
		}
	}
	if err = h.failed("delete", v.name, err); errors.Is(err, medium.ErrNotFound) {
		return nil
	}
	return err
}

// MendHidden implements [medium.Locker]: it deletes what lies over objects.
func (h *Locking) MendHidden(ctx context.Context) (names []string, err error) {
	err = h.objects(ctx, "", func(row []version) error {
		v, ok := first(row)
		if !ok || len(row) == 1 {
			return nil
		}
		names = append(names, v.name)
		for _, over := range row {
			if over.id == v.id {
				continue
			}
			if err := h.deleteVersion(ctx, over); err != nil && !errors.Is(err, medium.ErrLocked) {
				return err
			}
		}
		return nil
	})
	return names, err
}

// Package s3 is the medium of an object service that speaks the S3 protocol.
package s3

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"keenlodge/internal/store/medium"
)

// Config says where the objects are.
type Config struct {
	// Endpoint is the service's address, http:// or https:// and host, with a port if it is not the usual one.
	Endpoint string
	Bucket   string
	// Prefix begins all names; "" for the whole bucket.
	Prefix string
	Region string
	// PathStyle puts the bucket into the path of addresses instead of the host's name.
	PathStyle            bool
	AccessKey, SecretKey string
	// Transport is for tests; nil is the usual one.
	Transport http.RoundTripper
}

// partSize is how much of an object travels in one piece of a multipart upload, in bytes.
const partSize = 16 << 20

// tries is how often a read is begun whose line was cut.
const tries = 4

// Bucket is a bucket, or what is below a prefix of it. It implements [medium.Medium].
type Bucket struct {
	c      Config
	core   *minio.Core
	prefix string
}

// Open signs in and looks whether the bucket is there.
func Open(ctx context.Context, c Config) (*Bucket, error) {
	u, err := url.Parse(c.Endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.Path != "" && u.Path != "/" {
		return nil, fmt.Errorf("endpoint %q: not an address; write for example https://objects.brindle.example", c.Endpoint)
	}
	if c.AccessKey == "" || c.SecretKey == "" {
		return nil, fmt.Errorf("bucket %s at %s: %w: this lodge has no access key for it", c.Bucket, c.Endpoint, medium.ErrRefused)
	}
	lookup := minio.BucketLookupDNS
	if c.PathStyle {
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(u.Host, &minio.Options{Creds: credentials.NewStaticV4(c.AccessKey, c.SecretKey, ""), Secure: u.Scheme == "https",
		Region: c.Region, BucketLookup: lookup, Transport: c.Transport, MaxRetries: tries})
	if err != nil {
		return nil, fmt.Errorf("bucket %s at %s: %w", c.Bucket, c.Endpoint, err)
	}
	b := &Bucket{c: c, core: core, prefix: strings.Trim(c.Prefix, "/")}
	if b.prefix != "" {
		b.prefix += "/"
	}
	// Listing tells why something is refused, which asking for the bucket alone does not.
	enough := errors.New("enough")
	if err := b.list(ctx, "", 1, func(medium.Object) error { return enough }); err != nil && !errors.Is(err, enough) {
		return nil, err
	}
	return b, nil
}

// Reach is Open, and a [Locking] of a bucket that has object lock.
func Reach(ctx context.Context, c Config) (medium.Medium, error) {
	b, err := Open(ctx, c)
	if err != nil {
		return nil, err
	}
	lock, mode, validity, unit, err := b.core.Client.GetObjectLockConfig(ctx, b.c.Bucket)
	switch err := b.failed("ask for the object lock of", "", err); {
	case errors.Is(err, medium.ErrUnreachable):
		return nil, err
	case err != nil || lock != "Enabled":
		return b, nil // it has none, does not know what that is, or does not say
	}
	h := &Locking{Bucket: b}
	if mode != nil && validity != nil && unit != nil {
		h.byDefault = fmt.Sprintf("%d %s", *validity, strings.ToLower(string(*unit)))
	}
	return h, nil
}

func (b *Bucket) String() string {
	return fmt.Sprintf("bucket %s at %s", path.Join(b.c.Bucket, b.c.Prefix), b.c.Endpoint)
}

// Put implements [medium.Medium]. The service shows an object when all of it is there, and not before.
func (b *Bucket) Put(ctx context.Context, name string, content []byte) error {
	_, err := b.core.Client.PutObject(ctx, b.c.Bucket, b.prefix+name, bytes.NewReader(content), int64(len(content)),
		minio.PutObjectOptions{PartSize: partSize, ContentType: "application/octet-stream"})
	return b.failed("write", name, err)
}

// Get implements [medium.Medium].
func (b *Bucket) Get(ctx context.Context, name string, offset, length int64) ([]byte, error) {
	if length == 0 {
		_, err := b.Stat(ctx, name)
		return nil, err
	}
	return b.get(ctx, name, "", offset, length)
}

// get reads a range of a version, or of the newest one.
func (b *Bucket) get(ctx context.Context, name, version string, offset, length int64) (out []byte, err error) {
	err = again(ctx, func() (err error) {
		out, err = b.getOnce(ctx, name, version, offset, length)
		return err
	})
	return out, b.failed("read", name, err)
}

func (b *Bucket) getOnce(ctx context.Context, name, version string, offset, length int64) ([]byte, error) {
	options := minio.GetObjectOptions{VersionID: version}
	if offset > 0 || length > 0 {
		end := int64(0) // to the end
		if length > 0 {
			end = offset + length - 1
		}
		if err := options.SetRange(offset, end); err != nil {
			return nil, err
		}
	}
	body, info, _, err := b.core.GetObject(ctx, b.c.Bucket, b.prefix+name, options)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	if length < 0 {
		length = info.Size
	} else if info.Size < length {
		return nil, errShort // the service gave what there is
	}
	if err := medium.CheckWhole(length); err != nil {
		return nil, err
	}
	out := make([]byte, length)
	if _, err := io.ReadFull(body, out); err != nil {
		return nil, fmt.Errorf("%w: %v", errCut, err)
	}
	return out, nil
}

var (
	// errShort marks an object that ends before what was asked for.
	errShort = io.ErrUnexpectedEOF
	// errCut marks an answer that broke off.
	errCut = errors.New("the answer broke off")
)

// again does what failed for want of a line once more, a little later each time.
func again(ctx context.Context, act func() error) error {
	for n := 0; ; n++ {
		err := act()
		if !errors.Is(err, errCut) || n == tries-1 {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(time.Duration(200<<n) * time.Millisecond):
		}
	}
}

// List implements [medium.Medium].
func (b *Bucket) List(ctx context.Context, prefix string, visit func(medium.Object) error) error {
	return b.list(ctx, prefix, 1000, visit)
}

// list asks for a number of objects at a time.
func (b *Bucket) list(ctx context.Context, prefix string, atOnce int, visit func(medium.Object) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // ends the listing where visit fails
	for o := range b.core.Client.ListObjectsIter(ctx, b.c.Bucket, minio.ListObjectsOptions{Prefix: b.prefix + prefix, Recursive: true, MaxKeys: atOnce}) {
		if o.Err != nil {
			return b.failed("list", prefix, o.Err)
		}
		if err := visit(medium.Object{Name: strings.TrimPrefix(o.Key, b.prefix), Size: o.Size}); err != nil {
			return err
		}
	}
	return context.Cause(ctx)
}

// Stat implements [medium.Medium].
func (b *Bucket) Stat(ctx context.Context, name string) (medium.Object, error) {
	o, err := b.core.Client.StatObject(ctx, b.c.Bucket, b.prefix+name, minio.StatObjectOptions{})
	return medium.Object{Name: name, Size: o.Size, Modified: o.LastModified}, b.failed("look at", name, err)
}

// Delete implements [medium.Medium].
func (b *Bucket) Delete(ctx context.Context, name string) error {
	err := b.failed("delete", name, b.core.Client.RemoveObject(ctx, b.c.Bucket, b.prefix+name, minio.RemoveObjectOptions{}))
	if errors.Is(err, medium.ErrNotFound) {
		return nil
	}
	return err
}

// Room implements [medium.Medium]: the protocol can't tell.
func (b *Bucket) Room(context.Context) (medium.Room, error) {
	return medium.Room{FreeBytes: -1, TotalBytes: -1, FreeInodes: -1, TotalInodes: -1}, nil
}

// Close implements [medium.Medium].
func (b *Bucket) Close() error { return nil }

// Exposed implements [medium.Exposer]: it asks for the object as a stranger does, without a signature.
func (b *Bucket) Exposed(ctx context.Context, name string) (string, error) {
	u, err := url.Parse(b.c.Endpoint)
	if err != nil {
		return "", err
	}
	if b.c.PathStyle {
		u = u.JoinPath(b.c.Bucket, b.prefix+name)
	} else {
		u.Host = b.c.Bucket + "." + u.Host
		u = u.JoinPath(b.prefix + name)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return "", err
	}
	client := http.Client{Transport: b.c.Transport, Timeout: 30 * time.Second}
	r, err := client.Do(req)
	if err != nil {
		return "", err
	}
	defer r.Body.Close()
	if r.StatusCode == http.StatusOK {
		return fmt.Sprintf("everyone who knows the address can read bucket %s; close it for the public", b.c.Bucket), nil
	}
	return "", nil
}

// failed words an error and maps it onto the medium's own. Keys are in none of them.
func (b *Bucket) failed(verb, name string, err error) error {
	if err == nil {
		return nil
	}
	kind := error(nil)
	r := minio.ToErrorResponse(err)
	var network net.Error
	switch {
	case r.Code == "NoSuchBucket" || errors.Is(err, medium.ErrNoPlace):
		kind = medium.ErrNoPlace
	case r.Code == "NoSuchKey" || r.Code == "NoSuchVersion" || r.StatusCode == http.StatusNotFound:
		kind = medium.ErrNotFound
	case errors.Is(err, errShort) || r.Code == "InvalidRange" || r.StatusCode == http.StatusRequestedRangeNotSatisfiable:
		kind = io.ErrUnexpectedEOF
	case r.Code == "InvalidAccessKeyId" || r.Code == "SignatureDoesNotMatch":
		kind = medium.ErrRefused
	case r.StatusCode == http.StatusForbidden || r.Code == "AccessDenied":
		kind = medium.ErrNoRight
	case r.StatusCode == http.StatusInsufficientStorage || strings.Contains(r.Code, "StorageFull") || strings.Contains(r.Code, "QuotaExceeded"):
		kind = medium.ErrFull
	case errors.As(err, &network) || errors.Is(err, errCut) || errors.Is(err, io.EOF):
		kind = medium.ErrUnreachable
	}
	if kind == nil {
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, b), err)
	}
	return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, b), kind, err)
}

package api

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/browse"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/reader"
	"keenlodge/internal/wire"
)

// registerFiles has what looks into images. Who looks, and at what, is noted.
func (s *server) registerFiles(a huma.API) {
	type byID struct {
		ID string `path:"id"`
	}
	type Inside struct { // huma fills in only what is exported
		ID   string `path:"id"`
		Path string `query:"path" doc:"a path from / on, or NAME:PATH for one in a file system"`
	}
	get(s, a, "list-file-systems", "/api/v1/images/{id}/file-systems", "What lies on the disks of an image", func(ctx context.Context, in *byID) (wire.OpenedDisks, error) {
		if err := s.begin(ctx); err != nil {
			return wire.OpenedDisks{}, err
		}
		o, err := s.l.Browse.FileSystems(ctx, in.ID)
		return wire.OpenedDisks{Tree: o.Tree, FileSystems: eachOf(o.FileSystems, func(f reader.FileSystem) wire.FileSystem { return wire.FileSystem(f) })}, err
	})
	huma.Register(a, huma.Operation{OperationID: "list-image-files", Method: http.MethodGet, Path: "/api/v1/images/{id}/files", Summary: "The files of an image, as mtree(5) has them: of a folder; or of an image of files all of them, where none is named"},
		func(ctx context.Context, in *Inside) (*huma.StreamResponse, error) {
			list, err := look(s, ctx, in.Path, func(at browse.Place) (io.ReadCloser, error) {
				if in.Path == "" {
					return s.l.Stores.ListFiles(ctx, in.ID)
				}
				return s.l.Browse.List(ctx, in.ID, at)
			})
			if err != nil {
				return nil, err
			}
			return s.stream(in.ID, list, "text/plain; charset=utf-8", nil), nil
		})
	type ranged struct {
		Inside
		Range string `header:"Range"`
	}
	huma.Register(a, huma.Operation{OperationID: "read-image-file", Method: http.MethodGet, Path: "/api/v1/images/{id}/content", Summary: "A file of an image, or a range of its bytes (RFC 9110, section 14)"},
		func(ctx context.Context, in *ranged) (*huma.StreamResponse, error) {
			var e files.Entry
			var n int64
			offset, length, last, asked := parseRange(in.Range)
			content, err := look(s, ctx, in.Path, func(at browse.Place) (_ io.ReadCloser, err error) {
				var content io.ReadCloser
				if last {
					if e, _, content, err = s.l.Browse.Read(ctx, in.ID, at, 0, 0); err != nil {
						return nil, err
					}
					content.Close()
					offset, length = max(0, e.Size-length), -1
				}
				e, n, content, err = s.l.Browse.Read(ctx, in.ID, at, offset, length)
				return content, err
			})
			if err != nil {
				return nil, err
			}
			return s.stream(in.ID, content, "application/octet-stream", func(to huma.Context) {
				to.SetHeader("Accept-Ranges", "bytes")
				to.SetHeader("Content-Length", strconv.FormatInt(n, 10))
				to.SetHeader("Content-Disposition", attachment(path.Base(e.Path)))
				to.SetHeader("Last-Modified", e.Modified.UTC().Format(http.TimeFormat))
				if asked && n > 0 {
					to.SetHeader("Content-Range", fmt.Sprintf("bytes %d-%d/%d", offset, offset+n-1, e.Size))
					to.SetStatus(http.StatusPartialContent)
				}
			}), nil
		})
	type packed struct {
		Inside
		Form string `query:"form" enum:"tar,zip" default:"tar" doc:"tar (pax, with owners, modes, times, attributes and links) or zip (files, folders and times)"`
	}
	huma.Register(a, huma.Operation{OperationID: "archive-image-files", Method: http.MethodGet, Path: "/api/v1/images/{id}/archive", Summary: "A file or folder of an image with all that lies below it, as an archive"},
		func(ctx context.Context, in *packed) (*huma.StreamResponse, error) {
			var base string
			var from *browse.Packed
			_, err := look(s, ctx, in.Path, func(at browse.Place) (_ io.ReadCloser, err error) {
				if base = path.Base(at.Path); base == "/" {
					base = in.ID
				}
				from, err = s.l.Browse.Archive(ctx, in.ID, at)
				return nil, err
			})
			if err != nil {
				return nil, err
			}
			kind, send := "application/x-tar", from.Tar
			if in.Form == "zip" {
				kind, send = "application/zip", from.Zip
			}
			return s.streamBy(in.ID, from, kind, func(to huma.Context) { to.SetHeader("Content-Disposition", attachment(base+"."+in.Form)) }, send), nil
		})
}

// look notes that somebody looks into an image at a place, and opens what is there.
func look(s *server, ctx context.Context, place string, open func(browse.Place) (io.ReadCloser, error)) (io.ReadCloser, error) {
	at, err := browse.ParsePlace(place)
	if err == nil {
		if place != "" {
			callOf(ctx).deed.Target += "?path=" + plain.Text(place, 500)
		}
		err = s.begin(ctx)
	}
	var in io.ReadCloser
	if err == nil {
		in, err = open(at)
	}
	if err != nil {
		callOf(ctx).deed.Why = fault.Text(err)
		return nil, s.httpError(err)
	}
	return in, nil
}

// stream sends what was opened.
func (s *server) stream(id string, in io.ReadCloser, kind string, head func(huma.Context)) *huma.StreamResponse {
	return s.streamBy(id, in, kind, head, func(w io.Writer) error {
		_, err := io.Copy(w, in)
		return err
	})
}

// streamBy has send send what was opened.
func (s *server) streamBy(id string, in io.ReadCloser, kind string, head func(huma.Context), send func(io.Writer) error) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(to huma.Context) {
		defer in.Close()
		to.SetHeader("Content-Type", kind)
		to.SetHeader("X-Content-Type-Options", "nosniff")
		if head != nil {
			head(to)
		}
		if err := send(to.BodyWriter()); err != nil {
			s.log.Warn("what is in an image could not be sent whole", "image", id, "error", err)
			panic(http.ErrAbortHandler) // so that who reads it notices
		}
	}}
}

// attachment names a file for a browser that saves it.
func attachment(name string) string {
	return mime.FormatMediaType("attachment", map[string]string{"filename": files.Readable(name)})
}

// parseRange reads a header that asks for one range; of several, and of any other form, all is sent. last says that it is the last length bytes that
// are asked for.
func parseRange(header string) (offset, length int64, last, asked bool) {
	from, until, ok := strings.Cut(strings.TrimPrefix(header, "bytes="), "-")
	if !strings.HasPrefix(header, "bytes=") || !ok || strings.Contains(until, ",") {
		return 0, -1, false, false
	}
	end, bad := strconv.ParseInt(until, 10, 62)
	if from == "" {
		return 0, end, true, bad == nil && end > 0
	}
	offset, err := strconv.ParseInt(from, 10, 62)
	switch {
	case err != nil || offset < 0 || until != "" && (bad != nil || end < offset):
		return 0, -1, false, false
	case until == "":
		return offset, -1, false, true
	}
	return offset, end - offset + 1, false, true
}

package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"keenlodge/internal/api/called"
	"keenlodge/internal/api/content"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/browse"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/intake"
	"keenlodge/internal/line"
	"keenlodge/internal/nbd"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// registerFiles has what looks into images. Who looks, and at what, is noted.
func (s *server) registerFiles(a huma.API) {
	type Inside struct { // huma fills in only what is exported
		ID   string `path:"id"`
		Path string `query:"path" doc:"a path from / on, or NAME:PATH for one in a file system"`
	}
	get(s, a, "list-file-systems", "/api/v1/images/{id}/file-systems", "What lies on the disks of an image", func(ctx context.Context, in *byID) (wire.OpenedDisks, error) {
		if err := s.begin(ctx); err != nil {
			return wire.OpenedDisks{}, err
		}
		o, err := s.l.Browse.FileSystems(ctx, in.ID)
		return shape.Opened(o), err
	})
	type unlocked struct {
		ID   string `path:"id"`
		Body struct {
			FileSystem string `json:"file_system"`
			Key        []byte `json:"key" doc:"the passphrase, or what is in the key file; it is kept nowhere" maxLength:"16384"`
		}
	}
	do(s, a, huma.Operation{OperationID: "unlock-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/unlock", Summary: "Unlock what is locked on an image's disks, for as long as somebody looks into it"},
		func(ctx context.Context, in *unlocked) (wire.OpenedDisks, error) {
			o, err := s.l.Browse.Unlock(ctx, in.ID, in.Body.FileSystem, in.Body.Key)
			return shape.Opened(o), err
		})
	type listed struct {
		Inside
		Below bool `query:"below" doc:"all that lies below the folder, too"`
		Whole bool `query:"whole" doc:"the folder itself, too, and of each all that is known: which names are of one file, and attributes"`
	}
	huma.Register(a, huma.Operation{OperationID: "list-image-files", Method: http.MethodGet, Path: "/api/v1/images/{id}/files", Summary: "The files of an image, as mtree(5) has them: of a folder; or of an image of files all of them, where none is named"},
		func(ctx context.Context, in *listed) (*huma.StreamResponse, error) {
			list, err := look(s, ctx, in.Path, func(at browse.Place) (io.ReadCloser, error) {
				if in.Path == "" {
					return s.l.Stores.ListFiles(ctx, in.ID)
				}
				at.Below, at.Self, at.Full = in.Below, in.Whole, in.Whole
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
			offset, length, last, asked := content.Range(in.Range)
			found, err := look(s, ctx, in.Path, func(at browse.Place) (_ io.ReadCloser, err error) {
				var found io.ReadCloser
				if last {
					if e, _, found, err = s.l.Browse.Read(ctx, in.ID, at, 0, 0); err != nil {
						return nil, err
					}
					found.Close()
					offset, length = max(0, e.Size-length), -1
				}
				e, n, found, err = s.l.Browse.Read(ctx, in.ID, at, offset, length)
				return found, err
			})
			if err != nil {
				return nil, err
			}
			return s.stream(in.ID, found, "application/octet-stream", func(to huma.Context) {
				to.SetHeader("Accept-Ranges", "bytes")
				to.SetHeader("Content-Length", strconv.FormatInt(n, 10))
				to.SetHeader("Content-Disposition", content.Attachment(path.Base(e.Path)))
				to.SetHeader("Last-Modified", e.Modified.UTC().Format(http.TimeFormat))
				if asked && n > 0 {
					to.SetHeader("Content-Range", fmt.Sprintf("bytes %d-%d/%d", offset, offset+n-1, e.Size))
					to.SetStatus(http.StatusPartialContent)
				}
			}), nil
		})
	type packed struct {
		Inside
		Form string `query:"form" enum:"tar,zip,stream" default:"tar" doc:"tar (pax, with owners, modes, times, attributes and links), zip (files, folders and times), or stream (as agents have it, docs/agent-line.md)"`
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
			switch in.Form {
			case "zip":
				kind, send = "application/zip", from.Zip
			case "stream":
				send = func(to io.Writer) error { _, err := io.Copy(to, from); return err }
			}
			return s.streamBy(in.ID, from, kind, func(to huma.Context) { to.SetHeader("Content-Disposition", content.Attachment(base+"."+in.Form)) }, send), nil
		})
}

// registerFind has what finds files by their names.
func (s *server) registerFind(a huma.API) {
	do(s, a, huma.Operation{OperationID: "list-files-of-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/listing", Summary: "List all files of an image, so that they are found by their names"},
		func(ctx context.Context, in *byID) (none, error) { return none{}, s.l.Browse.Keep(ctx, in.ID) })
	type find struct {
		Machine string `path:"machine"`
		Body    struct {
			Name string `json:"name" doc:"a part of a name, whatever the case, or a pattern with * ? []; with a slash, of the whole path"`
			Most int    `json:"most,omitempty" default:"1000" minimum:"1" maximum:"100000" doc:"how many files are told at the most"`
		}
	}
	do(s, a, huma.Operation{OperationID: "find-files", Method: http.MethodPost, Path: "/api/v1/machines/{machine}/files", Summary: "Find files by their name in all images of a machine"},
		func(ctx context.Context, in *find) (wire.FoundFiles, error) {
			m, err := s.machine(ctx, in.Machine)
			if err != nil {
				return wire.FoundFiles{}, err
			}
			r, err := s.l.Lists.Find(ctx, m.ID, in.Body.Name, in.Body.Most)
			out := wire.FoundFiles{Searched: r.Searched, More: r.More, Missing: shape.Each(r.Missing, func(m records.Image) string { return m.ID })}
			out.Files = shape.Each(r.Files, shape.Found)
			return out, err
		})
}

// serveDisk offers a disk of an image over NBD, on a connection that is upgraded for it (RFC 9110, section 7.8): read-only, until either side ends it.
func (s *server) serveDisk(a huma.API) {
	type one struct {
		ID   string `path:"id"`
		Disk string `path:"disk"`
	}
	huma.Register(a, huma.Operation{OperationID: "serve-image-disk", Method: http.MethodGet, Path: "/api/v1/images/{id}/disks/{disk}/nbd", Summary: "Have a disk of an image over NBD, read-only: the connection goes on as that, by an upgrade to " + wire.NBD},
		func(ctx context.Context, in *one) (*huma.StreamResponse, error) {
			err := s.begin(ctx)
			var d disk.Disk
			var end func() error
			if err == nil {
				d, end, err = s.l.Browse.Disk(ctx, in.ID, in.Disk)
			}
			if err != nil {
				called.Of(ctx).Deed.Why = fault.Text(err)
				return nil, problem.Of(err, s.log)
			}
			return &huma.StreamResponse{Body: func(to huma.Context) {
				defer func() {
					if err := end(); err != nil {
						s.log.Warn("a disk that was served could not be closed", "image", in.ID, "disk", in.Disk, "error", err)
					}
				}()
				r, w := humachi.Unwrap(to)
				conn := line.Upgraded(w, r, wire.NBD, guard.Refuse)
				if conn == nil {
					return
				}
				defer conn.Close()
				if err := nbd.Serve(r.Context(), conn, nbd.Export{Name: in.Disk, Disk: d}); err != nil && r.Context().Err() == nil {
					s.log.Warn("a disk of an image could not be served to its end", "image", in.ID, "disk", in.Disk, "error", err)
				}
			}}, nil
		})
}

// takeDisks takes disks that are brought, on a connection that is upgraded for it, as an image of a machine that no source has.
func (s *server) takeDisks(a huma.API) {
	type bring struct {
		Store   string `path:"store"`
		Machine string `query:"machine" required:"true" doc:"the machine's name; no source may have one of it"`
		Note    string `query:"note" maxLength:"500"`
	}
	huma.Register(a, huma.Operation{OperationID: "import-image", Method: http.MethodPost, Path: "/api/v1/stores/{store}/imports", Summary: "Bring disks that become an image of a machine that no source has: the connection goes on by an upgrade to " + wire.Import},
		func(ctx context.Context, in *bring) (*huma.StreamResponse, error) {
			o := intake.Order{Store: in.Store, Machine: in.Machine, Note: in.Note}
			err := s.l.Intake.Admit(ctx, o)
			if err == nil {
				err = s.begin(ctx)
			}
			if err != nil {
				called.Of(ctx).Deed.Why = fault.Text(err)
				return nil, problem.Of(err, s.log)
			}
			return &huma.StreamResponse{Body: func(to huma.Context) {
				r, w := humachi.Unwrap(to)
				if conn := line.Upgraded(w, r, wire.Import, guard.Refuse); conn != nil {
					defer conn.Close()
					if _, err := s.l.Intake.Serve(r.Context(), conn, o); err != nil {
						s.log.Warn("no image could be made of what was brought", "machine", o.Machine, "store", o.Store, "error", err)
					}
				}
			}}, nil
		})
}

// look notes that somebody looks into an image at a place, and opens what is there.
func look(s *server, ctx context.Context, place string, open func(browse.Place) (io.ReadCloser, error)) (io.ReadCloser, error) {
	at, err := browse.ParsePlace(place)
	if err == nil {
		if place != "" {
			called.Of(ctx).Deed.Target += "?path=" + plain.Text(place, 500)
		}
		err = s.begin(ctx)
	}
	var in io.ReadCloser
	if err == nil {
		in, err = open(at)
	}
	if err != nil {
		called.Of(ctx).Deed.Why = fault.Text(err)
		return nil, problem.Of(err, s.log)
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
			if c := called.Of(to.Context()); c.Begun != nil {
				c.Begun.End(context.WithoutCancel(to.Context()), deed.Failed, "it was not sent whole: "+fault.Text(err))
			}
			panic(http.ErrAbortHandler) // so that who reads it notices
		}
	}}
}

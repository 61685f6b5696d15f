// Package objects is an S3 service in this process, for tests and the demonstration: a library's, with what that lacks put before it.
package objects

import (
	"bufio"
	"bytes"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// Objects answers calls of the S3 protocol. What it keeps is in memory.
type Objects struct {
	Backend *s3mem.Backend
	// Most is the largest object that it has room for, in bytes.
	Most int64
	// Calls counts what it was asked.
	Calls atomic.Int64

	key     string
	objects http.Handler
}

// New makes a service with buckets, which lets in who shows an access key. Signatures are not looked at.
func New(key string, buckets ...string) (*Objects, error) {
	o := &Objects{Backend: s3mem.New(), Most: 1 << 40, key: key}
	for _, b := range buckets {
		if err := o.Backend.CreateBucket(b); err != nil {
			return nil, err
		}
	}
	o.objects = gofakes3.New(o.Backend, gofakes3.WithoutVersioning()).Server()
	return o, nil
}

// ServeHTTP implements [http.Handler].
func (o *Objects) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.Calls.Add(1)
	say := func(status int, code string) {
		w.WriteHeader(status)
		io.WriteString(w, "<Error><Code>"+code+"</Code><Message>refused</Message></Error>")
	}
	switch {
	case !strings.Contains(r.Header.Get("Authorization"), "Credential="):
		say(http.StatusForbidden, "AccessDenied")
	case !strings.Contains(r.Header.Get("Authorization"), "Credential="+o.key+"/"):
		say(http.StatusForbidden, "InvalidAccessKeyId")
	case r.Method == http.MethodPut && r.ContentLength > o.Most:
		io.Copy(io.Discard, r.Body)
		say(http.StatusInsufficientStorage, "XStorageFull")
	default:
		if r.URL.Query().Has("partNumber") {
			unchunk(r)
		}
		o.objects.ServeHTTP(w, r)
	}
}

// unchunk undoes the signed pieces in which a part travels (AWS Signature Version 4, "aws-chunked"): the library does so only
// for objects that come in one.
func unchunk(r *http.Request) {
	body := bufio.NewReader(r.Body)
	out := &bytes.Buffer{}
	for {
		head, err := body.ReadString('\n')
		if err != nil {
			break
		}
		length, _, _ := strings.Cut(head, ";")
		n, err := strconv.ParseInt(length, 16, 64)
		if err != nil || n == 0 {
			break
		}
		io.CopyN(out, body, n)
		body.Discard(2)
	}
	r.Body, r.ContentLength = io.NopCloser(out), int64(out.Len())
	r.Header.Set("Content-Length", strconv.Itoa(out.Len()))
	r.Header.Set("X-Amz-Content-Sha256", "UNSIGNED-PAYLOAD")
	r.Header.Del("Content-Encoding")
}

// Package rest is a client of systems that speak JSON over HTTPS: it signs in, slows down where it is asked to, asks again where that does no harm, and
// follows tasks to their end. Sources use it.
package rest

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

const (
	// callTime is how long an answer may take, sendTime how long something large may travel.
	callTime = 30 * time.Second
	sendTime = 24 * time.Hour
	// slowTime is how long in all it is waited where a system asks to slow down.
	slowTime = 2 * time.Minute
	// tries is how often something is asked that changes nothing, retryWait the time before the second one, and five times as long before the third.
	tries     = 3
	retryWait = 100 * time.Millisecond
	// mostAnswer is the longest answer that is read, in bytes, mostWords that of an answer that is a refusal.
	mostAnswer = 256 << 20
	mostWords  = 4 << 10
)

// Status is an answer that is a refusal, with its status of HTTP (RFC 9110, section 15).
type Status struct {
	Code int
	Text string
}

func (s *Status) Error() string {
	if s.Text == "" {
		return fmt.Sprintf("it answers %d %s", s.Code, http.StatusText(s.Code))
	}
	return s.Text
}

// Is reports whether an error is an answer of a status.
func Is(err error, code int) bool {
	var s *Status
	return errors.As(err, &s) && s.Code == code
}

// Client speaks with a system. It is for many goroutines.
type Client struct {
	base   *url.URL
	http   *http.Client
	secure *tls.Config
	file   string // of the secret

	pace pace

	mu    sync.Mutex
	token string
}

// New makes a client of what a source's entry names: an https:// address, the file of a secret, and the authority of its certificate.
func New(spec site.Hypervisor) (*Client, error) {
	base, err := url.Parse(spec.URI)
	if err == nil && base.User != nil { // which is told to nobody
		return nil, errors.New("the address has a name or password in it; write it as https://HOST:PORT, and these into the secret_file")
	}
	if err != nil || base.Scheme != "https" || base.Host == "" {
		return nil, fmt.Errorf("address %q: write it as https://HOST:PORT", spec.URI)
	}
	secure := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: base.Hostname()}
	if spec.CAFile != "" {
		body, err := os.ReadFile(spec.CAFile)
		if err != nil {
			return nil, fmt.Errorf("certificate of its authority: %w", err)
		}
		secure.RootCAs = x509.NewCertPool()
		if !secure.RootCAs.AppendCertsFromPEM(body) {
			return nil, fmt.Errorf("certificate of its authority: %s holds none (PEM)", spec.CAFile)
		}
	}
	if spec.SecretFile == "" {
		return nil, errors.New("it has to be signed in to: set secret_file to a file that holds NAME:SECRET, of mode 0600")
	}
	transport := &http.Transport{TLSClientConfig: secure, MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, ForceAttemptHTTP2: true}
	return &Client{base: base, secure: secure, file: spec.SecretFile, http: &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

// Path is a path of these parts, each escaped.
func Path(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString("/" + url.PathEscape(p))
	}
	return b.String()
}

// Ranges are stretches of a disk that a system tells, in bytes.
type Ranges struct {
	Ranges []struct {
		Offset int64 `json:"offset"`
		Length int64 `json:"length"`
	} `json:"ranges"`
}

// Extents are the ranges as data. They have to rise, and to lie within a disk of a size.
func (r Ranges) Extents(size int64) (out []disk.Extent, err error) {
	at := int64(0)
	for _, e := range r.Ranges {
		if e.Offset < at || e.Length <= 0 || e.Length > size-e.Offset {
			return nil, fmt.Errorf("the list of ranges makes no sense: %d bytes at %d, after %d, of a disk of %d", e.Length, e.Offset, at, size)
		}
		at = e.Offset + e.Length
		out = append(out, disk.Extent{Offset: e.Offset, Length: e.Length, Kind: disk.Data})
	}
	return out, nil
}

// Identity is a system's UUID of a machine as the lodge writes it.
func Identity(id string) string { return strings.ReplaceAll(strings.ToLower(id), "-", "") }

// Close lets its connections go.
func (c *Client) Close() error {
	c.http.CloseIdleConnections()
	return nil
}

// Secure is by what its system is known.
func (c *Client) Secure() *tls.Config { return c.secure.Clone() }

// Private reads a file of something that is told to nobody. One that others may read is refused.
func Private(what, file string) (string, error) {
	info, err := os.Stat(file)
	if err == nil && info.Mode()&0o077 != 0 {
		err = fmt.Errorf("others may read it, too (mode %04o); chmod 600 it", info.Mode().Perm())
	}
	var body []byte
	if err == nil {
		body, err = os.ReadFile(file)
	}
	if err != nil {
		return "", fmt.Errorf("%s file %s: %w", what, file, err)
	}
	return string(body), nil
}

// secret reads what is signed in with.
func (c *Client) secret() (name, secret string, err error) {
	body, err := Private("secret", c.file)
	if err != nil {
		return "", "", err
	}
	name, secret, ok := strings.Cut(strings.TrimSpace(body), ":")
	if !ok {
		return "", "", fmt.Errorf("secret file %s: it does not hold NAME:SECRET", c.file)
	}
	return name, secret, nil
}

// signIn gets a token, in place of one that is over.
func (c *Client) signIn(ctx context.Context, over string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token != over {
		return nil // another did
	}
	name, secret, err := c.secret()
	if err != nil {
		return err
	}
	body, err := json.Marshal(map[string]string{"name": name, "secret": secret})
	if err != nil {
		return err
	}
	var answer struct {
		Token string `json:"token"`
	}
	if err := c.once(ctx, http.MethodPost, "/session", "", bytes.NewReader(body), int64(len(body)), decoded(&answer)); err != nil {
		return fmt.Errorf("sign in as %s: %w", name, err)
	}
	c.token = answer.Token
	return nil
}

// once asks one time; read gets the answer, unless it is a refusal.
func (c *Client) once(ctx context.Context, method, path, token string, body io.Reader, length int64, read func(io.Reader) error) error {
	at, err := c.base.Parse(strings.TrimSuffix(c.base.Path, "/") + path)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, at.String(), body)
	if err != nil {
		return err
	}
	if r.ContentLength = length; length == 0 {
		r.Body = http.NoBody
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // without the address, which whoever asks names
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return fmt.Errorf("%s %w: %w", c.base.Host, source.ErrUnreachable, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		return refused(answer)
	}
	if err := read(answer.Body); err != nil {
		return fmt.Errorf("the answer to %s %s of %s: %w", method, path, c.base.Host, err)
	}
	return nil
}

// decoded reads an answer of JSON into out, unless that is nil.
func decoded(out any) func(io.Reader) error {
	return func(in io.Reader) error {
		got, err := io.ReadAll(io.LimitReader(in, mostAnswer+1))
		switch {
		case err != nil:
			return fmt.Errorf("%w: it broke off: %w", source.ErrUnreachable, err)
		case len(got) > mostAnswer:
			return fmt.Errorf("it is longer than %d MiB", mostAnswer>>20)
		case out == nil:
			return nil
		}
		if err := json.Unmarshal(got, out); err != nil {
			return fmt.Errorf("it is not what was asked for: %w", err)
		}
		return nil
	}
}

// slowDown is an answer that asks to wait.
type slowDown struct {
	*Status
	wait time.Duration
}

func (s slowDown) Unwrap() []error { return []error{s.Status, source.ErrBusy} }

func refused(answer *http.Response) error {
	body, _ := io.ReadAll(io.LimitReader(answer.Body, mostWords)) // what does not come is not shown
	var said struct {
		Error string `json:"error"`
	}
	_ = json.Unmarshal(body, &said)                                    // one that says nothing is told by its number
	s := &Status{answer.StatusCode, plain.Text(said.Error, mostWords)} // the words of another system
	switch answer.StatusCode {
	case http.StatusTooManyRequests:
		n, err := strconv.Atoi(answer.Header.Get("Retry-After"))
		if err != nil || n < 0 || n > 60 {
			n = 1
		}
		return slowDown{s, time.Duration(n) * time.Second}
	case http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return fmt.Errorf("%w: %w", source.ErrBusy, s)
	}
	return s
}

// Call asks something, and reads the answer into out, unless it is nil. What only looks is asked again where it got no answer.
func (c *Client) Call(ctx context.Context, method, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	ask := func() error {
		return c.call(ctx, callTime, method, path, func() (io.Reader, int64) { return bytes.NewReader(body), int64(len(body)) }, decoded(out))
	}
	if method != http.MethodGet {
		return ask()
	}
	return again(ctx, ask)
}

// Read reads bytes that are no JSON into p, and returns how many came.
func (c *Client) Read(ctx context.Context, path string, p []byte) (n int, err error) {
	err = again(ctx, func() error {
		return c.call(ctx, callTime, http.MethodGet, path, func() (io.Reader, int64) { return http.NoBody, 0 }, func(in io.Reader) (err error) {
			if n, err = io.ReadFull(in, p); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
				return fmt.Errorf("%w: it broke off: %w", source.ErrUnreachable, err)
			}
			return nil
		})
	})
	return n, err
}

// Fetch reads what may be much into a writer, and returns how many bytes came, also where it breaks off: then it can go on from there.
func (c *Client) Fetch(ctx context.Context, path string, to io.Writer) (n int64, err error) {
	err = c.call(ctx, sendTime, http.MethodGet, path, func() (io.Reader, int64) { return http.NoBody, 0 }, func(in io.Reader) (err error) {
		if n, err = io.Copy(to, in); err != nil {
			return fmt.Errorf("%w: it broke off: %w", source.ErrUnreachable, err)
		}
		return nil
	})
	return n, err
}

// again asks something that does no harm, a few times where no answer comes.
func again(ctx context.Context, ask func() error) error {
	for n, pause := 1, retryWait; ; n, pause = n+1, 5*pause {
		err := ask()
		if err == nil || n == tries || !errors.Is(err, source.ErrUnreachable) && !errors.Is(err, source.ErrBusy) {
			return err
		}
		if waited := Wait(ctx, pause); waited != nil {
			return errors.Join(err, waited)
		}
	}
}

// Send sends what is read from body, length bytes. It is sent once.
func (c *Client) Send(ctx context.Context, method, path string, length int64, body io.Reader, out any) error {
	// Signing in first, for what was read can't be sent again.
	if err := c.Call(ctx, http.MethodGet, "/about", nil, nil); err != nil {
		return err
	}
	return c.call(ctx, sendTime, method, path, func() (io.Reader, int64) { return body, length }, decoded(out))
}

// call asks, signs in where need be, and waits where it is asked to.
func (c *Client) call(ctx context.Context, limit time.Duration, method, path string, body func() (io.Reader, int64), read func(io.Reader) error) error {
	signedIn := false
	for end := time.Now().Add(slowTime); ; {
		c.mu.Lock()
		token := c.token
		c.mu.Unlock()
		var err error
		var slow slowDown
		if token != "" {
			if err := c.pace.wait(ctx); err != nil {
				return err
			}
			within, done := context.WithTimeoutCause(ctx, limit, fmt.Errorf("%s %w within %s", c.base.Host, source.ErrUnreachable, limit))
			reader, length := body()
			err = c.once(within, method, path, token, reader, length, read)
			c.pace.told(errors.As(err, &slow), time.Now())
			done()
		}
		switch {
		case token == "" || Is(err, http.StatusUnauthorized) && !signedIn:
			signedIn = token != ""
			within, done := context.WithTimeoutCause(ctx, callTime, fmt.Errorf("%s %w within %s", c.base.Host, source.ErrUnreachable, callTime))
			err := c.signIn(within, token)
			done()
			if err != nil {
				return err
			}
		case errors.As(err, &slow) && time.Now().Add(slow.wait).Before(end):
			if err := Wait(ctx, slow.wait); err != nil {
				return err
			}
		default:
			return err
		}
	}
}

// Wait waits for a time, or until ctx ends.
func Wait(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-t.C:
		return nil
	}
}

// task is something that takes time.
type task struct {
	ID     string          `json:"id"`
	State  string          `json:"state"`
	Result json.RawMessage `json:"result"`
	Error  string          `json:"error"`
}

// Task has something done that takes time, and follows it to its end, within limit.
func (c *Client) Task(ctx context.Context, limit time.Duration, method, path string, in, out any) error {
	ctx, done := context.WithTimeoutCause(ctx, limit, fmt.Errorf("%s %s: %w, its task is not over within %s", method, path, source.ErrBusy, limit))
	defer done()
	var t task
	if err := c.Call(ctx, method, path, in, &t); err != nil {
		return err
	}
	for pause := 10 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		switch t.State {
		case "done":
			if out == nil || len(t.Result) == 0 {
				return nil
			}
			return json.Unmarshal(t.Result, out)
		case "failed":
			return errors.New(plain.Text(t.Error, mostWords))
		}
		if err := Wait(ctx, pause); err != nil {
			return err
		}
		// One that is forgotten is not known to have ended well.
		if err := c.Call(ctx, http.MethodGet, "/tasks/"+url.PathEscape(t.ID), nil, &t); err != nil {
			return fmt.Errorf("follow its task: %w", err)
		}
	}
}

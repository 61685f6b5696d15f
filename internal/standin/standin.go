// Package standin is the frame of the stand-ins: small simulated outside systems that ship with the product, so that it can be tried, shown and tested
// where none of the real ones is. Each is a process that answers over HTTPS on loopback, keeps its state and its data in a folder, takes its time, and
// fails when it is told to. What they say is described in docs/stand-ins.md.
//
//	keenlodge standin islet --folder /var/tmp/islet-3 --listen 127.0.0.1:7461
package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"golang.org/x/time/rate"

	"keenlodge/internal/core/suggest"
)

// Options say how a stand-in behaves.
type Options struct {
	// Folder is where it keeps all that it has; it is made if need be.
	Folder string
	// Listen is an address of loopback.
	Listen string
	// Pace is how long a task takes at least, Session how long a caller stays signed in (0 is 15 minutes), Lag how long lists may lack what was just made.
	Pace, Session, Lag time.Duration
	// Rate is how many calls it answers in a second, 0 for any number. Those beyond are refused with 429.
	Rate float64
}

// Kind is a kind of stand-in. Make begins one in a frame: it adds what it answers. One of several nodes answers for each of them below a path of the node's
// name.
type Kind struct {
	Doc   string
	Nodes []string
	Make  func(ctx context.Context, f *Frame) (io.Closer, error)
}

var kinds = map[string]Kind{}

// Register makes a kind known. Its package calls it when the program starts.
func Register(name string, k Kind) { kinds[name] = k }

// Kinds tells what kinds there are, by name.
func Kinds() map[string]string {
	out := map[string]string{}
	for name, k := range kinds {
		out[name] = k.Doc
	}
	return out
}

// Frame is what all stand-ins have in common.
type Frame struct {
	Options
	// Secure is what it shows itself by: a certificate of its own, which lies in its folder.
	Secure *tls.Config
	// Journal keeps its state.
	Journal *Journal
	// Down tells whether a node is switched off, for a kind that has nodes.
	Down func(node string) bool

	router   chi.Router
	sessions sessions
	faults   faults
	tasks    *Table[Task]
	limit    *rate.Limiter
	mu       sync.Mutex // held while its state is changed
	going    sync.WaitGroup
	ctx      context.Context // of the process
}

// newFrame makes a frame in a folder.
func newFrame(ctx context.Context, o Options) (*Frame, error) {
	if err := os.MkdirAll(o.Folder, 0o700); err != nil {
		return nil, fmt.Errorf("folder of the stand-in: %w", err)
	}
	if o.Session == 0 {
		o.Session = 15 * time.Minute
	}
	f := &Frame{Options: o, router: chi.NewRouter(), ctx: ctx}
	if o.Rate > 0 {
		f.limit = rate.NewLimiter(rate.Limit(o.Rate), int(o.Rate)+1)
	}
	var err error
	if f.Secure, err = certificate(o.Folder); err != nil {
		return nil, err
	}
	if err := f.sessions.open(o.Folder); err != nil {
		return nil, err
	}
	if f.Journal, err = OpenJournal(filepath.Join(o.Folder, "state.jsonl"), o.Lag); err != nil {
		return nil, err
	}
	if f.tasks, err = NewTable[Task](f.Journal, "task"); err != nil {
		return nil, err
	}
	f.own()
	return f, f.abandon()
}

// Serve is a stand-in of a kind, until ctx ends. told is called with its address once it listens.
func Serve(ctx context.Context, kind string, o Options, told func(address string)) (err error) {
	k, ok := kinds[kind]
	if !ok {
		return fmt.Errorf("there is no stand-in of kind %q%s", kind, suggest.Hint(kind, slices.Sorted(maps.Keys(kinds))))
	}
	host, _, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return fmt.Errorf("address %q to listen at: %w", o.Listen, err)
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return fmt.Errorf("address %q to listen at: a stand-in is for trying, and listens on loopback only, such as at 127.0.0.1:7461", o.Listen)
	}
	f, err := newFrame(ctx, o)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Journal.Close()) }()
	made, err := k.Make(ctx, f)
	if err != nil {
		return err
	}
	defer func() { f.going.Wait(); err = errors.Join(err, made.Close()) }()
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listen: %w", err)
	}
	server := &http.Server{Handler: f.handler(k.Nodes), TLSConfig: f.Secure, ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if told != nil {
		told(l.Addr().String())
	}
	if err := server.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serve: %w", err)
	}
	return nil
}

type nodeKey struct{}

// Node is the node that is asked, of a kind that has several; "" where none is named.
func Node(r *http.Request) string {
	name, _ := r.Context().Value(nodeKey{}).(string)
	return name
}

// handler answers at the root, and below the name of each node. One that is down lets the line go.
func (f *Frame) handler(nodes []string) http.Handler {
	out := chi.NewRouter()
	for _, name := range nodes {
		out.Mount("/"+name, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if f.isDown(name) {
				panic(http.ErrAbortHandler)
			}
			f.router.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), nodeKey{}, name)))
		}))
	}
	out.Mount("/", f.router)
	return out
}

func (f *Frame) isDown(node string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.Down != nil && f.Down(node)
}

package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/lodge"
)

// plainWords are what must be said before a service listens beyond loopback without TLS.
const plainWords = "everybody-on-the-way-may-read-it"

// door is how a service listens.
type door struct {
	listen           string
	own              bool     // TLS by the lodge's own authority
	names            []string // of the certificate from that
	certificate, key string   // files
	plain            string
	agents           string // a second address, for agents only; "" for none
	// rescue is a folder with the files of a rescue medium, rescueListen where they are served; "" serves none.
	rescue, rescueListen string
}

// forAgents listens at the address for agents, nil where there is none.
func (d door) forAgents(ctx context.Context, l *lodge.Lodge, log *slog.Logger) (net.Listener, error) {
	if d.agents == "" {
		return nil, nil
	}
	config, _, err := door{own: true, names: d.names}.tlsConfig(ctx, l, log)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", d.agents)
	if err != nil {
		return nil, fmt.Errorf("listen for agents at %s (--agents-listen): %w", d.agents, err)
	}
	return tls.NewListener(listener, config), nil
}

// onlyAgents leaves of the interface what agents call.
func onlyAgents(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/api/v1/agent/") && !(strings.HasPrefix(r.URL.Path, "/api/v1/agents/") && strings.HasSuffix(r.URL.Path, "/certificate")) {
			http.Error(w, "only servers' agents call at this address", http.StatusNotFound)
			return
		}
		h.ServeHTTP(w, r)
	})
}

// encrypted reports whether a door speaks TLS. One that would listen beyond loopback without is refused.
func (d door) encrypted() (bool, error) {
	files := d.certificate != "" || d.key != ""
	switch {
	case files && (d.certificate == "" || d.key == ""):
		return false, errors.New("a certificate needs its key, and a key its certificate: --tls-certificate and --tls-key")
	case files && d.own:
		return false, errors.New("--tls is the lodge's own authority; with a certificate of your own leave it out")
	case files || d.own:
		return true, nil
	case d.plain != "" && d.plain != plainWords:
		return false, fmt.Errorf("--without-tls takes the words %s", plainWords)
	case d.plain == "" && !onLoopback(d.listen):
		return false, fmt.Errorf("%s can be reached from elsewhere, and without TLS tokens and images could be read on the way: add --tls (the lodge's own authority), or --tls-certificate and --tls-key; or say --without-tls %s", d.listen, plainWords)
	}
	return false, nil
}

// onLoopback reports whether an address is reached from its own host only.
func onLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// certificateNames are those of a certificate from the lodge's own authority: what people say, and what the host is called.
func (d door) certificateNames() []string {
	names := append([]string{}, d.names...)
	if host, _, err := net.SplitHostPort(d.listen); err == nil && host != "" && !net.ParseIP(host).IsUnspecified() {
		names = append(names, host)
	}
	if own, err := os.Hostname(); err == nil {
		names = append(names, own)
	}
	return append(names, "localhost", "127.0.0.1", "::1")
}

// tlsConfig is TLS 1.3 with a certificate from files or from the lodge's own authority. Who calls may show a certificate, as agents do; the
// interface looks whether it is one of theirs. Of the lodge's own authority the fingerprint is returned, too.
func (d door) tlsConfig(ctx context.Context, l *lodge.Lodge, log *slog.Logger) (c *tls.Config, fingerprint string, err error) {
	c = &tls.Config{MinVersion: tls.VersionTLS13, NextProtos: []string{"h2", "http/1.1"}, ClientAuth: tls.RequestClientCert}
	// Browsers ask their users for certificates of these names only, which none has; agents show theirs whatever is asked for.
	if pool, err := l.Authority.Pool(ctx); err == nil {
		c.ClientCAs = pool
	} else {
		log.Warn("no agent can be certified", "error", err)
	}
	if d.certificate == "" {
		state, err := l.Authority.State(ctx)
		c.GetCertificate = func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) { return l.Authority.Server(hello.Context()) }
		return c, state.Fingerprint, err
	}
	f := &files{certificate: d.certificate, key: d.key, log: log}
	c.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return f.current(), nil }
	return c, "", f.load()
}

// files are a certificate and its key, which are read again when they change.
type files struct {
	certificate, key string
	log              *slog.Logger

	mu     sync.Mutex
	has    *tls.Certificate
	seen   string // what the files were when they were read
	looked time.Time
	told   string
}

// lookEvery is how often it is looked whether the files have changed.
const lookEvery = time.Second

// current is the certificate as it is now. Files that can't be read, or don't belong together, as while they are being written, leave the one
// before in place.
func (f *files) current() *tls.Certificate {
	f.mu.Lock()
	defer f.mu.Unlock()
	if time.Since(f.looked) < lookEvery {
		return f.has
	}
	f.looked = time.Now()
	if f.stamp() != f.seen {
		if err := f.load(); err != nil && err.Error() != f.told {
			f.told = err.Error()
			f.log.Warn("the certificate's files changed and can't be used; the one before stays", "error", err)
		} else if err == nil {
			f.told = ""
			f.log.Info("the certificate was read again", "file", f.certificate, "ends", f.has.Leaf.NotAfter)
		}
	}
	return f.has
}

// load reads the files. Whoever calls it has the lock, or is alone.
func (f *files) load() error {
	stamp := f.stamp()
	c, err := tls.LoadX509KeyPair(f.certificate, f.key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", f.certificate, f.key, err)
	}
	if now := time.Now(); now.After(c.Leaf.NotAfter) {
		if f.has == nil {
			return fmt.Errorf("certificate %s ended on %s; renew it, or use the lodge's own authority: --tls", f.certificate, c.Leaf.NotAfter.Format(time.RFC1123))
		}
		return fmt.Errorf("certificate %s has ended already", f.certificate)
	}
	f.has, f.seen = &c, stamp
	return nil
}

// stamp tells one state of the files from another.
func (f *files) stamp() string {
	text := ""
	for _, name := range []string{f.certificate, f.key} {
		if info, err := os.Stat(name); err == nil {
			text += fmt.Sprint(info.ModTime().UnixNano(), " ", info.Size(), " ")
		}
	}
	return text
}

// Package standintest starts stand-ins for tests: each as a process of its own, which is the test's program once more, so that it can be killed.
package standintest

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source/rest"
	"keenlodge/internal/standin"
)

const variable = "KEENLODGE_TEST_STANDIN"

// Main is what a TestMain calls first: in the process of a stand-in it does not return.
func Main() {
	text, ok := os.LookupEnv(variable)
	if !ok {
		return
	}
	var asked started
	if err := json.Unmarshal([]byte(text), &asked); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	go func() { // it ends with the test, however that ends
		_, _ = io.Copy(io.Discard, os.Stdin)
		stop()
	}()
	err := standin.Serve(ctx, asked.Kind, asked.Options, func(address string) { fmt.Println(address) })
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

type started struct {
	Kind    string
	Options standin.Options
}

// Standin is one that runs.
type Standin struct {
	t *testing.T
	started
	// Site is its entry in a site file.
	Site site.Hypervisor

	cmd   *exec.Cmd
	stdin io.Closer
	ended chan struct{} // closed when it has
	*rest.Client
}

// Start starts one. It ends with the test.
func Start(t *testing.T, kind string, o standin.Options) *Standin {
	t.Helper()
	if o.Folder == "" {
		o.Folder = t.TempDir()
	}
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	s := &Standin{t: t, started: started{kind, o}}
	s.run()
	t.Cleanup(s.Kill)
	return s
}

func (s *Standin) run() {
	s.t.Helper()
	text, err := json.Marshal(s.started)
	require.NoError(s.t, err)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), variable+"="+string(text))
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(s.t, err)
	in, err := cmd.StdinPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, cmd.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(s.t, err, "the stand-in does not start")
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }() // how it ended is its own word
	s.cmd, s.stdin, s.ended = cmd, in, ended
	s.Options.Listen = strings.TrimSpace(line) // where it is started again
	s.Site = site.Hypervisor{Kind: s.Kind, URI: "https://" + s.Options.Listen, CAFile: filepath.Join(s.Options.Folder, standin.CertificateFile), SecretFile: filepath.Join(s.Options.Folder, standin.SecretFile)}
	s.Client, err = rest.New(s.Site)
	require.NoError(s.t, err)
}

// Kill kills it.
func (s *Standin) Kill() {
	s.cmd.Process.Kill()
	<-s.ended
	s.stdin.Close()
}

// Stop ends it well.
func (s *Standin) Stop() {
	s.t.Helper()
	require.NoError(s.t, s.cmd.Process.Signal(syscall.SIGTERM))
	<-s.ended
	require.True(s.t, s.cmd.ProcessState.Success())
}

// Ended is closed when it has ended, of the time that it was started last.
func (s *Standin) Ended() <-chan struct{} { return s.ended }

// Lives tells whether it has not.
func (s *Standin) Lives() bool {
	select {
	case <-s.ended:
		return false
	default:
		return true
	}
}

// Living is a context that ends when it has.
func (s *Standin) Living() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(s.t.Context())
	ended := s.ended
	go func() {
		select {
		case <-ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// Again starts it again, after it has ended.
func (s *Standin) Again() { s.t.Helper(); s.run() }

// Must asks something that works.
func (s *Standin) Must(method, path string, in, out any) {
	s.t.Helper()
	require.NoError(s.t, s.Call(s.t.Context(), method, path, in, out))
}

// Fault has a call go wrong.
func (s *Standin) Fault(f standin.Fault) {
	s.t.Helper()
	s.Must(http.MethodPost, "/faults", f, nil)
}

// Bring makes a volume of a qcow2 file, and returns its ID.
func (s *Standin) Bring(name string, qcow2 []byte) string {
	s.t.Helper()
	var v struct {
		ID string `json:"id"`
	}
	require.NoError(s.t, s.Send(s.t.Context(), http.MethodPut, "/volumes/"+name, int64(len(qcow2)), bytes.NewReader(qcow2), &v))
	return v.ID
}

// EmptyDisk is a disk of a size, such as 32M, that holds nothing, as a qcow2 file.
func EmptyDisk(t *testing.T, size string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "d.qcow2")
	out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", path, size).CombinedOutput()
	require.NoError(t, err, "%s", out)
	body, err := os.ReadFile(path)
	require.NoError(t, err)
	return body
}

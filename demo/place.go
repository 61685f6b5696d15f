// Package demo is the made-up site of Brindle Sound Ferries: a database, a private hypervisor, small guests that really
// boot, and a lodge over them, all in one folder. "keenlodge demo" shows it; the tests use it.
package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/client"
	"keenlodge/internal/core/site"
)

// scripts make disks; each is run from the place's folder.
//
//go:embed *.sh
var scripts embed.FS

// The scripts.
const guestScript, serverScript = "guest.sh", "server.sh"

//go:embed site.yaml
var siteFile string

// Place is a folder in which everything of a site runs.
type Place struct {
	Folder string
	// Program is the path of the keenlodge program.
	Program string
	// Listen is the service's address; empty for a free port on loopback.
	Listen string

	// Quay is hypervisor quay-1, in the harbour office; Pier is pier-2, on the north pier, which is reached by SSH.
	Quay, Pier *Hypervisor

	mu      sync.Mutex
	started []*Process
	url     string
	agents  string // where servers' agents call
	pgURL   string
}

// Process is one that the place started.
type Process struct {
	name string
	cmd  *exec.Cmd
	stop os.Signal
	done chan struct{}
}

// Open readies a folder: what an earlier place left there, processes too, is removed first.
func Open(folder, program string) (*Place, error) {
	if os.Geteuid() != 0 {
		return nil, errors.New("the site mounts file systems and starts services under other accounts, so it needs root: sudo make demo")
	}
	if len(folder) > 32 {
		return nil, fmt.Errorf("folder %s: choose a shorter path, sockets lie in it (at most 32 characters)", folder)
	}
	p := &Place{Folder: folder, Program: program}
	p.Quay = &Hypervisor{p: p, Name: "quay-1", folder: "v", pool: "pool", Pool: "quay", Guests: []Guest{
		{"tickets-db", 2, map[string]string{"role": "database", "tier": "gold"}, false, 0},
		{"timetable", 1, map[string]string{"role": "web", "tier": "silver"}, false, 0},
		{"berth-sim", 1, map[string]string{"tier": "bronze"}, true, 0},
	}}
	p.Pier = &Hypervisor{p: p, Name: "pier-2", folder: "w", pool: "pier", Pool: "pier", Guests: []Guest{
		{"crew-rota", 1, map[string]string{"tier": "silver"}, false, 0},
		{"harbour-radio", 1, map[string]string{"tier": "bronze"}, true, 0},
	}}
	if err := p.clean(); err != nil {
		return nil, err
	}
	for _, d := range []string{"", "shelf", "plain", "state"} {
		if err := os.MkdirAll(p.Path(d), 0o711); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"boot.sh", guestScript, serverScript} {
		body, err := scripts.ReadFile(name)
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(p.Path(name), body, 0o700); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (p *Place) Path(parts ...string) string {
	return filepath.Join(append([]string{p.Folder}, parts...)...)
}

// Shelf is the folder of store quay-shelf.
func (p *Place) Shelf() string { return p.Path("shelf") }

// Plain is the folder of store plain-shelf.
func (p *Place) Plain() string { return p.Path("plain") }

// URL is where the service answers.
func (p *Place) URL() string { return p.url }

// DatabaseURL is the lodge's database; its password is in the place's file pgpass.
func (p *Place) DatabaseURL() string { return p.pgURL }

// TokenFile holds the token to sign in with.
func (p *Place) TokenFile() string { return p.Path("token") }

// NewToken makes an administrator's token in a lodge's database, and leaves it in a file.
func (p *Place) NewToken(ctx context.Context, database, name, file string) error {
	cmd := exec.CommandContext(ctx, p.Program, "token", "new", name, "--on-this-host", "--to", file)
	cmd.Env = append(os.Environ(), "KEENLODGE_DATABASE="+database, "PGPASSFILE="+p.Path("pgpass"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make a token: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}

// Client is a client that is signed in.
func (p *Place) Client() (*client.Client, error) {
	token, err := os.ReadFile(p.TokenFile())
	if err != nil {
		return nil, err
	}
	return client.New(p.url, strings.TrimSpace(string(token))), nil
}

// account finds the numbers of an account that services run under.
func account(name string) (*syscall.Credential, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, err
}

// start runs a program until the place closes; its output goes to NAME.log.
func (p *Place) start(name string, cmd *exec.Cmd, stop os.Signal) (*Process, error) {
	log, err := os.OpenFile(p.Path(name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true // Ctrl-C is ours to pass on, in order
	s := &Process{name, cmd, stop, make(chan struct{})}
	p.mu.Lock() // whoever looks for orphans must know it
	defer p.mu.Unlock()
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", name, err)
	}
	go func() { cmd.Wait(); close(s.done) }()
	p.started = append(p.started, s)
	return s, nil
}

// Signal sends a signal and waits for the end.
func (s *Process) Signal(sig os.Signal) {
	s.cmd.Process.Signal(sig)
	<-s.done
}

// Ended reports whether the process is gone.
func (s *Process) Ended() bool {
	select {
	case <-s.done:
		return true
	default:
		return false
	}
}

// as runs a command under another account and returns what it said.
func as(ctx context.Context, who *syscall.Credential, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	if who != nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	}
	cmd.Dir = "/"
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", filepath.Base(name), err, bytes.TrimSpace(out))
	}
	return string(out), nil
}

// Until tries until it works, or the time is up.
func Until(ctx context.Context, limit time.Duration, what string, try func() error) error {
	end := time.Now().Add(limit)
	for {
		err := try()
		if err == nil {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("%s did not work within %s: %w", what, limit, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// StartDatabase makes and starts a PostgreSQL of its own on loopback.
func (p *Place) StartDatabase(ctx context.Context) error {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		return errors.New("PostgreSQL is not installed; run: make setup")
	}
	bin := found[len(found)-1]
	who, err := account("postgres")
	if err != nil {
		return err
	}
	data, secret := p.Path("pg"), p.Path("pg-secret")
	password := rand.Text()
	if err := os.WriteFile(secret, []byte(password), 0o600); err != nil {
		return err
	}
	if err := os.Chown(secret, int(who.Uid), int(who.Gid)); err != nil {
		return err
	}
	if err := os.Mkdir(data, 0o700); err != nil {
		return err
	}
	if err := os.Chown(data, int(who.Uid), int(who.Gid)); err != nil {
		return err
	}
	if _, err := as(ctx, who, filepath.Join(bin, "initdb"), "-D", data, "-U", "lodge", "--auth=scram-sha-256", "--pwfile="+secret, "--encoding=UTF8", "--locale=C.UTF-8"); err != nil {
		return err
	}
	os.Remove(secret)
	port, err := freePort()
	if err != nil {
		return err
	}
	if err := os.WriteFile(p.Path("pgpass"), fmt.Appendf(nil, "127.0.0.1:%d:*:lodge:%s\n", port, password), 0o600); err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-c", "listen_addresses=127.0.0.1", "-c", fmt.Sprint("port=", port), "-c", "unix_socket_directories=")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	cmd.Dir = "/"
	if _, err := p.start("postgresql", cmd, os.Interrupt); err != nil {
		return err
	}
	p.pgURL = fmt.Sprintf("postgres://lodge@127.0.0.1:%d/postgres?sslmode=disable", port)
	return Until(ctx, 30*time.Second, "PostgreSQL", func() error {
		_, err := as(ctx, who, filepath.Join(bin, "pg_isready"), "-h", "127.0.0.1", "-p", fmt.Sprint(port))
		return err
	})
}

// reapOrphans makes this process the one to which guests and helpers fall when the libvirt that forked them has let go of them, and
// takes note of their ends at once. libvirt waits for that when it switches a guest off, and in a container the first process may
// leave it for seconds.
func (p *Place) reapOrphans() error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("become the parent of orphans: %w", err)
	}
	ended := make(chan os.Signal, 16)
	signal.Notify(ended, syscall.SIGCHLD)
	go func() {
		for range ended {
			found, _ := filepath.Glob("/proc/[0-9]*/stat")
			for _, file := range found {
				if pid := p.orphan(file); pid > 0 {
					syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
				}
			}
		}
	}()
	return nil
}

// orphan is the number of a process that ended and fell to this one, by its stat file (proc(5)), or 0. Those that this process
// started itself are waited for elsewhere: they are in its process group, or in one of their own that start made.
func (p *Place) orphan(file string) int {
	body, err := os.ReadFile(file)
	i := bytes.LastIndexByte(body, ')')
	if err != nil || i < 0 {
		return 0
	}
	fields := strings.Fields(string(body[i+1:])) // state, parent, process group …
	pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
	if err != nil || len(fields) < 3 || fields[0] != "Z" || fields[1] != strconv.Itoa(os.Getpid()) || fields[2] == strconv.Itoa(syscall.Getpgrp()) || fields[2] == strconv.Itoa(pid) && p.isStarted(pid) {
		return 0
	}
	return pid
}

func (p *Place) isStarted(pid int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.ContainsFunc(p.started, func(s *Process) bool { return s.PID() == pid })
}

// StartService starts the service, on the address that Listen names or on a port of its own, which it keeps.
func (p *Place) StartService(ctx context.Context) (*Process, error) {
	if p.Listen == "" {
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		p.Listen = fmt.Sprintf("127.0.0.1:%d", port)
	}
	p.url = "http://" + p.Listen
	if _, err := os.Stat(p.TokenFile()); errors.Is(err, fs.ErrNotExist) {
		if err := p.NewToken(ctx, p.pgURL, "first", p.TokenFile()); err != nil {
			return nil, err
		}
	}
	if p.agents == "" {
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		p.agents = fmt.Sprintf("127.0.0.1:%d", port)
	}
	cmd := exec.Command(p.Program, "serve", "--listen", p.Listen, "--agents-listen", p.agents, "--tls-name", LoopbackInside, "--state", p.Path("state"))
	cmd.Env = append(os.Environ(), "KEENLODGE_DATABASE="+p.pgURL, "PGPASSFILE="+p.Path("pgpass"))
	s, err := p.start("service", cmd, syscall.SIGTERM)
	if err != nil {
		return nil, err
	}
	return s, Until(ctx, 30*time.Second, "the service", func() error {
		if s.Ended() {
			return fmt.Errorf("it ended; look at %s", p.Path("service.log"))
		}
		c, err := p.Client()
		if err != nil {
			return err
		}
		_, err = c.Site(ctx)
		return err
	})
}

// Site is the demo's site file, for this place.
func (p *Place) Site() (string, site.Site, error) {
	text := strings.NewReplacer("{uri}", p.Quay.URI(), "{shelf}", p.Shelf(), "{plain}", p.Plain()).Replace(siteFile)
	file := p.Path("site.yaml")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return "", site.Site{}, err
	}
	s, err := site.Parse(file, []byte(text))
	return file, s, err
}

// Close stops everything, the service first and the database last.
func (p *Place) Close() {
	p.mu.Lock()
	started := slices.Clone(p.started)
	p.mu.Unlock()
	slices.SortStableFunc(started, func(a, b *Process) int { // what ends with libvirt must not be the service
		last := func(s *Process) int {
			if s.name == "service" {
				return 1
			}
			return 0
		}
		return last(a) - last(b)
	})
	for _, s := range slices.Backward(started) {
		s.cmd.Process.Signal(s.stop)
		select {
		case <-s.done:
		case <-time.After(60 * time.Second):
			s.Signal(syscall.SIGKILL)
		}
		if strings.HasPrefix(s.name, "libvirt") {
			p.killAll()
		}
	}
	p.killAll()
}

// killAll ends every process whose command line names the place's folder, or whose root lies in it: guests live on without libvirt.
func (p *Place) killAll() {
	found, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return
	}
	for _, file := range found {
		body, err := os.ReadFile(file)
		root, _ := os.Readlink(filepath.Join(filepath.Dir(file), "root"))
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		ours := bytes.Contains(body, []byte(p.Folder+"/")) || strings.HasPrefix(root, p.Folder+"/")
		if err != nil || pid == os.Getpid() || !ours || bytes.Contains(body, []byte("postgres")) {
			continue
		}
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// clean removes what an earlier place left, after a kill perhaps.
func (p *Place) clean() error {
	if _, err := os.Stat(p.Path("state")); err == nil {
		p.killAll()
		if body, err := os.ReadFile(p.Path("pg", "postmaster.pid")); err == nil {
			if pid, err := strconv.Atoi(strings.SplitN(string(body), "\n", 2)[0]); err == nil {
				syscall.Kill(pid, syscall.SIGQUIT)
				Until(context.Background(), 10*time.Second, "the end of an earlier database", func() error {
					if syscall.Kill(pid, 0) == nil {
						return errors.New("it runs")
					}
					return nil
				})
			}
		}
	}
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return err
	}
	for _, line := range slices.Backward(strings.Split(string(mounts), "\n")) {
		if f := strings.Fields(line); len(f) > 4 && strings.HasPrefix(f[4], p.Folder+"/") {
			if err := syscall.Unmount(f[4], syscall.MNT_DETACH); err != nil {
				return fmt.Errorf("unmount %s: %w", f[4], err)
			}
		}
	}
	return os.RemoveAll(p.Folder)
}

// PID is the process's number.
func (s *Process) PID() int { return s.cmd.Process.Pid }

// SQL has the service's database carry out a statement.
func (p *Place) SQL(ctx context.Context, statement string) error {
	cmd := exec.CommandContext(ctx, "psql", "-q", "-v", "ON_ERROR_STOP=1", p.pgURL, "-c", statement)
	cmd.Env = append(os.Environ(), "PGPASSFILE="+p.Path("pgpass"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", statement, err, out)
	}
	return nil
}

// NewDatabase makes another database beside the service's, and returns its URL.
func (p *Place) NewDatabase(ctx context.Context, name string) (string, error) {
	if err := p.SQL(ctx, "create database "+name); err != nil {
		return "", err
	}
	return strings.Replace(p.pgURL, "/postgres?", "/"+name+"?", 1), nil
}

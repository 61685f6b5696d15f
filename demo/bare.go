package demo

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Bare is a machine of its own in QEMU, that no hypervisor looks after, with a serial line at which somebody sits.
type Bare struct {
	cmd    *exec.Cmd
	line   net.Conn
	folder string
	said   strings.Builder

	mu    sync.Mutex
	heard string // since what was last waited for
	all   strings.Builder
}

// AnswerTime is how long a machine without a processor of its own may take to come to a question.
const AnswerTime = 4 * time.Minute

// PowerOn starts a machine; args are QEMU's further ones: its disks, cards and firmware. Turn it [Bare.Off].
func (h *Hypervisor) PowerOn(args ...string) (*Bare, error) {
	folder, err := os.MkdirTemp("", "bare-")
	if err != nil {
		return nil, err
	}
	accel := "tcg"
	if h.KVM() {
		accel = "kvm"
	}
	m := &Bare{folder: folder}
	socket := filepath.Join(folder, "line")
	m.cmd = exec.Command("qemu-system-x86_64", append([]string{"-nodefaults", "-display", "none", "-machine", "q35,accel=" + accel, "-cpu", "max", "-smp", "2", "-m", "1024", "-device", "virtio-rng-pci",
		"-chardev", "socket,id=line,server=on,wait=off,path=" + socket, "-serial", "chardev:line"}, args...)...)
	m.cmd.Stderr = &m.said
	if err := m.cmd.Start(); err != nil {
		return nil, err
	}
	for end := time.Now().Add(20 * time.Second); m.line == nil; time.Sleep(20 * time.Millisecond) {
		if m.line, err = net.Dial("unix", socket); err != nil && time.Now().After(end) {
			m.Off()
			return nil, fmt.Errorf("the machine has no serial line: %w: %s", err, m.said.String())
		}
	}
	go m.listen()
	return m, nil
}

func (m *Bare) listen() {
	room := make([]byte, 64<<10)
	for {
		n, err := m.line.Read(room)
		m.mu.Lock()
		m.heard += string(room[:n])
		m.all.Write(room[:n])
		m.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// Off cuts the machine's power.
func (m *Bare) Off() {
	m.cmd.Process.Kill()
	m.Wait()
}

// Wait waits until the machine is off by itself.
func (m *Bare) Wait() {
	m.cmd.Wait()
	os.RemoveAll(m.folder)
}

// All is what the machine and QEMU have said.
func (m *Bare) All() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.said.String() + m.all.String()
}

// Hears waits until the machine has said something, and returns all that it said before, with it.
func (m *Bare) Hears(ctx context.Context, pattern string) (string, error) {
	re := regexp.MustCompile(pattern)
	for end := time.Now().Add(AnswerTime); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(20 * time.Millisecond) {
		m.mu.Lock()
		if at := re.FindStringIndex(m.heard); at != nil {
			defer m.mu.Unlock()
			out := m.heard[:at[1]]
			m.heard = m.heard[at[1]:]
			return out, nil
		}
		m.mu.Unlock()
	}
	return "", fmt.Errorf("the machine did not say %q within %s; it said: %s", pattern, AnswerTime, m.All())
}

// Answers waits for a question, and types the answer.
func (m *Bare) Answers(ctx context.Context, question, answer string) (string, error) {
	said, err := m.Hears(ctx, question+`[^\n]*: $`)
	if err == nil {
		_, err = io.WriteString(m.line, answer+"\n")
	}
	return said, err
}

package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// bare is a machine of its own, with empty disks and a serial line at which a person sits.
type bare struct {
	t    *testing.T
	cmd  *exec.Cmd
	line net.Conn

	mu    sync.Mutex
	heard string
	all   strings.Builder
}

// answerTime is how long a machine without a processor of its own may take to come to a question.
const answerTime = 4 * time.Minute

// powerOn starts a machine. It is off when the test is over.
func powerOn(t *testing.T, args ...string) *bare {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "line")
	accel := "tcg"
	if place.Quay.KVM() {
		accel = "kvm"
	}
	cmd := exec.Command("qemu-system-x86_64", append([]string{"-nodefaults", "-display", "none", "-machine", "q35,accel=" + accel, "-cpu", "max", "-smp", "2", "-m", "1024", "-device", "virtio-rng-pci",
		"-chardev", "socket,id=line,server=on,wait=off,path=" + socket, "-serial", "chardev:line"}, args...)...)
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	m := &bare{t: t, cmd: cmd}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		if t.Failed() {
			t.Logf("%s\n%s", said.String(), m.all.String())
		}
	})
	require.Eventually(t, func() bool {
		var err error
		m.line, err = net.Dial("unix", socket)
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "%s", &said)
	go func() {
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
	}()
	return m
}

// hears waits until the machine has said something, and returns all that it said before, with it.
func (m *bare) hears(pattern string) string {
	m.t.Helper()
	re := regexp.MustCompile(pattern)
	out := ""
	require.Eventually(m.t, func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		at := re.FindStringIndex(m.heard)
		if at == nil {
			return false
		}
		out, m.heard = m.heard[:at[1]], m.heard[at[1]:]
		return true
	}, answerTime, 50*time.Millisecond, "it never said %q", pattern)
	return out
}

// answers waits for a question, and types the answer.
func (m *bare) answers(question, answer string) string {
	m.t.Helper()
	said := m.hears(question + `[^\n]*: $`)
	_, err := io.WriteString(m.line, answer+"\n")
	require.NoError(m.t, err)
	return said
}

// emptyDisk makes a disk, as QEMU's argument.
func emptyDisk(t *testing.T, size int64) (arguments []string) {
	file := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, size))
	id := fmt.Sprintf("d%d", time.Now().UnixNano())
	return []string{"-drive", "if=none,format=raw,cache=unsafe,id=" + id + ",file=" + file, "-device", "virtio-blk-pci,drive=" + id}
}

// guestPort is that at which a lodge of this host is reached from a machine of QEMU's.
func guestPort(url string) string { return strings.Replace(url, "127.0.0.1", "10.0.2.2", 1) }

// From nothing: a machine with empty, larger disks boots from an ISO image by its BIOS and has tickets-db back from the lodge, by a code that is good once;
// and another, which boots by UEFI and over the network, has it back with nothing but a disk with a sealed store on it and the words that open that.
func TestRescue(t *testing.T) {
	folder := sealedStore(t, "locker")
	withPolicy(t, "rescued", policyText("tickets-db", "locker", ""), storeText("locker", folder)+"    sealed: true\n")
	backUp(t, "rescued")
	work := t.TempDir()
	iso, files := filepath.Join(work, "rescue.iso"), filepath.Join(work, "net")
	require.Contains(t, keenOK(t, "rescue", "make", "--lodge", guestPort(place.URL()), "--net", files, iso), "rescue.iso: ")
	gib := int64(1 << 30)

	t.Run("disc", func(t *testing.T) {
		code := strings.TrimSpace(keenOK(t, "rescue", "code", "--machine", "tickets-db"))
		m := powerOn(t, append(append(emptyDisk(t, gib), emptyDisk(t, gib)...), "-nic", "user,model=virtio", "-boot", "order=cd", "-drive", "media=cdrom,format=raw,readonly=on,file="+iso)...)
		m.answers("What is to be done", "1")
		m.answers("Address of the lodge", "")
		m.answers("Code", "2222-2222-2222")
		m.hears("this code is not known to the lodge")
		m.answers("Code", code)
		require.NotContains(t, m.answers("Which image", "locker"), "berth-sim", "the code is for one machine")
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Regexp(t, `vda 1 +ext4 +255 MiB +1023 MiB +grows`, m.answers("Write it", "yes"))
		m.answers("It is started from its disk now", "")
		m.hears("tickets-db of Brindle Sound Ferries is up")
		s := keen(t, "token", "list")
		require.Contains(t, s.out, "rescue-")
	})

	t.Run("network", func(t *testing.T) {
		shelf := filepath.Join(work, "shelf")
		out, err := exec.Command("mkfs.ext4", "-q", "-d", folder, shelf, "400M").CombinedOutput()
		require.NoError(t, err, string(out))
		served, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at := served.Addr().String()
		served.Close()
		_, _, log := newLodging(t).serve("--rescue", files, "--rescue-listen", at)
		require.Contains(t, log(), "rescue=http://"+at+"/boot.ipxe")
		variables := filepath.Join(work, "variables.fd")
		body, err := os.ReadFile("/usr/share/OVMF/OVMF_VARS_4M.fd")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(variables, body, 0o600))
		m := powerOn(t, append(append(emptyDisk(t, gib), emptyDisk(t, gib)...),
			"-drive", "if=none,format=raw,snapshot=on,id=shelf,file="+shelf, "-device", "virtio-blk-pci,drive=shelf",
			"-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd", "-drive", "if=pflash,format=raw,file="+variables,
			"-netdev", "user,id=n,bootfile=http://"+guestPort(at)+"/boot.ipxe", "-device", "virtio-net-pci,netdev=n")...)
		m.answers("What is to be done", "2")
		m.answers("Where is the store", "1")
		m.answers("On which disk", "400 MiB")
		m.answers("On which disk", "1")
		m.answers("The store is sealed", "not these words")
		m.hears("!! ")
		m.answers("What is to be done", "2")
		m.answers("Where is the store", "1")
		m.answers("On which disk", "3")
		m.answers("The store is sealed", passphrase)
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Regexp(t, `vda 2 +- +0 B +64 MiB +is new`, m.answers("Write it", "yes"))
		m.answers("It is started from its disk now", "")
		m.hears("tickets-db of Brindle Sound Ferries is up")
	})
}

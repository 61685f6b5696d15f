package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
)

// bare is a machine of its own, at whose serial line the test sits.
type bare struct {
	t *testing.T
	*demo.Bare
}

// powerOn starts a machine. It is off when the test is over.
func powerOn(t *testing.T, args ...string) *bare {
	t.Helper()
	m, err := place.Quay.PowerOn(args...)
	require.NoError(t, err)
	t.Cleanup(m.Off)
	return &bare{t, m}
}

func (m *bare) hears(pattern string) string {
	m.t.Helper()
	said, err := m.Hears(m.t.Context(), pattern)
	require.NoError(m.t, err)
	return said
}

func (m *bare) answers(question, answer string) string {
	m.t.Helper()
	said, err := m.Answers(m.t.Context(), question, answer)
	require.NoError(m.t, err)
	return said
}

// guestPort is that at which a lodge of this host is reached from a machine of QEMU's.
func guestPort(url string) string { return strings.Replace(url, "127.0.0.1", "10.0.2.2", 1) }

// rescueBench is what rescues start from: an image of tickets-db in a sealed store, and media.
type rescueBench struct {
	t                              *testing.T
	folder, iso, files, shelf, net string
}

func newRescueBench(t *testing.T) *rescueBench {
	folder, work := sealedStore(t, "locker"), t.TempDir()
	b := &rescueBench{t: t, folder: folder, iso: filepath.Join(work, "rescue.iso"), files: filepath.Join(work, "net"), shelf: filepath.Join(work, "shelf")}
	withPolicy(t, "rescued", policyText("tickets-db", "locker", ""), storeText("locker", folder)+"    sealed: true\n")
	backUp(t, "rescued")
	require.Contains(t, keenOK(t, "rescue", "make", "--lodge", guestPort(place.URL()), "--net", b.files, b.iso), "rescue.iso: ")
	out, err := exec.Command("mkfs.ext4", "-q", "-d", folder, b.shelf, "400M").CombinedOutput()
	require.NoError(t, err, string(out))
	served, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b.net = served.Addr().String()
	served.Close()
	_, _, log := newLodging(t).serve("--rescue", b.files, "--rescue-listen", b.net)
	require.Contains(t, log(), "rescue=http://"+b.net+"/boot.ipxe")
	return b
}

// bay is a machine's own: its disks, and what its firmware keeps.
type bay struct {
	disks     []string
	variables string
}

func newBay(t *testing.T, sizes ...int64) *bay {
	b := &bay{variables: filepath.Join(t.TempDir(), "variables.fd")}
	body, err := os.ReadFile("/usr/share/OVMF/OVMF_VARS_4M.fd")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b.variables, body, 0o600))
	for i, size := range sizes {
		file := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		require.NoError(t, os.Truncate(file, size))
		b.disks = append(b.disks, "-drive", fmt.Sprintf("if=none,format=raw,cache=unsafe,id=d%d,file=%s", i, file), "-device", fmt.Sprintf("virtio-blk-pci,drive=d%d,bootindex=%d", i, 1+4*i))
	}
	return b
}

// boot starts a machine in a bay from a medium: "disc", "stick", "network", or "" for none of them. further are arguments of QEMU's.
func (b *rescueBench) boot(t *testing.T, y *bay, medium string, uefi bool, further ...string) *bare {
	args := append(slices.Clone(y.disks), further...)
	if uefi {
		args = append(args, "-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd", "-drive", "if=pflash,format=raw,file="+y.variables)
	}
	card := "user,id=n"
	switch medium {
	case "disc":
		args = append(args, "-drive", "if=none,media=cdrom,format=raw,readonly=on,id=disc,file="+b.iso, "-device", "ide-cd,drive=disc,bootindex=2")
	case "stick":
		args = append(args, "-device", "qemu-xhci", "-drive", "if=none,format=raw,snapshot=on,id=stick,file="+b.iso, "-device", "usb-storage,drive=stick,bootindex=0", "-no-reboot") // a PC's BIOS looks at one disk only
	case "network":
		card += ",bootfile=http://" + guestPort(b.net) + "/boot.ipxe"
	}
	return powerOn(t, append(args, "-netdev", card, "-device", "virtio-net-pci,netdev=n,bootindex=4")...)
}

// withLodge gets images from the lodge, by a code.
func (b *rescueBench) withLodge(m *bare, more ...string) {
	code := strings.TrimSpace(keenOK(b.t, append([]string{"rescue", "code", "--machine", "tickets-db"}, more...)...))
	m.answers("Address of the lodge", "")
	m.answers("Code", code)
}

// withStore gets images from the store that lies on a disk of the machine.
func (b *rescueBench) withStore(m *bare, words string) {
	m.answers("What is to be done", "2")
	m.answers("Where is the store", "1")
	m.answers("On which disk", "400 MiB")
	m.answers("On which disk", "1")
	m.answers("The store is sealed", words)
}

// shelfDisk is the disk with the store on it.
func (b *rescueBench) shelfDisk() []string {
	return []string{"-drive", "if=none,format=raw,snapshot=on,id=shelf,file=" + b.shelf, "-device", "virtio-blk-pci,drive=shelf"}
}

// comesUp waits until the machine that was written comes up by itself; a stick is pulled out first.
func (b *rescueBench) comesUp(t *testing.T, m *bare, y *bay, medium string, uefi bool) {
	m.answers("It is started from its disk now", "")
	if medium == "stick" {
		m.Wait()
		m = b.boot(t, y, "", uefi)
	}
	m.hears(isUp)
}

const isUp = "tickets-db of Brindle Sound Ferries is up"

const mib = int64(1 << 20)

// From nothing: a machine with empty, larger disks boots from an ISO image by its BIOS and has tickets-db back from the lodge, by a code that is good once;
// and another, which boots by UEFI and over the network, has it back with nothing but a disk with a sealed store on it and the words that open that.
func TestRescue(t *testing.T) {
	b := newRescueBench(t)
	t.Run("disc", func(t *testing.T) {
		t.Parallel()
		m := b.boot(t, newBay(t, 1<<30, 1<<30), "disc", false)
		m.answers("What is to be done", "1")
		m.answers("Address of the lodge", "")
		m.answers("Code", "2222-2222-2222")
		m.hears("this code is not known to the lodge")
		code := strings.TrimSpace(keenOK(t, "rescue", "code", "--machine", "tickets-db"))
		m.answers("Code", code)
		require.NotContains(t, m.answers("Which image", "locker"), "berth-sim", "the code is for one machine")
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Regexp(t, `vda 1 +ext4 +255 MiB +1023 MiB +grows`, m.answers("Write it", "yes"))
		m.answers("It is started from its disk now", "")
		m.hears(isUp)
		require.Contains(t, keenOK(t, "token", "list"), "rescue-")
	})
	t.Run("network", func(t *testing.T) {
		t.Parallel()
		m := b.boot(t, newBay(t, 1<<30, 1<<30), "network", true, b.shelfDisk()...)
		b.withStore(m, passphrase)
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Regexp(t, `vda 2 +- +0 B +64 MiB +is new`, m.answers("Write it", "yes"))
		m.answers("It is started from its disk now", "")
		m.hears(isUp)
	})
}

// Every way in which a machine may get itself back (make rescue).
func TestEveryRescue(t *testing.T) {
	if os.Getenv("KEENLODGE_RESCUE") == "" {
		t.Skip("make rescue does it")
	}
	b := newRescueBench(t)
	for _, medium := range []string{"disc", "stick", "network"} {
		for _, uefi := range []bool{false, true} {
			for _, lodge := range []bool{true, false} {
				for _, larger := range []bool{false, true} {
					t.Run(fmt.Sprintf("%s/uefi=%t/lodge=%t/larger=%t", medium, uefi, lodge, larger), func(t *testing.T) {
						sizes := []int64{256 * mib, 512 * mib}
						if uefi { // it takes a partition more
							sizes[0] += 70 * mib
						}
						if larger {
							sizes[0], sizes[1] = 1<<30, 2<<30
						}
						y := newBay(t, sizes...)
						m := b.boot(t, y, medium, uefi, b.shelfDisk()...)
						if lodge {
							m.answers("What is to be done", "1")
							b.withLodge(m)
						} else {
							b.withStore(m, passphrase)
						}
						m.answers("Which image", "1")
						m.answers("Onto which disk goes vda", "1")
						if lodge {
							m.answers("Onto which disk goes vdb", "1")
						}
						m.answers("Write it", "yes")
						b.comesUp(t, m, y, medium, uefi)
					})
				}
			}
		}
	}

	// Onto disks that are smaller than those of the image: files are copied into new file systems.
	t.Run("smaller", func(t *testing.T) {
		y := newBay(t, 160*mib, 200*mib)
		m := b.boot(t, y, "disc", false, b.shelfDisk()...)
		b.withStore(m, passphrase)
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Contains(t, m.answers("Write it", "yes"), "gets smaller: its files are copied")
		b.comesUp(t, m, y, "disc", false)
	})
	t.Run("too small", func(t *testing.T) {
		m := b.boot(t, newBay(t, 40*mib, 512*mib), "disc", false, b.shelfDisk()...)
		b.withStore(m, passphrase)
		m.answers("Which image", "1")
		m.answers("Onto which disk goes vda", "1")
		require.Regexp(t, `too small: what is on it needs a disk of \d+ MiB at least, and this one is of 40 MiB`, m.hears("What is to be done"))
	})

	// Power is lost in the middle; the same is done again, over what was written. The machine is saved from a medium then, and its image, which starts by
	// UEFI now, goes onto one that does not.
	t.Run("again", func(t *testing.T) {
		y := newBay(t, 1<<30, 1<<30)
		start := func(m *bare) {
			b.withStore(m, passphrase)
			m.answers("Which image", "1")
			m.answers("Onto which disk goes vda", "1")
		}
		m := b.boot(t, y, "disc", true, b.shelfDisk()...)
		b.withStore(m, "not these words")
		m.hears("!! ")
		start(m)
		m.answers("Write it", "yes")
		m.hears(`vda: .* put down`)
		m.Off()
		m = b.boot(t, y, "disc", true, b.shelfDisk()...)
		start(m)
		said := m.answers("Write it", "yes")
		require.Contains(t, said, "what lies on vda now is lost")
		m.hears("nothing was written")
		start(m)
		m.answers("Write it", regexp.MustCompile(`Type "([^"]+)"`).FindStringSubmatch(said)[1])
		m.answers("It is started from its disk now", "")
		m.hears(isUp)
		m.Off()

		m = b.boot(t, y, "stick", true)
		m.answers("What is to be done", "3")
		b.withLodge(m, "--save")
		m.answers("What is the machine called", "saved-tickets")
		m.answers("Into which store", "locker")
		m.answers("All of these are read", "")
		m.hears("image .* of saved-tickets in locker")
		m.Off()

		y = newBay(t, 1<<30, 1<<30)
		m = b.boot(t, y, "stick", false)
		m.answers("What is to be done", "1")
		code := strings.TrimSpace(keenOK(t, "rescue", "code", "--machine", "saved-tickets"))
		m.answers("Address of the lodge", "")
		m.answers("Code", code)
		m.answers("Which image", "1")
		m.answers("Onto which disk goes", "1")
		require.Contains(t, m.answers("Write it", "yes"), "it started by UEFI, and this machine was booted by a PC's BIOS")
		b.comesUp(t, m, y, "stick", false)
	})
}

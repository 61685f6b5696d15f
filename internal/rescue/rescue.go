// Package rescue is the only program on a rescue medium: what an empty machine boots from to get itself back. It asks a person, who may be tired and have
// nothing but a screen, where images are, which one is wanted and onto which disk it goes; it shows how that will be divided before anything is written; it
// writes, has what lies on it grow, and starts the machine. It saves a machine as well. Nothing is needed but a lodge, or a store and its key.
package rescue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/client"
	"keenlodge/internal/reader/inside"
)

// Command is that with which our program is the medium's first process.
const Command = "rescue-medium"

// Run is the medium's first process. It does not return.
func Run(ctx context.Context) error {
	if err := inside.Ground(); err != nil {
		return err
	}
	for _, folder := range []string{"/etc", "/tmp", "/mnt", "/root"} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
	}
	os.Setenv("PATH", "/")
	os.Setenv("HOME", "/root")
	drive()
	c := openConsole()
	c.say("\n\n  Keen Lodge: rescue\n  Nothing on this machine's disks is changed before you have been asked.\n")
	go drives(ctx)
	for {
		err := begin(ctx, c)
		switch {
		case errors.Is(err, errLeave):
			return leave(c, unix.LINUX_REBOOT_CMD_RESTART)
		case errors.Is(err, errOff):
			return leave(c, unix.LINUX_REBOOT_CMD_POWER_OFF)
		case err != nil:
			c.say("\n✗ %v\n", err)
		}
	}
}

// errLeave ends the rescue with a restart, errOff by switching the machine off.
var errLeave, errOff = errors.New("restart"), errors.New("switch off")

// leave ends the machine.
func leave(c *console, how int) error {
	c.say("\n  Take the medium out, or have the firmware start from the disk.")
	unix.Sync()
	time.Sleep(time.Second) // what was said is read, and serial lines are slow
	return unix.Reboot(how)
}

// drive has the kernel load the drivers of all hardware that it has found.
func drive() {
	seen := map[string]bool{}
	var aliases []string
	filepath.WalkDir("/sys/devices", func(place string, _ os.DirEntry, err error) error {
		if err != nil || filepath.Base(place) != "modalias" { // hardware may go while it is looked at
			return nil
		}
		if alias := word(filepath.Dir(place), "modalias"); alias != "" && !seen[alias] {
			seen[alias] = true
			aliases = append(aliases, alias)
		}
		return nil
	})
	// Most hardware needs none, and some none that is here: it says so, and that is all.
	(&exec.Cmd{Path: "/kmod", Args: slices.Concat([]string{"modprobe", "-q", "-a"}, aliases, always)}).Run()
}

// always are modules that no hardware asks for by name.
var always = []string{"virtio_pci", "sd_mod", "sr_mod", "usb_storage", "uas", "usbhid", "hid_generic", "af_packet", "dm_mod", "loop", "fuse"}

// drives looks for hardware anew now and then: behind a controller that was just found there is more.
func drives(ctx context.Context) {
	for range 5 {
		select {
		case <-time.After(2 * time.Second):
		case <-ctx.Done():
			return
		}
		drive()
	}
}

// begin asks what is to be done, and does it.
func begin(ctx context.Context, c *console) error {
	what, err := c.choose(ctx, "What is to be done", []string{
		"get a machine back, from a lodge",
		"get a machine back, from a store by itself",
		"save this machine to a lodge",
		"a shell",
		"start this machine from its disk",
		"switch it off",
	})
	if err != nil {
		return err
	}
	t := told()
	switch what {
	case 0:
		o, err := askLodge(ctx, c, t)
		if err != nil {
			return err
		}
		return back(ctx, c, o)
	case 1:
		o, err := askStore(ctx, c, t)
		if err != nil {
			return err
		}
		return back(ctx, c, o)
	case 2:
		return save(ctx, c, t)
	case 3:
		return shell(c)
	case 4:
		return errLeave
	}
	return errOff
}

// shell gives the person a shell, until it ends.
func shell(c *console) error {
	c.say("  A shell, without job control; leave it with: exit")
	cmd := exec.Command("/busybox", "sh", "-i")
	in, out, err := os.Pipe()
	if err != nil {
		return err
	}
	defer in.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, c, c
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for {
		select {
		case l := <-c.lines:
			io.WriteString(out, l.text+"\n")
		case <-ended:
			return out.Close()
		}
	}
}

// network brings the network up, once.
func network(ctx context.Context, c *console, t settings) error {
	if networkUp {
		return nil
	}
	for {
		c.say("  asking the network for an address …")
		err := connect(ctx, t)
		if err == nil {
			networkUp = true
			return nil
		}
		c.say("! %v", err)
		if t.address, err = c.ask(ctx, "Address of this machine, such as 192.0.2.40/24 (empty: ask the network again)", ""); err != nil {
			return err
		}
		if t.address == "" {
			continue
		}
		if !strings.Contains(t.address, "/") {
			t.address += "/24"
		}
		if t.router, err = c.ask(ctx, "Router (empty for none)", ""); err != nil {
			return err
		}
		if t.names, err = c.ask(ctx, "Name server (empty for none)", ""); err != nil {
			return err
		}
	}
}

// networkUp says that this has been done; there is one dialogue, and one machine.
var networkUp bool

// askLodge asks for a lodge, and a code of it.
func askLodge(ctx context.Context, c *console, t settings) (*lodge, error) {
	if err := network(ctx, c, t); err != nil {
		return nil, err
	}
	address, err := c.ask(ctx, "Address of the lodge", t.lodge)
	if err != nil {
		return nil, err
	}
	if address != t.lodge {
		t.pin = ""
	}
	if t.pin == "" && strings.HasPrefix(address, "https://") {
		if t.pin, err = c.ask(ctx, "Fingerprint of the lodge's authority (SHA256:…; keenlodge authority shows it)", ""); err != nil {
			return nil, err
		}
	}
	for {
		code, err := c.ask(ctx, "Code (somebody at the lodge has it made: keenlodge rescue code)", t.code)
		if err != nil {
			return nil, err
		}
		o, err := toLodge(ctx, address, t.pin, code)
		if err == nil || code == "" {
			return o, err
		}
		var p *client.Problem
		if t.code = ""; !errors.As(err, &p) || p.Status != http.StatusUnauthorized {
			return nil, err
		}
		c.say("✗ %v", err)
	}
}

// startedByUEFI reports whether this machine was.
func startedByUEFI() bool {
	_, err := os.Stat("/sys/firmware/efi")
	return err == nil
}

// pause waits until somebody says to go on.
func (c *console) pause(ctx context.Context, text string) error {
	_, err := c.ask(ctx, fmt.Sprintf("%s; Enter goes on", text), "")
	return err
}

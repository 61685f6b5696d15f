package trial

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a machine waits in is told by its own words, the newest first; what it says in passing is none of that.
func TestStuck(t *testing.T) {
	for _, c := range []struct {
		serial, screen string
		cause          Cause
		words          string
	}{
		{"", "", "", ""},
		{"Debian GNU/Linux 12 tickets-db ttyS0\r\n\r\ntickets-db login: ", "", "", ""},
		{"[    3.1] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)\n" + strings.Repeat("[    3.1] ? rest_init\n", 60), "", Panic, "[    3.1] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)"},
		{"", "error: file `/boot/vmlinuz' not found.\n\ngrub> ", Loader, "error: file `/boot/vmlinuz' not found."},
		{"", "GRUB loading.\nerror: no such partition.\nEntering rescue mode...\ngrub rescue> ", Loader, "error: no such partition."},
		{"", "Booting from Hard Disk...\nBoot failed: not a bootable disk\n\nNo bootable device.", NoDisk, "Boot failed: not a bootable disk"},
		{"BdsDxe: No bootable option or device was found.\n", "", NoDisk, "BdsDxe: No bootable option or device was found."},
		{"Begin: Running /scripts/local-block ... done.\nALERT!  UUID=2b does not exist.  Dropping to a shell!\n\n(initramfs) ", "", Emergency, "ALERT!  UUID=2b does not exist.  Dropping to a shell!"},
		{"\x1b[0;1;31mYou are in emergency mode.\x1b[0m After logging in, type \"journalctl -xb\"\n", "", Emergency, `You are in emergency mode. After logging in, type "journalctl -xb"`},
		{"Please unlock disk vda2_crypt: ", "", Passphrase, "Please unlock disk vda2_crypt:"},
		{"", "Enter passphrase for hd0,gpt2 (2b1c): ", Passphrase, "Enter passphrase for hd0,gpt2 (2b1c):"},
		{"Please unlock disk vda2_crypt: \n" + strings.Repeat("[  OK  ] Started something\n", 40), "", "", ""}, // somebody did
	} {
		cause, words := Stuck(c.serial, c.screen)
		require.Equal(t, c.cause, cause, "%q %q", c.serial, c.screen)
		require.Equal(t, c.words, words)
		require.True(t, cause == "" || strings.Contains(strings.Join(func() (all []string) {
			for _, c := range Causes {
				all = append(all, string(c))
			}
			return all
		}(), "|"), string(cause)))
	}
}

func TestStages(t *testing.T) {
	require.Empty(t, Stages("", "SeaBIOS (version 1.16.2)"))
	require.Equal(t, []Stage{BootLoader}, Stages("", "GRUB loading.\nWelcome to GRUB!"))
	require.Equal(t, []Stage{BootLoader, Kernel, Login}, Stages("[    0.000000] Linux version 6.1.0-40-cloud-amd64\r\n\r\ntimetable login: ", "Booting from Hard Disk..."))
	require.Equal(t, 3, Starts(strings.Repeat("Linux version 6.1\nreboot\n", 3)))
	require.True(t, Shows("a\x1b[1mb\x1b[0mc", "", "abc"))
	require.Equal(t, "what it said\n", Clean("\x1b[31mwhat\x1b[0m it said\r\n"))
}

// What is new is what no earlier one had, but for numbers.
func TestNew(t *testing.T) {
	before := Lines("ssh.service loaded failed\nata1.00: failed command 0x12 of 4711\n")
	require.Equal(t, []string{"postgresql.service loaded failed"}, New(Lines("ata1.00: failed command 0x99 of 12\npostgresql.service loaded failed\n\nssh.service loaded failed\n"), before))
	require.Empty(t, New(nil, before))
	require.Len(t, Lines(strings.Repeat("x\ny\n", 5)), 2)
	many := ""
	for i := range 500 {
		many += strings.Repeat("a", i+1) + "\n"
	}
	require.Len(t, Lines(many), mostMessages)
}

func FuzzWords(f *testing.F) {
	f.Add("Kernel panic - not syncing", "grub> ")
	f.Add("\x1b[", "error: no such partition\n\x00")
	f.Fuzz(func(t *testing.T, serial, screen string) {
		cause, words := Stuck(serial, screen)
		require.False(t, cause != "" && len(words) > 210)
		Stages(serial, screen)
		New(Lines(serial), Lines(screen))
		require.NotContains(t, Clean(serial), "\x00")
	})
}

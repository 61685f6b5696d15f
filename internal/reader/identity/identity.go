// Package identity gives a machine another identity, in its tree of files: by what others tell it from the machine that has the same files.
package identity

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/inode"
	"keenlodge/internal/reader"
)

// mostConfig is how long a file of settings may be to be read, in bytes, mostIn how many of a folder are.
const mostConfig, mostIn = 1 << 20, 1000

// cardFolders are where a machine may keep what its network cards are told by (netplan, ifupdown, systemd.network(5), NetworkManager, ifcfg, udev).
var cardFolders = []string{"etc/netplan", "etc/network", "etc/network/interfaces.d", "etc/systemd/network", "etc/NetworkManager/system-connections", "etc/sysconfig/network-scripts", "etc/udev/rules.d"}

// leftOf are files that are of one machine and one life: they are made anew by whoever needs them.
var leftOf = []string{"var/lib/systemd/random-seed", "var/lib/urandom/random-seed", "var/lib/dhcp/*.leases", "var/lib/dhcpcd/*.lease", "var/lib/NetworkManager/*.lease", "var/lib/systemd/credential.secret", "var/lib/cloud/instance"}

// tree is a machine's tree of files, which can be written to.
type tree struct{ root string }

// Give gives the machine whose tree is at root another identity, and says what it did.
func Give(root string, id reader.Identity, say func(string, ...any)) error {
	t := tree{root}
	for _, step := range []func(reader.Identity, func(string, ...any)) error{t.machineID, t.hostKeys, t.hostName, t.cards, t.leavings} {
		if err := step(id, say); err != nil {
			return err
		}
	}
	return nil
}

// config reads a file of the tree; one that is not there is nil.
func (t tree) config(file string) ([]byte, error) {
	fd, err := inode.OpenIn(t.root, file, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW)
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("/%s: %w", file, err)
	}
	in := os.NewFile(uintptr(fd), file)
	defer in.Close()
	if info, err := in.Stat(); err != nil || !info.Mode().IsRegular() || info.Size() > mostConfig {
		return nil, err
	}
	body, err := io.ReadAll(in)
	if err == nil && body == nil {
		body = []byte{}
	}
	return body, err
}

// put replaces what a file of the tree holds; it keeps its owner and rights.
func (t tree) put(file string, body []byte) error {
	fd, err := inode.OpenIn(t.root, file, unix.O_WRONLY|unix.O_TRUNC|unix.O_NOFOLLOW)
	if err != nil {
		return fmt.Errorf("write /%s: %w", file, err)
	}
	out := os.NewFile(uintptr(fd), file)
	_, err = out.Write(body)
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return fmt.Errorf("write /%s: %w", file, err)
	}
	return nil
}

// namesIn are those in a folder of the tree, none where it is not there.
func (t tree) namesIn(folder string) []string {
	fd, err := inode.OpenIn(t.root, folder, unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return nil
	}
	in := os.NewFile(uintptr(fd), folder)
	defer in.Close()
	out, _ := in.Readdirnames(mostIn)
	return out
}

// machineID gives it another machine ID (machine-id(5)).
func (t tree) machineID(_ reader.Identity, say func(string, ...any)) error {
	id := make([]byte, 16)
	rand.Read(id)
	id[6], id[8] = id[6]&0x0f|0x40, id[8]&0x3f|0x80
	for _, file := range []string{"etc/machine-id", "var/lib/dbus/machine-id"} {
		was, err := t.config(file)
		if err != nil {
			return err
		}
		if was == nil {
			continue
		}
		if err := t.put(file, []byte(hex.EncodeToString(id)+"\n")); err != nil {
			return err
		}
		say("/%s: another machine ID", file)
	}
	return nil
}

// hostKeys makes its SSH host keys anew, of the kinds that it has.
func (t tree) hostKeys(id reader.Identity, say func(string, ...any)) error {
	var made []string
	for _, name := range t.namesIn("etc/ssh") {
		kind, private := strings.CutSuffix(strings.TrimPrefix(name, "ssh_host_"), "_key")
		if !private || !strings.HasPrefix(name, "ssh_host_") {
			continue
		}
		var key crypto.Signer
		var err error
		switch kind {
		case "ed25519":
			_, key, err = ed25519.GenerateKey(rand.Reader)
		case "ecdsa":
			key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		case "rsa":
			key, err = rsa.GenerateKey(rand.Reader, 3072)
		default:
			say("/etc/ssh/%s is of a kind that is not made here any more, and stays as it was", plain.Text(name, 60))
			continue
		}
		if err != nil {
			return err
		}
		body, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return err
		}
		public, err := ssh.NewPublicKey(key.Public())
		if err != nil {
			return err
		}
		file := path.Join("etc/ssh", name)
		if err := t.put(file, pem.EncodeToMemory(body)); err != nil {
			return err
		}
		if was, err := t.config(file + ".pub"); err == nil && was != nil {
			if err := t.put(file+".pub", ssh.MarshalAuthorizedKey(public)); err != nil {
				return err
			}
		}
		made = append(made, kind)
	}
	if len(made) > 0 {
		say("SSH host keys of its own: %s", strings.Join(made, ", "))
	}
	return nil
}

// hostName gives it another name, where one is wanted.
func (t tree) hostName(id reader.Identity, say func(string, ...any)) error {
	if id.Host == "" {
		return nil
	}
	was, err := t.config("etc/hostname")
	if err != nil {
		return err
	}
	if was == nil {
		return errors.New("it has no /etc/hostname, so its name can't be set here")
	}
	old := strings.TrimSpace(string(was))
	if err := t.put("etc/hostname", []byte(id.Host+"\n")); err != nil {
		return err
	}
	say("/etc/hostname: %s", id.Host)
	hosts, err := t.config("etc/hosts")
	if err != nil || len(hosts) == 0 || old == "" {
		return err
	}
	short, _, _ := strings.Cut(old, ".")
	renamed := regexp.MustCompile(`(^|[\s.])`+regexp.QuoteMeta(short)+`(\s|\.|$)`).ReplaceAllString(string(hosts), "${1}"+id.Host+"${2}")
	if renamed == string(hosts) {
		return nil
	}
	say("/etc/hosts: the same")
	return t.put("etc/hosts", []byte(renamed))
}

// cards has what names its network cards by their addresses name the new ones.
func (t tree) cards(id reader.Identity, say func(string, ...any)) error {
	for _, folder := range cardFolders {
		for _, name := range t.namesIn(folder) {
			file := path.Join(folder, name)
			body, err := t.config(file)
			if err != nil {
				return err
			}
			text := string(body)
			for was, is := range id.Cards {
				text = regexp.MustCompile("(?i)"+regexp.QuoteMeta(was)).ReplaceAllString(text, is)
			}
			if text == string(body) {
				continue
			}
			if err := t.put(file, []byte(text)); err != nil {
				return err
			}
			say("/%s: the addresses of its own network cards", plain.Text(file, 200))
		}
	}
	return nil
}

// leavings removes what is of the other machine's life.
func (t tree) leavings(_ reader.Identity, say func(string, ...any)) error {
	for _, pattern := range leftOf {
		folder, last := path.Split(pattern)
		for _, name := range t.namesIn(folder) {
			if fits, _ := path.Match(last, name); !fits {
				continue
			}
			fd, err := inode.OpenIn(t.root, folder, unix.O_PATH|unix.O_DIRECTORY)
			if err != nil {
				return err
			}
			err = unix.Unlinkat(fd, name, 0)
			unix.Close(fd)
			if errors.Is(err, unix.EISDIR) {
				continue
			}
			if err != nil {
				return fmt.Errorf("remove /%s%s: %w", folder, name, err)
			}
			say("/%s%s is gone: it was of the other machine", folder, plain.Text(name, 100))
		}
	}
	return nil
}

package inside

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
)

// tool runs a program that this host had when the guest was made. There is no udev here, so it makes its devices by itself.
func tool(input []byte, name string, args ...string) (string, error) {
	if _, err := os.Stat("/" + name); err != nil {
		return "", fmt.Errorf("%s is not here: the host where this guest or medium was made has none; install it there", name)
	}
	cmd := exec.Command("/"+name, args...)
	cmd.Env = []string{"DM_DISABLE_UDEV=1", "LVM_SYSTEM_DIR=/run/lvm", "LC_ALL=C", "HOME=/"}
	cmd.Stdin = bytes.NewReader(input)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		return out.String(), fmt.Errorf("%s: %w: %s", name, err, plain.LastLine(said.String(), 300))
	}
	return out.String(), nil
}

// ofKind are the names of what is of a kind.
func (g *Guest) ofKind(format string) (out []string) {
	for _, f := range g.opened.FileSystems {
		if f.Format == format {
			out = append(out, f.Name)
		}
	}
	return out
}

// find finds a file system by its name, nil if there is none.
func (g *Guest) find(name string) *reader.FileSystem {
	for i := range g.opened.FileSystems {
		if g.opened.FileSystems[i].Name == name {
			return &g.opened.FileSystems[i]
		}
	}
	return nil
}

// explain says of what is of some names why it can't be opened, unless that was said.
func (g *Guest) explain(names []string, err error) {
	for _, name := range names {
		f := g.find(name)
		if !g.explained[name] {
			g.explained[name] = true
			f.Why = plain.Text(f.Why+", which can't be opened: "+err.Error(), 400)
		}
	}
}

// array is a Linux array, as its members tell of it.
type array struct {
	uuid, name string
	members    []string
}

// arrays assembles what arrays there are that were not looked at.
func (g *Guest) arrays() {
	var found []array
	for _, member := range g.ofKind("raid") {
		if g.examined[member] {
			continue
		}
		g.examined[member] = true
		told, err := tool(nil, "mdadm", "--examine", "--export", g.devices[member])
		uuid, name := nameOfArray(told)
		if err == nil && uuid == "" {
			err = errors.New("it does not say of which")
		}
		if err != nil {
			g.explain([]string{member}, err)
			continue
		}
		g.find(member).Why += ", " + name
		i := slices.IndexFunc(found, func(a array) bool { return a.uuid == uuid })
		if i < 0 {
			i, found = len(found), append(found, array{uuid: uuid, name: name})
		}
		found[i].members = append(found[i].members, member)
	}
	for _, a := range found {
		if err := g.assembleArray(a); err != nil {
			g.explain(a.members, err)
		}
	}
}

// nameOfArray reads which array a member is of, from what mdadm tells of it. The name begins with no digit.
func nameOfArray(told string) (uuid, name string) {
	for l := range strings.Lines(told) {
		switch k, v, _ := strings.Cut(strings.TrimSpace(l), "="); k {
		case "MD_UUID":
			uuid = v
		case "MD_NAME":
			_, name, _ = strings.Cut(v, ":")
		}
	}
	if name = plain.Text(strings.ReplaceAll(name, "/", "-"), 60); name == "" {
		name = uuid[:min(8, len(uuid))]
	}
	if name != "" && name[0] >= '0' && name[0] <= '9' {
		name = "md" + name
	}
	return uuid, name
}

func (g *Guest) assembleArray(a array) error {
	if err := load("raid"); err != nil {
		return err
	}
	device := fmt.Sprintf("md%d", 100+len(g.seen))
	args := []string{"--assemble", "--run", "--readonly", "/dev/" + device}
	for _, m := range a.members {
		args = append(args, g.devices[m])
	}
	if _, err := tool(nil, "mdadm", args...); err != nil {
		return err
	}
	return g.add(a.name, "", device)
}

// lvmConfig has LVM look at what devices there are by itself, and watch nothing.
const lvmConfig = `devices { use_devicesfile=0 obtain_device_list_from_udev=0 } activation { udev_sync=0 udev_rules=0 monitoring=0 } backup { backup=0 archive=0 }`

// volumes makes the logical volumes of all volume groups known.
func (g *Guest) volumes() {
	members := g.ofKind("lvm")
	if len(members) == 0 {
		return
	}
	err := load("lvm")
	if err == nil {
		err = os.MkdirAll("/run/lock/lvm", 0o755)
	}
	if err == nil {
		_, err = tool(nil, "lvm", "vgchange", "-ay", "-q", "--config", lvmConfig) // groups that are not whole fail, others do not
	}
	told, listed := tool(nil, "lvm", "lvs", "--noheadings", "--separator", ":", "-o", "vg_name,lv_name,lv_dm_path,lv_active", "--config", lvmConfig)
	if listed != nil {
		g.explain(members, errors.Join(err, listed))
		return
	}
	for l := range strings.Lines(told) {
		fields := strings.Split(strings.TrimSpace(l), ":")
		if len(fields) != 4 || fields[3] != "active" {
			continue
		}
		device := deviceByName(filepath.Base(fields[2]))
		if device == "" || g.seen[device] {
			continue
		}
		name := plain.Text(fields[0]+"/"+fields[1], 200)
		if g.add(name, "", device) == nil {
			g.called["mapper/"+filepath.Base(fields[2])] = name
		}
	}
}

// deviceByName finds a device of the device mapper by its name there.
func deviceByName(name string) string {
	found, _ := filepath.Glob("/sys/block/dm-*/dm/name")
	for _, file := range found {
		if body, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(body)) == name {
			return filepath.Base(filepath.Dir(filepath.Dir(file)))
		}
	}
	return ""
}

// unlock opens what is locked, and all that lies in it.
func (g *Guest) unlock(u reader.Unlock) (reader.Opened, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.opened.FileSystems = slices.Clone(g.opened.FileSystems) // those told of before are read meanwhile
	f := g.find(u.FileSystem)
	if f == nil || f.Format != "luks" {
		return g.opened, line.Refuse(line.Unknown, "nothing that is locked is called %q", u.FileSystem)
	}
	if !f.Locked {
		return g.opened, nil
	}
	if err := load("luks"); err != nil {
		return g.opened, err
	}
	mapped := fmt.Sprintf("unlocked-%d", len(g.seen))
	open := func(key []byte) error {
		_, err := tool(key, "cryptsetup", "open", "--type", "luks", "--key-file", "-", "--batch-mode", "--disable-locks", "--disable-keyring", g.devices[f.Name], mapped)
		return err
	}
	err := open(u.Key)
	if short := bytes.TrimRight(u.Key, "\r\n"); err != nil && len(short) < len(u.Key) { // a passphrase in a file has an end of line
		err = open(short)
	}
	if err != nil {
		return g.opened, line.Refuse(line.Unknown, "the key does not open %s: %v", u.FileSystem, err)
	}
	device := deviceByName(mapped)
	if device == "" {
		return g.opened, fmt.Errorf("%s was unlocked, and its device is not there", u.FileSystem)
	}
	f.Locked, f.Why = false, "it is unlocked, as "+f.Name+"-unlocked"
	if err := g.add(f.Name+"-unlocked", "", device); err != nil {
		return g.opened, err
	}
	g.settle()
	return g.opened, nil
}

// nameUnlocked notes what the machine calls what was unlocked, by its crypttab(5).
func (g *Guest) nameUnlocked(table [][]string) {
	for _, l := range table {
		source := strings.Replace(l[1], "/dev/disk/by-uuid/", "UUID=", 1)
		for _, name := range g.ofKind("luks") {
			if strings.EqualFold(source, "UUID="+g.find(name).UUID) || strings.TrimPrefix(source, "/dev/") == name {
				g.called["mapper/"+l[0]] = name + "-unlocked"
			}
		}
	}
}

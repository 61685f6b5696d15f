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
		return "", fmt.Errorf("the lodge's host has no %s", name)
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

// ofKind are the indexes of what is of a kind.
func (g *Guest) ofKind(format string) (out []int) {
	for i, f := range g.opened.FileSystems {
		if f.Format == format {
			out = append(out, i)
		}
	}
	return out
}

// explain says why what is of a kind can't be opened.
func (g *Guest) explain(format string, err error) {
	for _, i := range g.ofKind(format) {
		f := &g.opened.FileSystems[i]
		f.Why = plain.Text(f.Why+", which can't be opened: "+err.Error(), 400)
	}
}

// arrays assembles what arrays there are.
func (g *Guest) arrays() {
	members := map[string][]string{} // devices by the array's UUID
	names := map[string]string{}
	for _, i := range g.ofKind("raid") {
		f := &g.opened.FileSystems[i]
		if strings.Contains(f.Why, ", ") { // it was looked at
			continue
		}
		told, err := tool(nil, "mdadm", "--examine", "--export", g.devices[f.Name])
		if err != nil {
			g.explain("raid", err)
			return
		}
		uuid, name := "", ""
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
		if c := name[0]; c >= '0' && c <= '9' {
			name = "md" + name
		}
		f.Why += ", " + name
		members[uuid], names[uuid] = append(members[uuid], g.devices[f.Name]), name
	}
	if len(members) == 0 {
		return
	}
	if err := load("raid"); err != nil {
		g.explain("raid", err)
		return
	}
	for uuid, devices := range members {
		device := fmt.Sprintf("md%d", 100+len(g.seen))
		_, err := tool(nil, "mdadm", append([]string{"--assemble", "--run", "--readonly", "/dev/" + device}, devices...)...)
		if err == nil {
			err = g.add(names[uuid], "", device)
		}
		if err != nil {
			g.explain("raid", err)
		}
	}
}

// lvmConfig has LVM look at what devices there are by itself, and watch nothing.
const lvmConfig = `devices { use_devicesfile=0 obtain_device_list_from_udev=0 } activation { udev_sync=0 udev_rules=0 monitoring=0 } backup { backup=0 archive=0 }`

// volumes makes the logical volumes of all volume groups known.
func (g *Guest) volumes() {
	if len(g.ofKind("lvm")) == 0 {
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
		g.explain("lvm", errors.Join(err, listed))
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
	i := slices.IndexFunc(g.opened.FileSystems, func(f reader.FileSystem) bool { return f.Name == u.FileSystem })
	if i < 0 || g.opened.FileSystems[i].Format != "luks" {
		return g.opened, line.Refuse(line.Unknown, "nothing that is locked is called %q", u.FileSystem)
	}
	f := &g.opened.FileSystems[i]
	if !f.Locked {
		return g.opened, nil
	}
	if err := load("luks"); err != nil {
		return g.opened, err
	}
	mapped := fmt.Sprintf("unlocked-%d", i)
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
	f.Locked, f.Why = false, "it is unlocked, as "+f.Name+"-unlocked"
	if err := g.add(f.Name+"-unlocked", "", deviceByName(mapped)); err != nil {
		return g.opened, err
	}
	g.settle()
	return g.opened, nil
}

// nameUnlocked notes what the machine calls what was unlocked, by its crypttab(5).
func (g *Guest) nameUnlocked(table [][]string) {
	for _, l := range table {
		for _, i := range g.ofKind("luks") {
			f := g.opened.FileSystems[i]
			if strings.EqualFold(l[1], "UUID="+f.UUID) || strings.TrimPrefix(l[1], "/dev/") == f.Name {
				g.called["mapper/"+l[0]] = f.Name + "-unlocked"
			}
		}
	}
}

package demo

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"keenlodge/internal/core/export"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source/rest"
	"keenlodge/internal/standin"
	"keenlodge/internal/standin/islet"
	"keenlodge/internal/standin/skerry"
	"keenlodge/internal/standin/sound"
)

// Lighthouse is the guest of hypervisor islet-3.
const Lighthouse = "lighthouse"

// StartStandin starts a stand-in, with further flags, and returns its entry in a site file once it answers.
func (p *Place) StartStandin(ctx context.Context, kind, name string, flags ...string) (site.Hypervisor, *rest.Client, error) {
	port, err := freePort()
	if err != nil {
		return site.Hypervisor{}, nil, err
	}
	folder, address := p.Path(name), fmt.Sprintf("127.0.0.1:%d", port)
	cmd := exec.Command(p.Program, append([]string{"standin", kind, "--folder", folder, "--listen", address, "--pace", "100ms"}, flags...)...)
	process, err := p.start(name, cmd, syscall.SIGTERM)
	if err != nil {
		return site.Hypervisor{}, nil, err
	}
	spec := site.Hypervisor{Kind: kind, URI: "https://" + address, CAFile: filepath.Join(folder, standin.CertificateFile), SecretFile: filepath.Join(folder, standin.SecretFile)}
	var c *rest.Client
	return spec, c, Until(ctx, 20*time.Second, "the stand-in "+name, func() (err error) {
		if process.Ended() {
			return fmt.Errorf("it ended; look at %s", p.Path(name+".log"))
		}
		if c, err = rest.New(spec); err == nil {
			err = c.Call(ctx, http.MethodGet, "/about", nil, nil)
		}
		return err
	})
}

// MakeLighthouse gives islet-3 its guest: a disk with files, and one on which it keeps its log. It is powered on.
func (p *Place) MakeLighthouse(ctx context.Context, c *rest.Client) error {
	folder := p.Path("lighthouse")
	files := map[string]string{"etc/hostname": Lighthouse + "\n", "srv/lamp/sectors.txt": "white 015-148\nred 148-221\ngreen 221-015\n", "srv/lamp/character.txt": "Fl(3) WRG 15s 41m 18M\n"}
	for name, text := range files {
		if err := os.MkdirAll(filepath.Join(folder, filepath.Dir(name)), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if _, err := as(ctx, nil, "sh", "-ec", `truncate -s 64M "$0.raw"; mkfs.ext4 -q -F -L lighthouse -E root_owner=0:0 -d "$0" "$0.raw"; qemu-img convert -f raw -O qcow2 "$0.raw" "$0-vda.qcow2"; qemu-img create -q -f qcow2 "$0-vdb.qcow2" 16M; rm "$0.raw"`, folder); err != nil {
		return err
	}
	g := islet.Guest{Name: Lighthouse, Tags: map[string]string{"role": "light", "tier": "silver"}, Logs: true, Build: islet.Build{Memory: 256 << 20, CPUs: 1, Firmware: "bios"}}
	for _, target := range []string{"vda", "vdb"} {
		var v islet.Volume
		if err := SendFile(ctx, c, "/volumes/"+Lighthouse+"-"+target, folder+"-"+target+".qcow2", &v); err != nil {
			return err
		}
		g.Disks = append(g.Disks, islet.Disk{Target: target, Volume: v.ID})
	}
	if err := c.Call(ctx, http.MethodPost, "/guests", g, &g); err != nil {
		return err
	}
	return c.Task(ctx, time.Minute, http.MethodPost, "/guests/"+g.ID+"/power", "on", nil)
}

// SendFile sends a file by PUT.
func SendFile(ctx context.Context, c *rest.Client, path, file string, out any) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	return c.Send(ctx, http.MethodPut, path, info.Size(), f, out)
}

// Archive is the instance of account skerry in its east, Tides the one in its west.
const (
	Archive = "berth-archive"
	Tides   = "tide-model"
)

// MakeArchive gives the account skerry its instances: each with a volume of files, berth-archive with a second one.
func (p *Place) MakeArchive(ctx context.Context, c *rest.Client) error {
	for name, region := range map[string]string{Archive: "skerry-east", Tides: "skerry-west"} {
		i := skerry.Instance{Name: name, Type: "two-oars", Network: "harbour", Tags: map[string]string{"tier": "silver"}}
		if name == Archive {
			i.Tags["role"] = "archive"
		}
		folder := p.Path(name)
		if err := os.MkdirAll(filepath.Join(folder, "srv"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, "srv", "berths.csv"), []byte("berth,length,depth\n1,62,4.1\n2,48,3.6\n"), 0o644); err != nil {
			return err
		}
		if _, err := as(ctx, nil, "sh", "-ec", `truncate -s 48M "$0.raw"; mkfs.ext4 -q -F -L archive -E root_owner=0:0 -d "$0" "$0.raw"; qemu-img convert -f raw -O qcow2 "$0.raw" "$0.qcow2"; rm "$0.raw"`, folder); err != nil {
			return err
		}
		var v skerry.Volume
		if err := SendFile(ctx, c, "/regions/"+region+"/volumes/"+name+"-vda", folder+".qcow2", &v); err != nil {
			return err
		}
		i.Volumes = append(i.Volumes, skerry.Attached{Device: "vda", Volume: v.ID})
		if name == Archive {
			if err := c.Call(ctx, http.MethodPost, "/regions/"+region+"/volumes", skerry.NewVolume{Name: name + "-vdb", Size: 8 << 20}, &v); err != nil {
				return err
			}
			i.Volumes = append(i.Volumes, skerry.Attached{Device: "vdb", Volume: v.ID})
		}
		if err := c.Call(ctx, http.MethodPost, "/regions/"+region+"/instances", i, &i); err != nil {
			return err
		}
		if err := c.Task(ctx, time.Minute, http.MethodPost, "/regions/"+region+"/instances/"+i.ID+"/power", true, nil); err != nil {
			return err
		}
	}
	return nil
}

// Gateway is the appliance of source exchange: the telephone exchange of the harbour, of two nodes.
const Gateway = "sound-gateway"

// StartExchange starts an appliance of a name, and returns its entry in a site file, with the address of its twin, and a client of its first node.
func (p *Place) StartExchange(ctx context.Context, source, name string) (site.Hypervisor, *rest.Client, error) {
	spec, root, err := p.StartStandin(ctx, sound.Kind, source)
	if err != nil {
		return spec, nil, err
	}
	defer root.Close()
	if err := root.Call(ctx, http.MethodPut, "/inside/settings", map[string]any{"name": name}, nil); err != nil {
		return spec, nil, err
	}
	phrase := p.Path("exchange-passphrase")
	if err := os.WriteFile(phrase, []byte("four bells and a tern\n"), 0o600); err != nil {
		return spec, nil, err
	}
	spec.Twin, spec.Export = spec.URI+"/"+sound.Nodes[1], &export.Settings{PassphraseFile: phrase}
	spec.URI += "/" + sound.Nodes[0]
	c, err := rest.New(spec)
	return spec, c, err
}

// FillExchange gives an appliance what it keeps, with so many calls in its history.
func FillExchange(ctx context.Context, c *rest.Client, calls int) error {
	var history bytes.Buffer
	for n := range calls {
		fmt.Fprintf(&history, "2026-06-%02d %02d:%02d,%d,%d,%d\n", 1+n%30, n%24, n*7%60, 200+n%90, 200+n*13%90, n*31%600)
	}
	for _, part := range []struct {
		name, about string
		mandatory   bool
		body        []byte
	}{
		{"subscribers", "extensions, their names and secrets", true, []byte("210,harbour office\n211,north pier\n220,ticket hall\n")},
		{"routing", "where calls go, by number and hour", true, []byte("0>trunk-1\n2xx>local\n*18:00-06:00>night bell\n")},
		{"greetings", "what callers hear", false, bytes.Repeat([]byte("Brindle Sound Ferries. "), 20_000)},
		{"history", "calls of the last months", false, history.Bytes()},
	} {
		query := url.Values{"about": {part.about}, "mandatory": {strconv.FormatBool(part.mandatory)}}
		if err := c.Send(ctx, http.MethodPut, "/inside/parts/"+part.name+"?"+query.Encode(), int64(len(part.body)), bytes.NewReader(part.body), nil); err != nil {
			return err
		}
	}
	return nil
}

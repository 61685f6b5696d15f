// Package sound reaches appliances that speak sound's interface, as the stand-in of that kind does (docs/stand-ins.md): pairs of nodes, of which one is active
// and the only one that is asked. They export themselves into one file, a pax archive that is encrypted with a passphrase (age-encryption.org/v1).
package sound

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/export"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// Kind is the kind of these sources.
const Kind = "sound"

const (
	// marked begins the marks of what is ours on an appliance; an ID follows.
	marked = "keenlodge-"
	// taskTime is how long something small may take, exportTime how long an export, or taking one back.
	taskTime, exportTime = 2 * time.Minute, 6 * time.Hour
	// lateTime is how long a list may lack what was just made.
	lateTime = 5 * time.Second
	// mostParts bounds the parts that an appliance may tell of, mostWords a text of it, in bytes.
	mostParts, mostWords = 200, 1 << 10
)

func init() {
	source.Register(Kind, func(_ context.Context, spec site.Hypervisor) (source.Source, error) {
		a := &Appliance{}
		if spec.Export != nil {
			a.settings = *spec.Export
		}
		for _, uri := range []string{spec.URI, spec.Twin} {
			if uri == "" {
				continue
			}
			one := spec
			one.URI = uri
			c, err := rest.New(one)
			if err != nil {
				return nil, errors.Join(err, a.Close())
			}
			a.nodes = append(a.nodes, node{c})
		}
		return a, nil
	}, nil)
}

// Appliance is a connection to both of its nodes.
type Appliance struct {
	settings export.Settings
	nodes    []node
}

// node is one of them.
type node struct{ *rest.Client }

// about is what a node says of itself and its appliance.
type about struct {
	System   string `json:"system"`
	ID       string `json:"id"`
	Name     string `json:"name"`
	Release  string `json:"release"`
	Build    int    `json:"build"`
	Node     string `json:"node"`
	Active   bool   `json:"active"`
	Fresh    bool   `json:"fresh"`
	Imported string `json:"imported"`
	Free     int64  `json:"free"`
}

func (a about) build() string { return strconv.Itoa(a.Build) }

// told begins what is told of an export of it.
func (a about) told() export.Told {
	text := func(s string) string { return plain.Text(s, 100) }
	return export.Told{Product: text(a.System), Release: text(a.Release), Build: a.build(), Name: text(a.Name), Node: text(a.Node)}
}

// part is one that an appliance has.
type part struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Mandatory bool   `json:"mandatory"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
}

// exported is an export that lies on a node.
type exported struct {
	ID     string `json:"id"`
	Node   string `json:"node"`
	Mark   string `json:"mark"`
	Parts  []part `json:"parts"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Close implements [source.Source].
func (a *Appliance) Close() (err error) {
	for _, n := range a.nodes {
		err = errors.Join(err, n.Client.Close())
	}
	return err
}

// active finds the node that is active, which is the only one that is asked for anything but that.
func (a *Appliance) active(ctx context.Context) (node, about, error) {
	var errs []error
	for _, n := range a.nodes {
		var is about
		err := n.Call(ctx, http.MethodGet, "/about", nil, &is)
		if err == nil && is.Active {
			return n, is, nil
		}
		if err == nil {
			err = fmt.Errorf("node %s is passive", plain.Text(is.Node, 100))
		}
		errs = append(errs, err)
	}
	err := errors.Join(errs...)
	if !errors.Is(err, source.ErrUnreachable) {
		err = fmt.Errorf("%w: no node of it is active just now: %w", source.ErrBusy, err)
	}
	return node{}, about{}, err
}

// machine is the active node of the appliance of a name.
func (a *Appliance) machine(ctx context.Context, name string) (node, about, error) {
	n, is, err := a.active(ctx)
	if err == nil && is.Name != name {
		err = fmt.Errorf("appliance %s: %w here; there is %s", name, source.ErrNoMachine, plain.Text(is.Name, 100))
	}
	return n, is, err
}

// Machines implements [source.Source]: a pair is one machine.
func (a *Appliance) Machines(ctx context.Context) ([]source.Machine, error) {
	_, is, err := a.active(ctx)
	if err != nil {
		return nil, err
	}
	if !machine.IsName(is.Name) {
		return nil, fmt.Errorf("the appliance says that it is called %q, which is no machine's name", plain.Text(is.Name, 100))
	}
	return []source.Machine{{Name: is.Name, UUID: rest.Identity(is.ID), State: machine.Running, Tags: map[string]string{"kind": "appliance"}, Disks: []source.Disk{}}}, nil
}

// System implements [source.SystemTeller].
func (a *Appliance) System(ctx context.Context, name string) (string, error) {
	_, is, err := a.machine(ctx, name)
	t := is.told()
	return fmt.Sprintf("%s %s, build %s", t.Product, t.Release, t.Build), err
}

// parts are those of a node's appliance, as far as what it says makes sense.
func (n node) parts(ctx context.Context) ([]export.Part, error) {
	var all []part
	if err := n.Call(ctx, http.MethodGet, "/parts", nil, &all); err != nil {
		return nil, fmt.Errorf("list the parts: %w", err)
	}
	return clean(all)
}

// clean refuses parts that can't be.
func clean(all []part) (out []export.Part, err error) {
	if len(all) > mostParts {
		return nil, fmt.Errorf("it tells of %d parts, and more than %d are not taken", len(all), mostParts)
	}
	seen := map[string]bool{}
	for _, p := range all {
		if plain.Text(p.Name, 100) != p.Name || p.Name == "" || strings.Contains(p.Name, "/") || seen[p.Name] || p.Bytes < 0 {
			return nil, fmt.Errorf("it tells of a part %.40q of %d bytes, which can't be", p.Name, p.Bytes)
		}
		seen[p.Name] = true
		out = append(out, export.Part{Name: p.Name, About: plain.Text(p.About, mostWords), Mandatory: p.Mandatory, Bytes: p.Bytes, SHA256: plain.Text(p.SHA256, 100)})
	}
	return out, nil
}

// Parts implements [source.Parter].
func (a *Appliance) Parts(ctx context.Context, name string, _ bool) (out []source.PartOf, err error) {
	n, _, err := a.machine(ctx, name)
	if err != nil {
		return nil, err
	}
	all, err := n.parts(ctx)
	for _, p := range all {
		out = append(out, source.PartOf{Name: p.Name, About: p.About, Mandatory: p.Mandatory, Bytes: p.Bytes})
	}
	return out, err
}

// passphrases are those of the settings' file: the first is for what is written, all of them open.
func (a *Appliance) passphrases() ([]string, error) {
	file := a.settings.PassphraseFile
	if file == "" {
		return nil, errors.New("what it exports is encrypted, and no passphrase is set; write into its entry in the site file: export: {passphrase_file: /PATH}")
	}
	body, err := rest.Private("passphrase", file)
	if err != nil {
		return nil, err
	}
	lines := slices.DeleteFunc(strings.Split(strings.ReplaceAll(body, "\r", ""), "\n"), func(s string) bool { return s == "" })
	if len(lines) == 0 {
		return nil, fmt.Errorf("passphrase file %s: it is empty; write the passphrase into its first line", file)
	}
	return lines, nil
}

var (
	_ source.Capturer     = (*Appliance)(nil)
	_ source.Exporter     = (*Appliance)(nil)
	_ source.SystemTeller = (*Appliance)(nil)
)

// Package skerry reaches cloud accounts that speak skerry's interface, as the stand-in of that kind does (docs/stand-ins.md): instances and volumes in
// regions, and moments, which are a snapshot of each volume of an instance at once. Each instance is a machine, and so is each volume that no
// instance has, or that bears a tag of its own: policies select by their tags, to which kind and region are added.
package skerry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// Kind is the kind of these sources.
const Kind = "skerry"

// What is added to the tags of instances and volumes, and what ours bear: the mark of a moment is the lodge's ID of it.
const (
	kindTag, regionTag = "kind", "region"
	inPlaceTag         = "keenlodge"
	captureTag         = "keenlodge-capture"
	restoredTag        = "keenlodge-restored"
)

const taskTime = 10 * time.Minute

func init() {
	source.Register(Kind, func(_ context.Context, spec site.Hypervisor) (source.Source, error) {
		shared.Lock()
		defer shared.Unlock()
		a := shared.accounts[spec.URI+"\n"+spec.CAFile+"\n"+spec.SecretFile]
		if a == nil {
			c, err := rest.New(spec)
			if err != nil {
				return nil, err
			}
			a = &Account{Client: c, things: map[string]thing{}}
			shared.accounts[spec.URI+"\n"+spec.CAFile+"\n"+spec.SecretFile] = a
		}
		return connection{a, spec.Pool}, nil
	}, nil)
}

// shared are the accounts that this process speaks with: signing in, and looking where something is, cost calls, and calls are counted.
var shared = struct {
	sync.Mutex
	accounts map[string]*Account
}{accounts: map[string]*Account{}}

// Account is one that is signed in to.
type Account struct {
	*rest.Client
	mu      sync.Mutex
	things  map[string]thing // by ID, as they were listed last
	regions []string
}

// connection is an account for one caller. Region is where volumes are made where nobody says otherwise.
type connection struct {
	*Account
	region string
}

// Close implements [source.Source]. The account stays, for the next caller.
func (connection) Close() error { return nil }

type instance struct {
	ID      string            `json:"id,omitempty"`
	Region  string            `json:"region,omitempty"`
	Name    string            `json:"name"`
	Type    string            `json:"type"`
	Network string            `json:"network"`
	Tags    map[string]string `json:"tags"`
	Runs    bool              `json:"runs,omitempty"`
	Volumes []attached        `json:"volumes"`
}

type attached struct {
	Device string `json:"device"`
	Volume string `json:"volume"`
	Size   int64  `json:"size,omitempty"`
}

type volume struct {
	ID       string            `json:"id"`
	Region   string            `json:"region"`
	Name     string            `json:"name"`
	Size     int64             `json:"size"`
	Tags     map[string]string `json:"tags"`
	Instance string            `json:"instance"`
	Made     time.Time         `json:"made"`
}

type moment struct {
	ID        string            `json:"id"`
	Region    string            `json:"region"`
	Name      string            `json:"name"`
	Instance  string            `json:"instance"`
	Volume    string            `json:"volume"`
	Tags      map[string]string `json:"tags"`
	Made      time.Time         `json:"made"`
	Snapshots []struct {
		ID     string `json:"id"`
		Volume string `json:"volume"`
		Device string `json:"device"`
		Size   int64  `json:"size"`
	} `json:"snapshots"`
}

// thing is an instance or a volume, as a machine.
type thing struct {
	id, region, name string
	instance         bool
	machine          source.Machine
}

// list reads a list whole, page by page.
func list[T any](ctx context.Context, a *Account, what string, query url.Values) (out []T, err error) {
	for {
		var page struct {
			Items []T    `json:"items"`
			After string `json:"after"`
		}
		at := what
		if len(query) > 0 {
			at += "?" + query.Encode()
		}
		if err := a.Call(ctx, http.MethodGet, at, nil, &page); err != nil {
			return nil, fmt.Errorf("list %s: %w", what, err)
		}
		out = append(out, page.Items...)
		if page.After == "" {
			return out, nil
		}
		if query == nil {
			query = url.Values{}
		}
		query.Set("after", page.After)
	}
}

// in lists the account's regions.
func (a *Account) in(ctx context.Context) ([]string, error) {
	a.mu.Lock()
	known := a.regions
	a.mu.Unlock()
	if known != nil {
		return known, nil
	}
	var about struct {
		Regions []string `json:"regions"`
	}
	if err := a.Call(ctx, http.MethodGet, "/about", nil, &about); err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.regions = about.Regions
	return about.Regions, nil
}

// Machines implements [source.Source].
func (c connection) Machines(ctx context.Context) ([]source.Machine, error) {
	regions, err := c.in(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]thing{}
	for _, region := range regions {
		instances, err := list[instance](ctx, c.Account, rest.Path("regions", region, "instances"), nil)
		if err != nil {
			return nil, err
		}
		volumes, err := list[volume](ctx, c.Account, rest.Path("regions", region, "volumes"), nil)
		if err != nil {
			return nil, err
		}
		for _, i := range instances {
			found[i.ID] = i.thing()
		}
		for _, v := range volumes {
			if v.alone() {
				found[v.ID] = v.thing()
			}
		}
	}
	named(found)
	c.mu.Lock()
	c.things = found
	c.mu.Unlock()
	out := make([]source.Machine, 0, len(found))
	for _, t := range found {
		out = append(out, t.machine)
	}
	slices.SortFunc(out, func(a, b source.Machine) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// named tells those apart by their IDs that have one name.
func named(found map[string]thing) {
	count := map[string]int{}
	for _, t := range found {
		count[t.name]++
	}
	for id, t := range found {
		if t.machine.Name = t.name; t.name == "" || count[t.name] > 1 {
			t.machine.Name = strings.TrimPrefix(t.name+"-"+id[:min(8, len(id))], "-")
		}
		found[id] = t
	}
}

func tags(of map[string]string, kind, region string) map[string]string {
	out := maps.Clone(of)
	if out == nil {
		out = map[string]string{}
	}
	out[kindTag], out[regionTag] = kind, region
	return out
}

func (i instance) thing() thing {
	m := source.Machine{Name: i.Name, UUID: rest.Identity(i.ID), State: machine.Off, Tags: tags(i.Tags, "instance", i.Region), Disks: []source.Disk{}}
	if i.Runs {
		m.State = machine.Running
	}
	for _, a := range i.Volumes {
		m.Disks = append(m.Disks, source.Disk{Target: a.Device, Format: Kind, Size: a.Size})
	}
	return thing{i.ID, i.Region, i.Name, true, m}
}

// alone is the device of a volume that is a machine by itself.
const alone = "vda"

// alone reports whether it is a machine by itself: it is nobody's, or somebody gave it a tag of its own.
func (v volume) alone() bool {
	n := len(v.Tags)
	if _, ours := v.Tags[restoredTag]; ours {
		n--
	}
	return v.Instance == "" || n > 0
}

func (v volume) thing() thing {
	return thing{v.ID, v.Region, v.Name, false, source.Machine{Name: v.Name, UUID: rest.Identity(v.ID), State: machine.Running, Tags: tags(v.Tags, "volume", v.Region), Disks: []source.Disk{{Target: alone, Format: Kind, Size: v.Size}}}}
}

// find finds an instance or a volume by its UUID, where that is known, or by its name. It is as it was listed last.
func (c connection) find(ctx context.Context, name, id string) (thing, error) {
	if t, ok := c.known(name, id); ok {
		return t, nil
	}
	if _, err := c.Machines(ctx); err != nil {
		return thing{}, err
	}
	t, ok := c.known(name, id)
	if !ok {
		return t, fmt.Errorf("%s: %w in this account", name, source.ErrNoMachine)
	}
	return t, nil
}

func (c connection) known(name, id string) (thing, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if id != "" {
		full, err := uuid.Parse(id)
		t, ok := c.things[full.String()]
		return t, err == nil && ok
	}
	for _, t := range c.things {
		if t.machine.Name == name {
			return t, true
		}
	}
	return thing{}, false
}

// Describe implements [source.Describer].
func (c connection) Describe(ctx context.Context) (source.Facts, error) {
	var about struct {
		System  string   `json:"system"`
		Regions []string `json:"regions"`
	}
	err := c.Call(ctx, http.MethodGet, "/about", nil, &about)
	return source.Facts{Version: about.System, Host: strings.Join(about.Regions, ", "), Pool: c.region, Free: -1, Total: -1}, err
}

// place is a region and something in it, as one word.
func place(region, id string) string { return region + "/" + id }

// CreateDisk implements [source.Restorer]. A pool is a region; the volume bears a tag that says that a restore made it.
func (c connection) CreateDisk(ctx context.Context, pool, name string, length int64, content io.Reader) (string, error) {
	region, err := c.choose(ctx, pool)
	if err != nil {
		return "", err
	}
	var v volume
	err = c.Send(ctx, http.MethodPut, rest.Path("regions", region, "volumes", name)+"?tag="+restoredTag+"="+url.QueryEscape(name), length, content, &v)
	if rest.Is(err, http.StatusConflict) {
		return "", fmt.Errorf("volume %s: %w", name, source.ErrExists)
	}
	if err == nil && v.ID == "" {
		err = errors.New("it answers that it is there, but not what it is")
	}
	if err != nil {
		_, undone := c.RemoveDisk(context.WithoutCancel(ctx), pool, name)
		return "", errors.Join(fmt.Errorf("make volume %s: %w", name, err), undone)
	}
	return place(region, v.ID), nil
}

func (c connection) choose(ctx context.Context, pool string) (string, error) {
	regions, err := c.in(ctx)
	if err != nil {
		return "", err
	}
	if pool == "" {
		pool = c.region
	}
	if pool == "" && len(regions) > 0 {
		pool = regions[0]
	}
	if !slices.Contains(regions, pool) {
		return "", fmt.Errorf("the account has no region %q; it has %s", pool, strings.Join(regions, ", "))
	}
	return pool, nil
}

// RemoveDisk implements [source.Restorer].
func (c connection) RemoveDisk(ctx context.Context, pool, name string) (removed bool, err error) {
	region, err := c.choose(ctx, pool)
	if err != nil {
		return false, err
	}
	volumes, err := list[volume](ctx, c.Account, rest.Path("regions", region, "volumes"), nil)
	if err != nil {
		return false, err
	}
	for _, v := range volumes {
		if _, ours := v.Tags[restoredTag]; v.Name == name && ours && v.Instance == "" {
			err := c.Call(ctx, http.MethodDelete, rest.Path("regions", region, "volumes", v.ID), nil, nil)
			return err == nil, err
		}
	}
	return false, nil
}

// Unused implements [source.UnusedTeller].
func (c connection) Unused(ctx context.Context) (out []source.Unused, err error) {
	regions, err := c.in(ctx)
	if err != nil {
		return nil, err
	}
	for _, region := range regions {
		volumes, err := list[volume](ctx, c.Account, rest.Path("regions", region, "volumes"), nil)
		if err != nil {
			return nil, err
		}
		for _, v := range volumes {
			if _, ours := v.Tags[restoredTag]; ours && v.Instance == "" {
				out = append(out, source.Unused{Name: plain.Text("volume "+v.Name+" in "+region, 200), Made: v.Made, Bytes: v.Size})
			}
		}
	}
	return out, nil
}

// describe is the instance that is asked for, in the region of its volumes.
func describe(n source.NewGuest) (i instance, err error) {
	if err := json.Unmarshal([]byte(n.Definition), &i); err != nil || i.Name == "" {
		return i, fmt.Errorf("%s: its definition is not one of this kind of account", n.Name)
	}
	i.ID, i.Region, i.Name, i.Runs = "", "", n.Name, false
	var volumes []attached
	for _, a := range i.Volumes {
		at, ok := n.Disks[a.Device]
		if !ok {
			continue
		}
		region, id, _ := strings.Cut(at, "/")
		i.Region = region
		volumes = append(volumes, attached{Device: a.Device, Volume: id})
	}
	i.Volumes = volumes
	return i, nil
}

// Define implements [source.Restorer]. An instance that is there is not replaced: it goes back to a snapshot, or a new one stands beside it.
func (c connection) Define(ctx context.Context, n source.NewGuest) ([]string, error) {
	i, err := describe(n)
	if err != nil {
		return nil, err
	}
	if n.Replace {
		return nil, fmt.Errorf("instance %s: instances of an account are not replaced; restore it under another name, or go back to a snapshot in place", n.Name)
	}
	all, err := list[instance](ctx, c.Account, rest.Path("regions", i.Region, "instances"), nil)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(all, func(o instance) bool { return o.Name == n.Name }) {
		return nil, fmt.Errorf("instance %s: %w", n.Name, source.ErrExists)
	}
	region := i.Region
	var made instance
	if err := c.Call(ctx, http.MethodPost, rest.Path("regions", region, "instances"), i, &made); err != nil {
		return nil, fmt.Errorf("make instance %s: %w", n.Name, err)
	}
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", region, "instances", made.ID), nil, &made); err != nil {
		return nil, fmt.Errorf("the account answers that instance %s is made, but: %w", n.Name, err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	t := made.thing()
	c.things[made.ID] = t
	return nil, nil
}

// Admit implements [source.Restorer].
func (c connection) Admit(n source.NewGuest) ([]string, error) {
	_, err := describe(n)
	return nil, err
}

// Start implements [source.Restorer].
func (c connection) Start(ctx context.Context, name string) error {
	t, err := c.find(ctx, name, "")
	if err != nil {
		return err
	}
	if !t.instance {
		return nil // a volume has no power
	}
	return c.power(ctx, t, true)
}

func (c connection) power(ctx context.Context, t thing, on bool) error {
	if err := c.Task(ctx, taskTime, http.MethodPost, rest.Path("regions", t.region, "instances", t.id, "power"), on, nil); err != nil {
		return fmt.Errorf("instance %s: switch it %s: %w", t.name, map[bool]string{true: "on", false: "off"}[on], err)
	}
	var now instance
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", t.region, "instances", t.id), nil, &now); err != nil {
		return err
	}
	if now.Runs != on {
		return fmt.Errorf("instance %s: the account answers that it is switched, and it is not", t.name)
	}
	return nil
}

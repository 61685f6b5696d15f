package rescue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/reader/inside"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
)

// askStore asks where a store is, and opens it.
func askStore(ctx context.Context, c *console, t settings) (*bare, error) {
	var names []string
	for _, name := range medium.Drivers() {
		if d, err := medium.Lookup(name); err == nil && d.Far {
			names = append(names, name)
		}
	}
	lines := []string{"a folder on a disk of this machine, or one that is plugged in"}
	for _, name := range names {
		d, err := medium.Lookup(name)
		if err != nil {
			return nil, err
		}
		lines = append(lines, d.Doc+" ("+name+")")
	}
	i, err := c.choose(ctx, "Where is the store", lines)
	if err != nil {
		return nil, err
	}
	key := func() (chunk.Opener, error) { return askKey(ctx, c) }
	if i == 0 {
		return storeOnDisk(ctx, c, key)
	}
	if err := network(ctx, c, t); err != nil {
		return nil, err
	}
	spec, secrets, err := askPlace(ctx, c, names[i-1])
	if err != nil {
		return nil, err
	}
	m, err := medium.Open(ctx, spec, secrets)
	if err != nil {
		return nil, err
	}
	return toStore(ctx, m, key)
}

// askKey asks for what opens a sealed store.
func askKey(ctx context.Context, c *console) (chunk.Opener, error) {
	text, err := c.secret(ctx, "The store is sealed. Its passphrase, or an identity (AGE-SECRET-KEY-1…); nothing is shown of it")
	if strings.HasPrefix(strings.ToUpper(text), "AGE-SECRET-KEY-") {
		return chunk.Opener{Identity: text}, err
	}
	return chunk.Opener{Passphrase: text}, err
}

// askPlace asks for what a medium needs to know of a place.
func askPlace(ctx context.Context, c *console, name string) (spec site.Store, secrets medium.Secrets, err error) {
	d, err := medium.Lookup(name)
	if err != nil {
		return spec, nil, err
	}
	for {
		s := d.Settings()
		if err := askFields(ctx, c, reflect.ValueOf(s).Elem()); err != nil {
			return spec, nil, err
		}
		if err := s.Check(); err != nil {
			c.say("✗ %v; once more", err)
			continue
		}
		spec = site.Store{Medium: name, Settings: s}
		break
	}
	secrets = medium.Secrets{}
	for _, s := range d.Secrets {
		if s.File || s.Instead != "" && secrets[s.Instead] != "" {
			continue // several lines are nothing to be typed
		}
		ask := c.secret
		if s.Public {
			ask = func(ctx context.Context, q string) (string, error) { return c.ask(ctx, q, "") }
		}
		if secrets[s.Name], err = ask(ctx, "The "+s.Doc); err != nil {
			return spec, nil, err
		}
	}
	return spec, secrets, nil
}

// askFields asks for the fields of settings, by what they say of themselves.
func askFields(ctx context.Context, c *console, s reflect.Value) error {
	for i := 0; i < s.NumField(); i++ {
		f := s.Type().Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		text, err := c.ask(ctx, fmt.Sprintf("%s (%s)", name, f.Tag.Get("doc")), "")
		if err != nil {
			return err
		}
		switch f.Type.Kind() {
		case reflect.String:
			s.Field(i).SetString(text)
		case reflect.Int:
			n, err := strconv.Atoi(cmp.Or(text, "0"))
			if err != nil {
				c.say("✗ %q is no number", text)
				i-- // it is asked for once more
				continue
			}
			s.Field(i).SetInt(int64(n))
		case reflect.Bool:
			s.Field(i).SetBool(strings.HasPrefix(strings.ToLower(text), "y"))
		}
	}
	return nil
}

// storeOnDisk looks for stores on a disk.
func storeOnDisk(ctx context.Context, c *console, key func() (chunk.Opener, error)) (*bare, error) {
	disks, err := targets()
	if err != nil {
		return nil, err
	}
	if len(disks) == 0 {
		return nil, errNoDisk
	}
	var lines []string
	for _, d := range disks {
		lines = append(lines, d.line())
	}
	i, err := c.choose(ctx, "On which disk", lines)
	if err != nil {
		return nil, err
	}
	g, err := inside.Open([]string{disks[i].name})
	if err != nil {
		return nil, err
	}
	folders := storesIn(ctx, g)
	if len(folders) == 0 {
		var why []string
		for _, f := range g.Opened().FileSystems {
			if f.Why != "" {
				why = append(why, f.Name+": "+f.Why)
			}
		}
		return nil, errors.Join(fmt.Errorf("no store was found on disk %s, down to %d folders below the top of each of its file systems (%s)", disks[i].name, storeDepth, strings.Join(why, "; ")), g.Rest())
	}
	at := 0
	if len(folders) > 1 {
		if at, err = c.choose(ctx, "Which store", folders); err != nil {
			return nil, errors.Join(err, g.Rest())
		}
	}
	m, err := dir.OpenToRead(folders[at])
	var b *bare
	if err == nil {
		b, err = toStore(ctx, m, key)
	}
	if err != nil {
		return nil, errors.Join(err, g.Rest())
	}
	b.ends = append(b.ends, g.Rest)
	b.disk = disks[i].name
	return b, nil
}

// storeDepth is how many folders deep stores are looked for.
const storeDepth = 4

// storesIn are the folders in which stores lie.
func storesIn(ctx context.Context, g *inside.Guest) (out []string) {
	for _, f := range g.Opened().FileSystems {
		root := g.Place(f.Name)
		if root == "" {
			continue
		}
		filepath.WalkDir(root, func(place string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return nil
			}
			m, err := dir.OpenToRead(place)
			if err == nil {
				_, err = store.ReadHeader(ctx, m)
				m.Close()
			}
			if err == nil {
				out = append(out, place)
				return fs.SkipDir
			}
			if rel, _ := filepath.Rel(root, place); strings.Count(rel, "/")+1 >= storeDepth {
				return fs.SkipDir
			}
			return nil
		})
	}
	return out
}

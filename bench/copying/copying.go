// Package copying measures copies between stores: against cp of the packs, what similar machines send, a line that is thin, and a run with nothing to do.
package copying

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"

	"keenlodge/bench/line"
	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/wire"
)

// rounds of each measurement.
const rounds = 3

// Add adds a row to the page.
type Add func(what, unit string, asked float64, samples ...float64)

type lab struct {
	p       *demo.Place
	c       *client.Client
	service *demo.Process
}

// Measure measures all of it.
func Measure(ctx context.Context, p *demo.Place, add Add) error {
	if err := p.StartDatabase(ctx); err != nil {
		return err
	}
	service, err := p.StartService(ctx)
	if err != nil {
		return err
	}
	l := &lab{p: p, service: service}
	if l.c, err = p.Client(); err != nil {
		return err
	}
	if _, err := l.c.ApplySite(ctx, site.Site{Zone: "Europe/Lisbon"}, false); err != nil {
		return err
	}
	if err := l.store(ctx, "quay-shelf", site.Store{}); err != nil {
		return err
	}
	for _, step := range []func(context.Context, Add) error{l.first, l.similar, l.thin, l.nothing} {
		if err := step(ctx, add); err != nil {
			return err
		}
	}
	return nil
}

func sh(text string, args ...any) error {
	out, err := exec.Command("sh", "-ec", fmt.Sprintf(text, args...)).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// store makes a store in a folder of its name.
func (l *lab) store(ctx context.Context, name string, spec site.Store) error {
	folder := l.p.Path(name)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	spec.Medium, spec.Settings = "dir", &dir.Settings{Folder: folder}
	n := wire.StoreAddition{Spec: spec.Complete()}
	if spec.Sealed {
		me, err := age.GenerateX25519Identity()
		if err != nil {
			return err
		}
		n.Keys = []store.NewKey{{Label: "bench", Recipients: []string{me.Recipient().String()}}}
	}
	_, err := l.c.AddStore(ctx, name, n)
	return err
}

// disk makes a raw disk with a file system that holds copies of folders, and an image of a machine of it.
func (l *lab) disk(ctx context.Context, machine string, gib int, more string, folders ...string) error {
	file, tree := l.p.Path(machine+".raw"), l.p.Path("tree")
	err := sh("mkdir %[3]s; cd /; for d in %[4]s; do cp -al --parents ${d#/} %[3]s; done; %[5]s truncate -s %[1]dG %[2]s; mkfs.ext4 -q -F -d %[3]s %[2]s; rm -r %[3]s", gib, file, tree, strings.Join(folders, " "), strings.ReplaceAll(more, "TREE", tree))
	if err != nil {
		return err
	}
	return l.brought(machine, file)
}

func (l *lab) brought(machine, file string) error {
	cmd := exec.Command(l.p.Program, "image", "import", file, "--machine", machine, "--store", "quay-shelf")
	cmd.Env = append(os.Environ(), "KEENLODGE_URL="+l.p.URL(), "KEENLODGE_TOKEN_FILE="+l.p.TokenFile())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("import of %s: %w: %s", machine, err, out)
	}
	return os.Remove(file)
}

// copy carries a rule out that copies machines into a store, and tells how long that took.
func (l *lab) copy(ctx context.Context, to string, machines ...string) (r wire.Run, seconds float64, err error) {
	s, err := l.c.Site(ctx)
	if err != nil {
		return r, 0, err
	}
	s.Copies = map[string]site.Copy{"to-" + to: {From: "quay-shelf", To: to, Machines: machines, Rotation: "newest 99999"}}
	if _, err := l.c.ApplySite(ctx, s, false); err != nil {
		return r, 0, err
	}
	begun := time.Now()
	r, err = l.c.RunCopy(ctx, "to-"+to, false, false)
	if err == nil {
		r, err = l.c.Watch(ctx, r.ID, func(wire.Run) {})
	}
	if err == nil && r.State != "done" {
		err = fmt.Errorf("the copy to %s ended as %s: %s %+v", to, r.State, r.Error, r.Tasks)
	}
	return r, time.Since(begun).Seconds(), err
}

// drop removes a store with what it holds.
func (l *lab) drop(ctx context.Context, name string) error {
	s, err := l.c.Site(ctx)
	if err != nil {
		return err
	}
	delete(s.Stores, name)
	s.Copies = nil
	if _, err := l.c.ApplySite(ctx, s, false); err != nil {
		return err
	}
	return os.RemoveAll(l.p.Path(name))
}

// memory is the most that the service had since it was last asked, in MiB.
func (l *lab) memory() (float64, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", l.service.PID()))
	if err != nil {
		return 0, err
	}
	for text := range strings.Lines(string(status)) {
		if v, ok := strings.CutPrefix(text, "VmHWM:"); ok {
			n, err := strconv.ParseFloat(strings.Fields(v)[0], 64)
			return n / 1024, err
		}
	}
	return 0, fmt.Errorf("process %d tells no peak", l.service.PID())
}

func (l *lab) forgetMemory() error {
	return os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", l.service.PID()), []byte("5"), 0o200)
}

// first compares the first copy of a large image with cp of its packs, unsealed and sealed.
func (l *lab) first(ctx context.Context, add Add) error {
	if err := l.disk(ctx, "harbour-archive", 8, "", "/usr"); err != nil {
		return err
	}
	packs := filepath.Join(l.p.Path("quay-shelf"), "pack")
	var plain, sealed, plainMemory, sealedMemory []float64
	for i := range rounds {
		if err := sh("find %s -type f -exec cat {} + > /dev/null; sync -f %[1]s", packs); err != nil {
			return err
		}
		begun := time.Now()
		if err := sh("cp -r %s %s; sync -f %[2]s", packs, l.p.Path("packs")); err != nil {
			return err
		}
		reference := time.Since(begun).Seconds()
		if err := os.RemoveAll(l.p.Path("packs")); err != nil {
			return err
		}
		for _, one := range []struct {
			sealed         bool
			ratios, memory *[]float64
		}{{false, &plain, &plainMemory}, {true, &sealed, &sealedMemory}} {
			to := fmt.Sprintf("far-%v-%d", one.sealed, i)
			if err := l.store(ctx, to, site.Store{Like: "quay-shelf", Sealed: one.sealed}); err != nil {
				return err
			}
			if err := l.forgetMemory(); err != nil {
				return err
			}
			_, seconds, err := l.copy(ctx, to, "harbour-archive")
			if err != nil {
				return err
			}
			m, err := l.memory()
			if err != nil {
				return err
			}
			*one.ratios, *one.memory = append(*one.ratios, seconds/reference), append(*one.memory, m)
			if err := l.drop(ctx, to); err != nil {
				return err
			}
		}
	}
	add("first copy of an image between pooled folders, against cp of its packs and a sync", "×", 1.3, plain...)
	add("the same from an unsealed to a sealed store with equal cuts", "×", 1.6, sealed...)
	add("peak memory of the service in the first", "MiB", 300, plainMemory...)
	add("and in the second", "MiB", 300, sealedMemory...)
	return nil
}

// similar measures what machines send that have the same system as one that was copied before, and something of their own.
func (l *lab) similar(ctx context.Context, add Add) error {
	system := []string{"/usr/bin", "/usr/sbin", "/usr/share/doc", "/usr/lib/x86_64-linux-gnu", "/usr/share/locale"}
	for i := range 4 {
		// Each was filled in another order, and has logs, settings and a little data of its own.
		order := append(append([]string{}, system[i:]...), system[:i]...)
		own := fmt.Sprintf("mkdir -p TREE/var/log TREE/srv; head -c 3M /dev/urandom > TREE/srv/own-%d; seq %d000000 %[2]d600000 > TREE/var/log/syslog; i=0; while test $i -lt 300; do mkdir -p TREE/etc/d$i; echo host-%[1]d $i > TREE/etc/d$i/name; i=$((i+1)); done;", i, i+1)
		if err := l.disk(ctx, fmt.Sprintf("berth-%d", i), 4, own, order...); err != nil {
			return err
		}
	}
	for _, sealed := range []bool{false, true} {
		to := fmt.Sprintf("like-%v", sealed)
		if err := l.store(ctx, to, site.Store{Like: "quay-shelf", Sealed: sealed}); err != nil {
			return err
		}
		if _, _, err := l.copy(ctx, to, "berth-0"); err != nil {
			return err
		}
		var shares []float64
		for i := 1; i < 4; i++ {
			r, _, err := l.copy(ctx, to, fmt.Sprintf("berth-%d", i))
			if err != nil {
				return err
			}
			shares = append(shares, 100*float64(r.Tasks[0].Stored)/float64(r.Tasks[0].Total))
		}
		kind := map[bool]string{false: "unsealed", true: "sealed"}[sealed]
		add("three more machines with the same system, "+kind+": bytes sent, of their data", "%", 15, shares...)
	}
	return nil
}

// thin measures how much of a thin line is used.
func (l *lab) thin(ctx context.Context, add Add) error {
	if err := sh("head -c 40M /dev/urandom > %s", l.p.Path("log.raw")); err != nil {
		return err
	}
	if err := l.brought("ferry-log", l.p.Path("log.raw")); err != nil {
		return err
	}
	k := line.Line{Rate: 20 * line.Mbit, Trip: 80 * time.Millisecond}
	var used []float64
	for i := range rounds {
		address, _, err := l.objects(ctx, fmt.Sprintf("thin-%d", i), &k)
		if err != nil {
			return err
		}
		r, _, err := l.copy(ctx, fmt.Sprintf("thin-%d", i), "ferry-log")
		if err != nil {
			return fmt.Errorf("over %s: %w", address, err)
		}
		t := r.Tasks[0]
		used = append(used, 100-100*float64(t.Stored)/t.Ended.Sub(*t.Started).Seconds()/float64(k.Rate))
	}
	add("40 MiB over a line of 20 Mbit/s and 80 ms to an object service: of the line left unused, from the task's begin to its end", "%", 10, used...)
	return nil
}

// objects makes a store in an object service, at the end of a line or not.
func (l *lab) objects(ctx context.Context, name string, k *line.Line) (address string, calls *atomic.Int64, err error) {
	o, address, err := l.p.Objects(name)
	if err != nil {
		return "", nil, err
	}
	if k != nil {
		near, err := k.To(ctx, strings.TrimPrefix(address, "http://"))
		if err != nil {
			return "", nil, err
		}
		address = "http://" + near
	}
	_, err = l.c.AddStore(ctx, name, wire.StoreAddition{
		Spec:   site.Store{Medium: "s3", Layout: site.Pooled, Like: "quay-shelf", Settings: &s3.Settings{Endpoint: address, Bucket: name, PathStyle: true, Region: "sound"}},
		Access: wire.Credentials{"access_key": demo.ObjectsKey, "secret_key": demo.ObjectsSecret}})
	return address, &o.Calls, err
}

// nothing measures a run with nothing to do, of 10,000 images.
func (l *lab) nothing(ctx context.Context, add Add) error {
	_, calls, err := l.objects(ctx, "many", nil)
	if err != nil {
		return err
	}
	if _, _, err := l.copy(ctx, "many", "ferry-log"); err != nil {
		return err
	}
	config, err := pgx.ParseConfig(l.p.DatabaseURL())
	if err != nil {
		return err
	}
	if config.Password == "" {
		line, err := os.ReadFile(l.p.Path("pgpass"))
		if err != nil {
			return err
		}
		config.Password = strings.TrimSpace(string(line[strings.LastIndexByte(string(line), ':')+1:]))
	}
	db, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	for _, sql := range []string{
		`insert into images (id, machine, machine_id, policy, store, run, taken, state, scope, capture, base, consistency)
			select 'many' || lpad(n::text, 6, '0'), machine, machine_id, policy, store, run, now() - n * interval '1 hour', 'usable', scope, capture, base, consistency
			from generate_series(1, 10000) n, (select * from images where store = 'quay-shelf' and machine = 'ferry-log' limit 1) m`,
		`insert into images (id, machine, machine_id, policy, store, run, taken, state, scope, capture, base, consistency, copy_of, copied_by)
			select 'copy' || substr(id, 5), machine, machine_id, policy, 'many', run, taken, 'usable', scope, capture, base, consistency, id, 'to-many' from images where id like 'many______'`,
	} {
		if _, err := db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	var took, asked []float64
	for range rounds {
		before := calls.Load()
		_, seconds, err := l.copy(ctx, "many", "ferry-log")
		if err != nil {
			return err
		}
		took, asked = append(took, seconds), append(asked, float64(calls.Load()-before))
	}
	add("a run with nothing new, of 10,000 images: time", "s", 5, took...)
	add("and requests to the other store", "requests", 50, asked...)
	return nil
}

package servers

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/core/files"
	"keenlodge/internal/lists"
	"keenlodge/internal/records"
	"keenlodge/internal/vault"
)

// MeasureBack measures how files come back, as [Measure] does.
func MeasureBack(ctx context.Context, p *demo.Place, add Add) error {
	return measure(ctx, p, add, (*lab).filesBack, (*lab).firstFile, (*lab).find)
}

// filesBack compares putting 10,000 files back onto a server with unpacking the same from a local archive.
func (l *lab) filesBack(add Add) error {
	loop, mounted, err := l.volume("back", "12G")
	if err != nil {
		return err
	}
	tree := filepath.Join(mounted, "tree")
	// Of each file a third does not compress.
	_, err = sh("mkdir $d; head -c 700M /dev/urandom > $m/noise; i=0; while test $i -lt 100; do mkdir $d/$i; i=$((i+1)); done; "+
		"split -a 4 -d -n 10000 $m/noise $m/part-; i=0; for f in $m/part-*; do { cat $f; head -c 143000 /usr/lib/x86_64-linux-gnu/libc.so.6; } > $d/$((i%100))/f$i; rm $f; i=$((i+1)); done; rm $m/noise; tar -C $d -cf $m/tree.tar .; sync -f $m", "d="+tree, "m="+mounted)
	if err != nil {
		return err
	}
	if _, err := l.covered("back", loop, "scope: files\n    folders: ["+tree+"]"); err != nil {
		return err
	}
	m, err := l.image("back")
	if err != nil {
		return err
	}
	timed := func(work func() error) (float64, error) {
		if _, err := sh("rm -rf $d; sync -f $m; cat $m/tree.tar > /dev/null", "d="+tree, "m="+mounted); err != nil {
			return 0, err
		}
		begun := time.Now()
		err := work()
		if err == nil {
			_, err = sh("sync -f $m", "m="+mounted)
		}
		return time.Since(begun).Seconds(), err
	}
	var ratios []float64
	for range rounds {
		reference, err := timed(func() error { _, err := sh("mkdir $d; tar -C $d -xf $m/tree.tar", "d="+tree, "m="+mounted); return err })
		if err != nil {
			return err
		}
		ours, err := timed(func() error { _, err := l.ok("restore", "files", m.ID, tree, "--yes", "--wait"); return err })
		if err != nil {
			return err
		}
		ratios = append(ratios, ours/reference)
	}
	add(fmt.Sprintf("%d files, %.1f GiB, back onto a server, to tar -x of the same", m.Files.Entries, float64(m.Files.Bytes)/(1<<30)), "×", 1.3, ratios...)
	return nil
}

// firstFile is how long it takes until the files of a large disk are listed.
func (l *lab) firstFile(add Add) error {
	loop, mounted, err := l.volume("wide", "1T")
	if err == nil {
		_, err = sh("cp -a /usr/share/doc /usr/include /etc $d/; sync -f $d", "d="+mounted)
	}
	if err != nil {
		return err
	}
	if _, err := l.server("wide", loop); err != nil {
		return err
	}
	var cold, warm []float64
	for range rounds {
		m, err := l.image("wide")
		if err != nil {
			return err
		}
		for _, times := range []*[]float64{&cold, &warm} {
			begun := time.Now()
			if _, err := l.ok("image", "files", m.ID, "/"); err != nil {
				return err
			}
			*times = append(*times, time.Since(begun).Seconds())
		}
	}
	add("first file of a 1 TiB image listed, by a reader guest that has to be started", "s", 8, cold...)
	add("the same, by one that is up", "s", 0.3, warm...)
	return nil
}

// find is how long it takes to find a name in 100 images of 200,000 files each, of which 200 change from one to the next.
func (l *lab) find(add Add) error {
	if err := os.Setenv("PGPASSFILE", filepath.Join(l.p.Folder, "pgpass")); err != nil {
		return err
	}
	rec, err := records.Open(l.ctx, l.p.DatabaseURL(), func(bool, error) {})
	if err != nil {
		return err
	}
	defer rec.Close()
	v, err := vault.Open(rec, filepath.Join(l.folder, "state", "lodge-key"))
	if err != nil {
		return err
	}
	all := lists.New(rec, nil, v, slog.New(slog.DiscardHandler))
	const images, changes = 100, 200
	entries := make([]files.Entry, 200_000)
	at := time.Unix(1_790_000_000, 0).UTC()
	for i := range entries {
		entries[i] = files.Entry{Path: fmt.Sprintf("usr/share/%03d/package-%05d/file-%d.txt", i%300, i/20, i), Kind: files.File, Size: int64(i % 9000), Modified: at}
	}
	for n := range images {
		m := records.Image{ID: fmt.Sprintf("bench%05d", n), Machine: "many", MachineID: "u-many", Policy: "many", Store: "quay-shelf", Taken: at.AddDate(0, 0, n), Scope: "system", Capture: "full", Consistency: "each file", Disks: []records.ImageDisk{}}
		if err := rec.AddImage(l.ctx, m); err != nil {
			return err
		}
		if err := rec.FinishImage(l.ctx, m); err != nil {
			return err
		}
		for k := range changes {
			entries[(n*7919+k*997)%len(entries)].Size++
		}
		list := []byte(files.ListHead)
		for i := range entries {
			list = files.AppendEntry(list, &entries[i])
		}
		if err := all.Keep(l.ctx, "u-many", m.ID, map[string]io.Reader{"": bytes.NewReader(list)}, nil); err != nil {
			return err
		}
	}
	var took []float64
	for i := range rounds {
		begun := time.Now()
		r, err := all.Find(l.ctx, "u-many", "file-"+strconv.Itoa(77_770+i)+".", 1000)
		if err != nil {
			return err
		}
		if len(r.Files) != 1 || r.Searched != images {
			return fmt.Errorf("found %d files in %d images", len(r.Files), r.Searched)
		}
		took = append(took, time.Since(begun).Seconds())
	}
	add("a name found in 100 images of one machine with 200,000 files each", "s", 2, took...)
	return nil
}

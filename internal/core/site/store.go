package site

import (
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/media"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// Store says where images are kept. Its secrets (an access key, a password, what it is sealed with) are never part of it.
type Store struct {
	Medium string `yaml:"medium" json:"medium" doc:"how it is reached: dir, s3, sftp, ftp, webdav, smb"`
	Layout Layout `yaml:"layout" json:"layout,omitempty" doc:"left out, it is pooled. pooled: deduplicated, compressed packs; open: qcow2 files in folders, readable without us"`
	// Settings are its medium's own; beside the rest in the site file.
	Settings media.Settings `yaml:"-" json:"-"`

	// Place is where it is.
	Place string `yaml:"place,omitempty" json:"place,omitempty" doc:"where it is, by a name of your own such as harbour-office; roles can be narrowed to places"`
	// Set is what disks have in common that are used in turn.
	Set string `yaml:"set,omitempty" json:"set,omitempty" doc:"of a removable store: what disks are called together that are used in turn; a copy rule fills the one that is here"`
	// Sealed says that the store is sealed. A store that is not what its entry says is refused.
	Sealed bool `yaml:"sealed,omitempty" json:"sealed,omitempty" doc:"nothing in it can be read without a key"`
	// Like is another store, whose cuts this one took over when it was made: the two exchange pieces.
	Like string `yaml:"like,omitempty" json:"like,omitempty" doc:"another pooled store: a new one cuts as that does, so that the two can exchange pieces"`
	// Compression is how hard a pooled store tries to make what is new small.
	Compression Compression `yaml:"compression,omitempty" json:"compression,omitempty" doc:"pooled layout: how hard to try to make what is new small: none, quick, even (the default), small, smallest; what is there already stays as it is"`
	// Compress says that the disks of an open store are compressed.
	Compress bool `yaml:"compress,omitempty" json:"compress,omitempty" doc:"open layout: compress the disks' clusters"`
	// Grace is how long a dropped image can be brought back.
	Grace string `yaml:"grace,omitempty" json:"grace,omitempty" doc:"how long a dropped image can be brought back: 24 hours (the default), 3 days, none"`
	// Locked is how long each image stays that comes into it, whatever rotation or anybody says.
	Locked string `yaml:"locked,omitempty" json:"locked,omitempty" doc:"how long nothing can delete an image that came into it, such as 14 days: no rotation, no administrator; the place locks it too where it can (object lock of a bucket), otherwise the lodge itself refuses"`
	// Floor is what stays free: a run that would go below it is refused.
	Floor       string `yaml:"floor,omitempty" json:"floor,omitempty" doc:"room that stays free, such as 20 GiB"`
	FloorInodes int64  `yaml:"floor_inodes,omitempty" json:"floor_inodes,omitempty" doc:"inodes that stay free"`

	// TasksAtOnce is how many images are written into it at the same time.
	TasksAtOnce int      `yaml:"tasks_at_once,omitempty" json:"tasks_at_once,omitempty" doc:"how many images are written into it at the same time; default 4"`
	Windows     []string `yaml:"windows,omitempty" json:"windows,omitempty" doc:"hours in which runs may start, such as: only 20:00-06:00"`
	Bandwidth   []string `yaml:"bandwidth,omitempty" json:"bandwidth,omitempty" doc:"what backups may write into it in a second, such as: 40 MiB, 10 MiB mon-fri 08:00-18:00"`

	SweepWindow    string `yaml:"sweep_window,omitempty" json:"sweep_window,omitempty" doc:"when the daily sweep may work, such as 02:00-05:00; by default at any time"`
	SweepBandwidth string `yaml:"sweep_bandwidth,omitempty" json:"sweep_bandwidth,omitempty" doc:"what a sweep may read and write in a second, such as 40 MiB; by default no limit"`
}

// Location is what tells one store's location from another's, in words; "" for an entry that says nothing of it.
func (s Store) Location() string {
	if s.Settings == nil {
		return ""
	}
	return s.Settings.Location()
}

// Spot tells the store of a name from others: by its location, or by the name alone where its disk comes and goes, for several of these may be mounted
// at one folder in turn.
func (s Store) Spot(name string) string {
	if media.IsRemovable(s.Settings) {
		return "the disk of store " + name
	}
	return s.Location()
}

// Account is where and as whom its medium is signed in to, with the medium's name; of one that nobody signs in to, its location.
func (s Store) Account() string {
	if r, ok := s.Settings.(media.Remote); ok {
		return s.Medium + " " + r.Account()
	}
	return s.Medium + " " + s.Location()
}

// FloorBytes is the floor in bytes, 0 for none.
func (s Store) FloorBytes() int64 { return field.BytesOr(s.Floor, 0) }

// SweepBytes is what a sweep may read and write in a second, 0 for no limit.
func (s Store) SweepBytes() int64 { return field.BytesOr(s.SweepBandwidth, 0) }

// GraceTime is how long a dropped image can be brought back.
func (s Store) GraceTime() time.Duration {
	d, err := graceOf(s.Grace)
	if err != nil {
		return 24 * time.Hour // Check has refused such a store
	}
	return d
}

// LockTime is how long nothing can delete an image that came into it, 0 for no lock.
func (s Store) LockTime() time.Duration { return field.SpanOf(s.Locked, 0) }

// graceOf reads "36 hours", "none", or nothing.
func graceOf(text string) (time.Duration, error) {
	if text == "none" {
		return 0, nil
	}
	return field.SpanOr(text, 24*time.Hour)
}

// SweepUntil tells whether a sweep may work at a moment of the zone that it carries, and until when; the zero time is for ever.
func (s Store) SweepUntil(at time.Time) (until time.Time, open bool) {
	w, err := sweepWindow(s.SweepWindow)
	if err != nil || s.SweepWindow == "" {
		return time.Time{}, true
	}
	if !w.Open(at) {
		return time.Time{}, false
	}
	until, _ = w.Closes(at)
	return until, true
}

func sweepWindow(text string) (when.Windows, error) {
	if text == "" {
		return when.Windows{}, nil
	}
	return when.ParseWindows([]string{"only " + text})
}

// Complete fills in the layout if it was left out.
func (s Store) Complete() Store {
	if s.Layout == "" {
		s.Layout = Pooled
	}
	return s
}

// Check finds what is wrong in a store's entry by itself.
func (s Store) Check(name string) error { return s.check("store "+name, "") }

func (s Store) check(name, p string) error {
	bad := func(f, format string, args ...any) error { return field.At(name, p+"."+f, format, args...) }
	empty, err := media.Empty(s.Medium)
	if err != nil {
		return bad("medium", "%v", err)
	}
	if s.Settings == nil {
		s.Settings = empty
	}
	if err := field.Place(name, p, s.Place); err != nil {
		return err
	}
	_, inFolder := s.Settings.(interface{ LocalFolder() string })
	switch {
	case s.Layout != "" && !slices.Contains(Layouts, s.Layout):
		return bad("layout", "layout %q is not known%s", s.Layout, suggest.Hint(s.Layout, Layouts))
	case s.Layout == Open && !inFolder:
		return bad("layout", "the open layout lies in a folder of this host or a mounted share (medium dir); medium %s takes the pooled one", s.Medium)
	case s.Layout == Open && s.Sealed:
		return bad("sealed", "an open store is there to be read by anyone, so it can't be sealed; take the pooled layout")
	case s.Compression != "" && !slices.Contains(Compressions, s.Compression):
		return bad("compression", "compression %q is not known%s", s.Compression, suggest.Hint(s.Compression, Compressions))
	case s.Layout == Open && s.Compression != "":
		return bad("compression", "this is for the pooled layout; an open store has compress: true, or not")
	case s.Layout != Open && s.Compress:
		return bad("compress", "a pooled store is compressed anyway, as its compression says; this is for the open layout")
	}
	if _, err := field.SpanOr(s.Locked, 0); err != nil {
		return bad("locked", "locked: %v", err)
	}
	if _, err := graceOf(s.Grace); err != nil {
		return bad("grace", "%v", err)
	}
	var setting *media.SettingError
	if err := s.Settings.Check(); errors.As(err, &setting) && setting.Field != "" {
		return bad(setting.Field, "%s", setting.Why)
	} else if err != nil {
		return field.At(name, p, "%v", err)
	}
	switch {
	case s.FloorInodes < 0:
		return bad("floor_inodes", "%d inodes can't stay free", s.FloorInodes)
	}
	for f, v := range map[string]string{"floor": s.Floor, "sweep_bandwidth": s.SweepBandwidth} {
		if v == "" {
			continue
		}
		if n, err := humanize.ParseBytes(v); err != nil || n > 1<<62 || f == "sweep_bandwidth" && n == 0 {
			return bad(f, `%q is no length; write for example "20 GiB"`, v)
		}
	}
	if _, err := sweepWindow(s.SweepWindow); err != nil {
		return bad("sweep_window", `%q is no window; write for example "02:00-05:00"`, s.SweepWindow)
	}
	return field.Limits(name, p, s.TasksAtOnce, s.Windows, s.Bandwidth)
}

// checkLikes makes sure that stores cut like pooled ones that are there, and none like itself.
func (s Site) checkLikes() error {
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		v, seen := s.Stores[name], []string{name}
		bad := func(format string, args ...any) error {
			return field.At("store "+name, "$.stores."+field.Quoted(name)+".like", format, args...)
		}
		for v.Like != "" {
			other, ok := s.Stores[v.Like]
			switch {
			case !ok:
				return bad("no store is called %q%s", v.Like, suggest.Hint(v.Like, slices.Sorted(maps.Keys(s.Stores))))
			case v.Layout == Open || other.Layout == Open:
				return bad("an open store does not cut what it keeps; only a pooled one can be made like another pooled one")
			case slices.Contains(seen, v.Like):
				return bad("%s is like itself in the end; one of these must be like no other", v.Like)
			}
			seen, v = append(seen, v.Like), other
		}
	}
	return nil
}

// Layout is how images lie in a store.
type Layout string

const (
	// Pooled keeps deduplicated, compressed packs.
	Pooled Layout = "pooled"
	// Open keeps qcow2 files in folders, readable without us.
	Open Layout = "open"
)

// Layouts lists every layout.
var Layouts = []Layout{Pooled, Open}

// Compression is a step of the ladder from no work to the fewest bytes (docs/benchmarks.md has what each costs and gives).
type Compression string

const (
	// Uncompressed leaves all as it is: for media and archives, or a store that compresses by itself.
	Uncompressed Compression = "none"
	// Quick is for fast lines and disks, where a backup's time counts more than its room.
	Quick Compression = "quick"
	// Even costs about the time of zstd's fastest ordinary level, and its bytes.
	Even Compression = "even"
	// Small is for stores that fill.
	Small Compression = "small"
	// Smallest is for thin lines and what is kept for years.
	Smallest Compression = "smallest"
)

// Compressions lists the ladder, the quickest first.
var Compressions = []Compression{Uncompressed, Quick, Even, Small, Smallest}

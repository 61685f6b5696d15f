package site

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/near"
)

// Store says where images are kept. Its secrets (an access key, a password, what it is sealed with) are never part of it.
type Store struct {
	Medium string `yaml:"medium" json:"medium" enum:"dir,s3,sftp" doc:"how it is reached: a folder of the service's host, an object service, a folder on a host that speaks SSH"`
	Layout string `yaml:"layout" json:"layout" enum:"pooled,open" doc:"pooled: deduplicated, compressed packs; open: qcow2 files in folders, readable without us"`
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"absolute path of an existing folder (dir, sftp); what all names begin with (s3)"`

	Endpoint  string `yaml:"endpoint,omitempty" json:"endpoint,omitempty" doc:"s3: address of the service, such as https://objects.brindle.example"`
	Bucket    string `yaml:"bucket,omitempty" json:"bucket,omitempty" doc:"s3: an existing bucket"`
	Region    string `yaml:"region,omitempty" json:"region,omitempty" doc:"s3: region, where the service has them"`
	PathStyle bool   `yaml:"path_style,omitempty" json:"path_style,omitempty" doc:"s3: the bucket is in the path of addresses, not in the host's name"`

	Host    string `yaml:"host,omitempty" json:"host,omitempty" doc:"sftp: name or address"`
	Port    int    `yaml:"port,omitempty" json:"port,omitempty" doc:"sftp: by default 22"`
	User    string `yaml:"user,omitempty" json:"user,omitempty" doc:"sftp: account"`
	HostKey string `yaml:"host_key,omitempty" json:"host_key,omitempty" doc:"sftp: the host's public key (ssh-ed25519 AAAA…); by default what the service's known_hosts files say"`

	// Sealed says that the store is sealed. A store that is not what its entry says is refused.
	Sealed bool `yaml:"sealed,omitempty" json:"sealed,omitempty" doc:"nothing in it can be read without a key"`
	// Compress says that the disks of an open store are compressed.
	Compress bool `yaml:"compress,omitempty" json:"compress,omitempty" doc:"open layout: compress the disks' clusters"`
	// Grace is how long a dropped image can be brought back.
	Grace string `yaml:"grace,omitempty" json:"grace,omitempty" doc:"how long a dropped image can be brought back: 24 hours (the default), 3 days, none"`
	// Floor is what stays free: a run that would go below it is refused.
	Floor       string `yaml:"floor,omitempty" json:"floor,omitempty" doc:"room that stays free, such as 20 GiB"`
	FloorInodes int64  `yaml:"floor_inodes,omitempty" json:"floor_inodes,omitempty" doc:"inodes that stay free"`

	SweepWindow    string `yaml:"sweep_window,omitempty" json:"sweep_window,omitempty" doc:"when the daily sweep may work, such as 02:00-05:00; by default at any time"`
	SweepBandwidth string `yaml:"sweep_bandwidth,omitempty" json:"sweep_bandwidth,omitempty" doc:"what a sweep may read and write in a second, such as 40 MiB; by default no limit"`
}

// Place is what tells one store's location from another's, in words.
func (s Store) Place() string {
	switch s.Medium {
	case "s3":
		return fmt.Sprintf("%s/%s", strings.TrimSuffix(s.Endpoint, "/"), path.Join(s.Bucket, s.Folder))
	case "sftp":
		port := ""
		if s.Port != 0 {
			port = fmt.Sprintf(":%d", s.Port)
		}
		return fmt.Sprintf("sftp://%s@%s%s%s", s.User, s.Host, port, s.Folder)
	}
	return s.Folder
}

// FloorBytes is the floor in bytes, 0 for none.
func (s Store) FloorBytes() int64 { return bytesOf(s.Floor) }

// SweepBytes is what a sweep may read and write in a second, 0 for no limit.
func (s Store) SweepBytes() int64 { return bytesOf(s.SweepBandwidth) }

// GraceTime is how long a dropped image can be brought back.
func (s Store) GraceTime() time.Duration {
	d, err := graceOf(s.Grace)
	if err != nil {
		return 24 * time.Hour // Check has refused such a store
	}
	return d
}

// graceOf reads "36 hours".
func graceOf(text string) (time.Duration, error) {
	units := map[string]time.Duration{"minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour}
	switch words := strings.Fields(text); {
	case len(words) == 0:
		return 24 * time.Hour, nil
	case text == "none":
		return 0, nil
	case len(words) == 2:
		n, err := strconv.Atoi(words[0])
		unit, ok := units[strings.TrimSuffix(words[1], "s")]
		if err == nil && ok && n > 0 && n <= 1000 {
			return time.Duration(n) * unit, nil
		}
	}
	return 0, fmt.Errorf(`%q is no time; write for example "24 hours", "3 days" or "none"`, text)
}

// bytesOf reads a length that Check has accepted.
func bytesOf(text string) int64 {
	if text == "" {
		return 0
	}
	n, err := humanize.ParseBytes(text)
	if err != nil {
		return 0
	}
	return int64(n)
}

// SweepUntil tells whether a sweep may work at a moment of the zone that it carries, and until when; the zero time is for ever.
func (s Store) SweepUntil(at time.Time) (until time.Time, open bool) {
	from, to, ok := window(s.SweepWindow)
	if !ok {
		return time.Time{}, true
	}
	midnight := func(days int) time.Time {
		return time.Date(at.Year(), at.Month(), at.Day()+days, 0, 0, 0, 0, at.Location())
	}
	clock := func(days int, d time.Duration) time.Time {
		m := midnight(days)
		return time.Date(m.Year(), m.Month(), m.Day(), int(d.Hours()), int(d.Minutes())%60, 0, 0, m.Location())
	}
	for _, day := range []int{-1, 0} { // one that began yesterday may reach into today
		begins, ends := clock(day, from), clock(day, to)
		if to <= from {
			ends = clock(day+1, to)
		}
		if !at.Before(begins) && at.Before(ends) {
			return ends, true
		}
	}
	return time.Time{}, false
}

// window reads "02:00-05:00".
func window(text string) (from, to time.Duration, ok bool) {
	a, b, found := strings.Cut(text, "-")
	one, errA := time.Parse("15:04", strings.TrimSpace(a))
	two, errB := time.Parse("15:04", strings.TrimSpace(b))
	if !found || errA != nil || errB != nil || one.Equal(two) {
		return 0, 0, false
	}
	of := func(t time.Time) time.Duration {
		return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
	return of(one), of(two), true
}

var (
	media   = []string{"dir", "s3", "sftp"}
	layouts = []string{"pooled", "open"}
)

// Check finds what is wrong in a store's entry by itself.
func (s Store) Check(name string) error { return s.check("store "+name, "") }

func (s Store) check(name, p string) error {
	field := func(f, format string, args ...any) error { return at(name, p+"."+f, format, args...) }
	needs := map[string]map[string]string{
		"dir":  {"folder": s.Folder},
		"s3":   {"endpoint": s.Endpoint, "bucket": s.Bucket},
		"sftp": {"folder": s.Folder, "host": s.Host, "user": s.User},
	}
	set := map[string]bool{"endpoint": s.Endpoint != "", "bucket": s.Bucket != "", "region": s.Region != "", "path_style": s.PathStyle,
		"host": s.Host != "", "port": s.Port != 0, "user": s.User != "", "host_key": s.HostKey != ""}
	of := map[string][]string{"s3": {"endpoint", "bucket", "region", "path_style"}, "sftp": {"host", "port", "user", "host_key"}}
	if needs[s.Medium] == nil {
		return field("medium", "medium %q is not known%s; known are %s", s.Medium, near.Hint(s.Medium, media), strings.Join(media, ", "))
	}
	switch {
	case !slices.Contains(layouts, s.Layout):
		return field("layout", "layout %q is not known%s", s.Layout, near.Hint(s.Layout, layouts))
	case s.Layout == "open" && s.Medium != "dir":
		return field("layout", "the open layout lies in a folder of this host or a mounted share (medium dir); medium %s takes the pooled one", s.Medium)
	case s.Layout == "open" && s.Sealed:
		return field("sealed", "an open store is there to be read by anyone, so it can't be sealed; take the pooled layout")
	case s.Layout != "open" && s.Compress:
		return field("compress", "a pooled store is compressed anyway; this is for the open layout")
	}
	if _, err := graceOf(s.Grace); err != nil {
		return field("grace", "%v", err)
	}
	for _, f := range []string{"folder", "endpoint", "bucket", "host", "user"} {
		if v, ok := needs[s.Medium][f]; ok && v == "" {
			return at(name, p, "medium %s needs %s", s.Medium, f)
		}
	}
	for _, m := range []string{"s3", "sftp"} {
		for _, f := range of[m] {
			if m != s.Medium && set[f] {
				return field(f, "%s belongs to medium %s, and this store's is %s", f, m, s.Medium)
			}
		}
	}
	switch {
	case s.Medium != "s3" && !path.IsAbs(s.Folder):
		return field("folder", "folder %q is not an absolute path", s.Folder)
	case s.Endpoint != "" && !strings.HasPrefix(s.Endpoint, "http://") && !strings.HasPrefix(s.Endpoint, "https://"):
		return field("endpoint", "endpoint %q does not begin with https:// or http://", s.Endpoint)
	case s.Port < 0 || s.Port > 65535:
		return field("port", "port %d is none", s.Port)
	case s.FloorInodes < 0:
		return field("floor_inodes", "%d inodes can't stay free", s.FloorInodes)
	}
	for f, v := range map[string]string{"floor": s.Floor, "sweep_bandwidth": s.SweepBandwidth} {
		if v == "" {
			continue
		}
		if n, err := humanize.ParseBytes(v); err != nil || n > 1<<62 || f == "sweep_bandwidth" && n == 0 {
			return field(f, `%q is no length; write for example "20 GiB"`, v)
		}
	}
	if _, _, ok := window(s.SweepWindow); s.SweepWindow != "" && !ok {
		return field("sweep_window", `%q is no window; write for example "02:00-05:00"`, s.SweepWindow)
	}
	return nil
}

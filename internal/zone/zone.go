// Package zone finds the time zone of the host, in which a site lives unless its file names another.
package zone

import (
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Host is the tz database name of the host's zone: what TZ says, what /etc/localtime points at, what /etc/timezone holds,
// or UTC if none of them names a zone that the tz database has.
func Host() string { return hostBelow("/") }

func hostBelow(root string) string {
	var names []string
	if tz, set := os.LookupEnv("TZ"); set {
		names = append(names, strings.TrimPrefix(tz, ":"))
	}
	if to, err := os.Readlink(filepath.Join(root, "etc/localtime")); err == nil {
		if _, name, ok := strings.Cut(to, "zoneinfo/"); ok {
			names = append(names, name)
		}
	}
	if text, err := os.ReadFile(filepath.Join(root, "etc/timezone")); err == nil {
		names = append(names, strings.TrimSpace(string(text)))
	}
	for _, name := range names {
		// "Local" is Go's own word; a path is a file that other hosts need not have.
		if name == "" || name == "Local" || filepath.IsAbs(name) {
			continue
		}
		if _, err := time.LoadLocation(name); err == nil {
			return name
		}
	}
	return "UTC"
}

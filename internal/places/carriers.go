package places

import (
	"fmt"
	"net/url"
	"os"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/media"
	"keenlodge/internal/core/site"
)

// Carriers tells what each store of a site lies on, so that two that are lost together are told to be one: the disk of a folder of this host, or the host of
// one elsewhere. What can't be told is "".
func Carriers(s site.Site) map[string]string {
	out := map[string]string{}
	for name, spec := range s.Stores {
		if out[name] = carrier(spec); media.IsRemovable(spec.Settings) {
			out[name] = "the removable disk of store " + name
		}
	}
	return out
}

func carrier(spec site.Store) string {
	if f, ok := spec.Settings.(interface{ LocalFolder() string }); ok {
		info, err := os.Stat(f.LocalFolder())
		if err != nil {
			return "" // it is away, and nobody knows on what it lies
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			return fmt.Sprintf("disk %d:%d of this host", unix.Major(st.Dev), unix.Minor(st.Dev))
		}
		return ""
	}
	r, ok := spec.Settings.(media.Remote)
	if !ok {
		return ""
	}
	account := r.Account()
	if u, err := url.Parse(account); err == nil && u.Host != "" {
		return u.Host
	}
	return account[strings.LastIndexByte(account, '@')+1:]
}

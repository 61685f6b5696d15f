package shape

import (
	"strings"

	"keenlodge/internal/core/files"
	"keenlodge/internal/lists"
	"keenlodge/internal/wire"
)

// Found is a file that was found in lists of images, with its versions.
func Found(f lists.Found) wire.FoundFile {
	return wire.FoundFile{Path: placeOf(f.Path), Versions: Each(f.Versions, func(v lists.Version) wire.FileVersion {
		return wire.FileVersion{Kind: v.Entry.Kind, Size: v.Entry.Size, Modified: v.Entry.Modified, Newest: v.Newest.ID, NewestTaken: v.Newest.Taken, Oldest: v.Oldest.ID, OldestTaken: v.Oldest.Taken, Images: v.Images}
	})}
}

// placeOf is a path of a list as people write it: one in a file system has that's name before it.
func placeOf(p string) string {
	if name, _, in := strings.Cut(p, ":/"); in && !strings.Contains(name, ".") {
		return files.Readable(p)
	}
	return "/" + files.Readable(p)
}

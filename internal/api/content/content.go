// Package content has what HTTP says of content that is sent (RFC 9110, section 14; RFC 6266).
package content

import (
	"mime"
	"strconv"
	"strings"

	"keenlodge/internal/core/files"
)

// Attachment names a file for a browser that saves it.
func Attachment(name string) string {
	return mime.FormatMediaType("attachment", map[string]string{"filename": files.Readable(name)})
}

// Range reads a Range header that asks for one range; of several, and of any other form, all is sent. last says that it is the last length bytes that
// are asked for.
func Range(header string) (offset, length int64, last, asked bool) {
	from, until, ok := strings.Cut(strings.TrimPrefix(header, "bytes="), "-")
	if !strings.HasPrefix(header, "bytes=") || !ok || strings.Contains(until, ",") {
		return 0, -1, false, false
	}
	end, bad := strconv.ParseInt(until, 10, 62)
	if from == "" && bad == nil && end > 0 {
		return 0, end, true, true
	}
	offset, err := strconv.ParseInt(from, 10, 62)
	switch {
	case err != nil || offset < 0 || until != "" && (bad != nil || end < offset):
		return 0, -1, false, false
	case until == "":
		return offset, -1, false, true
	}
	return offset, end - offset + 1, false, true
}

// Package all registers every medium that the program knows: one line each.
package all

import (
	_ "keenlodge/internal/store/medium/dir"
	_ "keenlodge/internal/store/medium/ftp"
	_ "keenlodge/internal/store/medium/s3"
	_ "keenlodge/internal/store/medium/sftp"
	_ "keenlodge/internal/store/medium/smb"
	_ "keenlodge/internal/store/medium/webdav"
)

package dir

import (
	"context"
	"path"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which folder it is.
type Settings struct {
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"absolute path of an existing folder"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	switch {
	case s.Folder == "":
		return media.Missing("dir", "folder")
	case !path.IsAbs(s.Folder):
		return media.BadSetting("folder", "folder %q is not an absolute path", s.Folder)
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string { return s.Folder }

// LocalFolder is the folder: images can lie open in it.
func (s *Settings) LocalFolder() string { return s.Folder }

func init() {
	medium.Register("dir", medium.Driver{
		Doc:      "a folder of the service's host, or a mounted share",
		Settings: func() media.Settings { return &Settings{} },
		Open: func(_ context.Context, s media.Settings, _ medium.Secrets) (medium.Medium, error) {
			return Reach(s.(*Settings).Folder)
		},
	})
}

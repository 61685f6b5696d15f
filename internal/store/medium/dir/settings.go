package dir

import (
	"context"
	"path"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which folder it is.
type Settings struct {
	Folder    string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"absolute path of an existing folder"`
	Removable bool   `yaml:"removable,omitempty" json:"removable,omitempty" doc:"its disk comes and goes; wherever it is mounted it is known by the store on it"`
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

// OnRemovable implements [media.Removable].
func (s *Settings) OnRemovable() bool { return s.Removable }

// At implements [media.Removable].
func (s *Settings) At(folder string) media.Settings {
	return &Settings{Folder: folder, Removable: s.Removable}
}

func init() {
	medium.Register("dir", medium.Driver{
		Doc:      "a folder of the service's host, or a mounted share",
		Settings: func() media.Settings { return &Settings{} },
		Open: func(_ context.Context, s media.Settings, _ medium.Secrets) (medium.Medium, error) {
			return Reach(s.(*Settings).Folder)
		},
	})
}

package smb

import (
	"context"
	"fmt"
	"path"
	"strings"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which folder of which share it is.
type Settings struct {
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"path of an existing folder below the share's top; by default that"`
	Host   string `yaml:"host,omitempty" json:"host,omitempty" doc:"name or address"`
	Port   int    `yaml:"port,omitempty" json:"port,omitempty" doc:"by default 445"`
	Share  string `yaml:"share,omitempty" json:"share,omitempty" doc:"name of the share"`
	User   string `yaml:"user,omitempty" json:"user,omitempty" doc:"account; its password is asked for"`
	Domain string `yaml:"domain,omitempty" json:"domain,omitempty" doc:"the account's domain, where it has one"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	for _, f := range [][2]string{{"host", s.Host}, {"share", s.Share}, {"user", s.User}} {
		if f[1] == "" {
			return media.Missing("smb", f[0])
		}
	}
	switch {
	case strings.ContainsAny(s.Share, `/\`):
		return media.BadSetting("share", `share %q is a name, with no path; what is below it is its folder`, s.Share)
	case strings.ContainsAny(s.Folder, `\`) || s.Folder != "" && strings.HasPrefix(path.Clean(s.Folder), ".."):
		return media.BadSetting("folder", "folder %q is no path below the share's top, such as backups/images", s.Folder)
	case s.Port < 0 || s.Port > 65535:
		return media.BadSetting("port", "port %d is none", s.Port)
	}
	return nil
}

// folder is below the share's top, "" for that.
func (s *Settings) folder() string {
	if f := strings.Trim(path.Clean("/"+s.Folder), "/"); f != "." {
		return f
	}
	return ""
}

// Location implements [media.Settings]. Servers do not tell upper from lower case.
func (s *Settings) Location() string {
	return "smb://" + s.Account() + strings.ToLower(path.Join("/", s.Share, s.folder()))
}

// Account implements [media.Remote].
func (s *Settings) Account() string {
	if s.Port == 0 {
		return s.User + "@" + s.Host
	}
	return fmt.Sprintf("%s@%s:%d", s.User, s.Host, s.Port)
}

func init() {
	medium.Register("smb", medium.Driver{
		Doc:      "a folder of a share of Windows or Samba (SMB 2 or 3)",
		Far:      true,
		Settings: func() media.Settings { return &Settings{} },
		Secrets:  []medium.Secret{{Name: "password", Doc: "password of the account"}},
		Open: func(ctx context.Context, settings media.Settings, secrets medium.Secrets) (medium.Medium, error) {
			s := settings.(*Settings)
			f, err := Open(ctx, Config{Host: s.Host, Port: s.Port, User: s.User, Domain: s.Domain, Share: s.Share, Folder: s.folder(), Password: secrets["password"]})
			if err != nil {
				return nil, err // not f: a nil folder in an interface is not nil
			}
			return f, nil
		},
	})
}

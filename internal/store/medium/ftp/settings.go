package ftp

import (
	"context"
	"fmt"
	"path"
	"slices"

	"keenlodge/internal/core/media"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/store/medium"
)

// Settings say which folder of which server it is.
type Settings struct {
	Folder      string   `yaml:"folder,omitempty" json:"folder,omitempty" doc:"absolute path of an existing folder on the server"`
	Host        string   `yaml:"host,omitempty" json:"host,omitempty" doc:"name or address"`
	Port        int      `yaml:"port,omitempty" json:"port,omitempty" doc:"by default 21, and 990 with tls: implicit"`
	User        string   `yaml:"user,omitempty" json:"user,omitempty" doc:"account; its password is asked for"`
	TLS         Security `yaml:"tls,omitempty" json:"tls,omitempty" doc:"explicit (the default): encrypted once the line is there; implicit: from the first byte on; none: not at all, password and all"`
	Certificate string   `yaml:"certificate,omitempty" json:"certificate,omitempty" doc:"digest of the server's certificate (sha256:…), where no authority of this host vouches for it"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	for _, f := range [][2]string{{"folder", s.Folder}, {"host", s.Host}, {"user", s.User}} {
		if f[1] == "" {
			return media.Missing("ftp", f[0])
		}
	}
	switch {
	case !path.IsAbs(s.Folder):
		return media.BadSetting("folder", "folder %q is not an absolute path", s.Folder)
	case s.Port < 0 || s.Port > 65535:
		return media.BadSetting("port", "port %d is none", s.Port)
	case s.TLS != "" && !slices.Contains(Securities, s.TLS):
		return media.BadSetting("tls", "tls %q is not known%s", s.TLS, suggest.Hint(s.TLS, Securities))
	}
	if err := medium.CheckCertificate(s.Certificate); err != nil {
		return media.BadSetting("certificate", "%v", err)
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string { return "ftp://" + s.Account() + s.Folder }

// Account implements [media.Remote].
func (s *Settings) Account() string {
	if s.Port == 0 {
		return s.User + "@" + s.Host
	}
	return fmt.Sprintf("%s@%s:%d", s.User, s.Host, s.Port)
}

func init() {
	medium.Register("ftp", medium.Driver{
		Doc:      "a folder on a server that speaks FTP, with TLS or without",
		Far:      true,
		Settings: func() media.Settings { return &Settings{} },
		Secrets:  []medium.Secret{{Name: "password", Doc: "password of the account"}},
		Open: func(ctx context.Context, settings media.Settings, secrets medium.Secrets) (medium.Medium, error) {
			s := settings.(*Settings)
			f, err := Open(ctx, Config{Host: s.Host, Port: s.Port, User: s.User, Folder: s.Folder, Password: secrets["password"], TLS: s.TLS, Certificate: s.Certificate})
			if err != nil {
				return nil, err // not f: a nil folder in an interface is not nil
			}
			return f, nil
		},
	})
}

package sftp

import (
	"context"
	"fmt"
	"path"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which folder of which host it is.
type Settings struct {
	Folder  string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"absolute path of an existing folder on the host"`
	Host    string `yaml:"host,omitempty" json:"host,omitempty" doc:"name or address"`
	Port    int    `yaml:"port,omitempty" json:"port,omitempty" doc:"by default 22"`
	User    string `yaml:"user,omitempty" json:"user,omitempty" doc:"account; its password is asked for unless there is a key"`
	HostKey string `yaml:"host_key,omitempty" json:"host_key,omitempty" doc:"the host's public key (ssh-ed25519 AAAA…); by default what the service's known_hosts files say"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	for _, f := range [][2]string{{"folder", s.Folder}, {"host", s.Host}, {"user", s.User}} {
		if f[1] == "" {
			return media.Missing("sftp", f[0])
		}
	}
	switch {
	case !path.IsAbs(s.Folder):
		return media.BadSetting("folder", "folder %q is not an absolute path", s.Folder)
	case s.Port < 0 || s.Port > 65535:
		return media.BadSetting("port", "port %d is none", s.Port)
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string { return "sftp://" + s.Account() + s.Folder }

// Account implements [media.Remote].
func (s *Settings) Account() string {
	if s.Port == 0 {
		return s.User + "@" + s.Host
	}
	return fmt.Sprintf("%s@%s:%d", s.User, s.Host, s.Port)
}

func init() {
	medium.Register("sftp", medium.Driver{
		Doc:      "a folder on a host that speaks SSH",
		Far:      true,
		Settings: func() media.Settings { return &Settings{} },
		Secrets: []medium.Secret{{Name: "password", Doc: "password of the account", Instead: "private_key"},
			{Name: "private_key", Doc: "private key (PEM, without a passphrase)", File: true}},
		Open: func(ctx context.Context, settings media.Settings, secrets medium.Secrets) (medium.Medium, error) {
			s := settings.(*Settings)
			f, err := Open(ctx, Config{Host: s.Host, Port: s.Port, User: s.User, Folder: s.Folder, HostKey: s.HostKey,
				Password: secrets["password"], PrivateKey: secrets["private_key"]})
			if err != nil {
				return nil, err // not f: a nil folder in an interface is not nil
			}
			return f, nil
		},
	})
}

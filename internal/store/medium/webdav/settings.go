package webdav

import (
	"context"
	"net/url"
	"strings"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which folder of which server it is.
type Settings struct {
	Address     string `yaml:"address,omitempty" json:"address,omitempty" doc:"https:// (or http://) address of an existing folder"`
	User        string `yaml:"user,omitempty" json:"user,omitempty" doc:"account; its password is asked for"`
	Certificate string `yaml:"certificate,omitempty" json:"certificate,omitempty" doc:"digest of the server's certificate (sha256:…), where no authority of this host vouches for it"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	u, err := url.Parse(s.Address)
	switch {
	case s.Address == "":
		return media.Missing("webdav", "address")
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil:
		return media.BadSetting("address", "%q is no address; write for example https://files.brindle.example/images, with no password in it", s.Address)
	}
	if err := medium.CheckCertificate(s.Certificate); err != nil {
		return media.BadSetting("certificate", "%v", err)
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string { return strings.TrimSuffix(s.Address, "/") }

// Account implements [media.Remote].
func (s *Settings) Account() string {
	u, err := url.Parse(s.Address)
	if err != nil {
		return s.Address
	}
	return s.User + "@" + u.Host
}

func init() {
	medium.Register("webdav", medium.Driver{
		Doc:      "a folder on a server that speaks WebDAV",
		Far:      true,
		Settings: func() media.Settings { return &Settings{} },
		Secrets:  []medium.Secret{{Name: "password", Doc: "password of the account"}},
		Open: func(ctx context.Context, settings media.Settings, secrets medium.Secrets) (medium.Medium, error) {
			s := settings.(*Settings)
			f, err := Open(ctx, Config{Address: s.Address, User: s.User, Password: secrets["password"], Certificate: s.Certificate})
			if err != nil {
				return nil, err // not f: a nil folder in an interface is not nil
			}
			return f, nil
		},
	})
}

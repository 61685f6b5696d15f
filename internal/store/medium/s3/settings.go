package s3

import (
	"context"
	"fmt"
	"path"
	"strings"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
)

// Settings say which bucket it is.
type Settings struct {
	Folder    string `yaml:"folder,omitempty" json:"folder,omitempty" doc:"what all names begin with; by default the whole bucket"`
	Endpoint  string `yaml:"endpoint,omitempty" json:"endpoint,omitempty" doc:"address of the service, such as https://objects.brindle.example"`
	Bucket    string `yaml:"bucket,omitempty" json:"bucket,omitempty" doc:"an existing bucket"`
	Region    string `yaml:"region,omitempty" json:"region,omitempty" doc:"region, where the service has them"`
	PathStyle bool   `yaml:"path_style,omitempty" json:"path_style,omitempty" doc:"the bucket is in the path of addresses, not in the host's name"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	switch {
	case s.Endpoint == "":
		return media.Missing("s3", "endpoint")
	case s.Bucket == "":
		return media.Missing("s3", "bucket")
	case !strings.HasPrefix(s.Endpoint, "http://") && !strings.HasPrefix(s.Endpoint, "https://"):
		return media.BadSetting("endpoint", "endpoint %q does not begin with https:// or http://", s.Endpoint)
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string {
	return fmt.Sprintf("%s/%s", strings.TrimSuffix(s.Endpoint, "/"), path.Join(s.Bucket, s.Folder))
}

// Account implements [media.Remote]: the service's address, for the key itself says who signs in.
func (s *Settings) Account() string { return strings.TrimSuffix(s.Endpoint, "/") }

func init() {
	medium.Register("s3", medium.Driver{
		Doc:      "a bucket of an object service that speaks the S3 protocol",
		Far:      true,
		Settings: func() media.Settings { return &Settings{} },
		Secrets: []medium.Secret{{Name: "access_key", Doc: "name of the access key; its secret is asked for", Public: true},
			{Name: "secret_key", Doc: "secret of the access key"}},
		Open: func(ctx context.Context, settings media.Settings, secrets medium.Secrets) (medium.Medium, error) {
			s := settings.(*Settings)
			return Reach(ctx, Config{Endpoint: s.Endpoint, Bucket: s.Bucket, Prefix: s.Folder, Region: s.Region, PathStyle: s.PathStyle,
				AccessKey: secrets["access_key"], SecretKey: secrets["secret_key"]})
		},
	})
}

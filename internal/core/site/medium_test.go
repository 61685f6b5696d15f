package site

import (
	"encoding/json"
	"path"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/media"
)

// shelf and bucket stand for what media register.
type shelf struct {
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty"`
}

func (s *shelf) Check() error {
	if s.Folder == "" {
		return media.Missing("dir", "folder")
	}
	if !path.IsAbs(s.Folder) {
		return media.BadSetting("folder", "folder %q is not an absolute path", s.Folder)
	}
	return nil
}
func (s *shelf) Location() string    { return s.Folder }
func (s *shelf) LocalFolder() string { return s.Folder }

type bucket struct {
	Bucket    string `yaml:"bucket,omitempty" json:"bucket,omitempty"`
	Folder    string `yaml:"folder,omitempty" json:"folder,omitempty"`
	PathStyle bool   `yaml:"path_style,omitempty" json:"path_style,omitempty"`
}

func (b *bucket) Check() error {
	if b.Bucket == "" {
		return media.Missing("s3", "bucket")
	}
	return nil
}
func (b *bucket) Location() string { return b.Bucket }

func init() {
	media.Register("dir", func() media.Settings { return &shelf{} })
	media.Register("s3", func() media.Settings { return &bucket{} })
}

// An entry has its medium's settings beside the rest, in YAML and in JSON, and no other's.
func TestSettingsStandBesideTheRest(t *testing.T) {
	const text = "zone: UTC\nstores:\n  north-pier:\n    medium: s3\n    layout: pooled\n    bucket: images\n    path_style: true\n    floor: 20 GiB\n"
	s, err := Parse("site.yaml", []byte(text))
	require.NoError(t, err)
	require.Equal(t, Store{Medium: "s3", Layout: Pooled, Floor: "20 GiB", Settings: &bucket{Bucket: "images", PathStyle: true}}, s.Stores["north-pier"])
	written, err := s.Encode()
	require.NoError(t, err)
	require.Equal(t, text, string(written))
	body, err := json.Marshal(s)
	require.NoError(t, err)
	require.JSONEq(t, `{"zone":"UTC","stores":{"north-pier":{"medium":"s3","layout":"pooled","bucket":"images","path_style":true,"floor":"20 GiB"}}}`, string(body))
	var again Site
	require.NoError(t, json.Unmarshal(body, &again))
	require.Equal(t, s, again)

	for change, want := range map[[2]string]string{
		{"bucket: images", "folder: quay"}:                "site.yaml:4: store north-pier: medium s3 needs bucket",
		{"bucket: images", "bucket: images\n    host: x"}: `site.yaml:7: the key "host" is not known here`,
		{"medium: s3", "medium: s4"}:                      `site.yaml:4: store north-pier: medium "s4" is not known; did you mean "s3"?; known are dir, s3`,
	} {
		_, err := Parse("site.yaml", []byte(replace(t, text, change[0], change[1])))
		require.ErrorContains(t, err, want)
	}
}

// What another version knew of is kept as it is, says so, and is never used.
func TestAnUnknownMediumIsKept(t *testing.T) {
	const text = `{"depth":40,"layout":"pooled","medium":"diving-bell"}`
	var s Store
	require.NoError(t, json.Unmarshal([]byte(text), &s))
	again, err := json.Marshal(s)
	require.NoError(t, err)
	require.JSONEq(t, text, string(again))
	require.ErrorContains(t, s.Check("deep"), `medium "diving-bell" is not known`)
}

package s3

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/mediumtest/objects"
)

const prefix = "north pier/100% ã & more"

// service is an S3 server in this process.
type service struct {
	*httptest.Server
	*objects.Objects
}

func serve(t *testing.T) *service {
	o, err := objects.New("pier", "images")
	require.NoError(t, err)
	s := &service{httptest.NewServer(o), o}
	t.Cleanup(s.Close)
	return s
}

func (s *service) config(address string) Config {
	return Config{Endpoint: "http://" + address, Bucket: "images", Prefix: prefix, PathStyle: true, Region: "us-east-1", AccessKey: "pier", SecretKey: "tide tables"}
}

func TestConformance(t *testing.T) {
	s := serve(t)
	line := mediumtest.NewLine(t, s.Listener.Addr().String())
	n := 0
	place := func(t *testing.T) medium.Medium {
		c := s.config(line.Address())
		n++
		c.Prefix += strings.Repeat("/x", n)
		b, err := Open(t.Context(), c)
		require.NoError(t, err)
		return b
	}
	mediumtest.Run(t, mediumtest.Subject{
		Open: place,
		Plant: func(t *testing.T, names []string) {
			for _, name := range names {
				_, err := s.Backend.PutObject("images", prefix+strings.Repeat("/x", n)+"/"+name, map[string]string{}, bytes.NewReader(nil), 0, nil)
				require.NoError(t, err)
			}
		},
		Full: func(t *testing.T) medium.Medium {
			s.Most = 64 << 10
			t.Cleanup(func() { s.Most = 1 << 40 })
			return place(t)
		},
		Line: line,
	})
}

// What is wrong with a place is told in words, and never with a key in it.
func TestProbeSaysWhatIsWrong(t *testing.T) {
	s := serve(t)
	for want, spoil := range map[string]func(*Config){
		"does not exist":       func(c *Config) { c.Bucket = "imagse" },
		"was refused":          func(c *Config) { c.AccessKey = "peer" },
		"no access key":        func(c *Config) { c.SecretKey = "" },
		"not an address":       func(c *Config) { c.Endpoint = "objects.brindle.example" },
		"is the address right": func(c *Config) { c.Endpoint = "http://127.0.0.1:1" },
	} {
		c := s.config(s.Listener.Addr().String())
		spoil(&c)
		steps := medium.Probe(t.Context(), false, func(ctx context.Context) (medium.Medium, error) { return Open(ctx, c) })
		require.Len(t, steps, 1, want)
		require.EqualValues(t, "failed", steps[0].State)
		require.Contains(t, steps[0].Text, want)
		require.NotContains(t, steps[0].Text, "tide tables")
	}
}

// Addresses with the bucket in the host's name.
func TestHostStyle(t *testing.T) {
	var hosts []string
	c := Config{Endpoint: "http://objects.brindle.example", Bucket: "images", AccessKey: "pier", SecretKey: "tide tables", Region: "us-east-1",
		Transport: roundTrip(func(r *http.Request) (*http.Response, error) {
			hosts = append(hosts, r.URL.Host+r.URL.Path)
			return &http.Response{StatusCode: 200, Header: http.Header{}, Body: io.NopCloser(strings.NewReader("<ListBucketResult/>")), Request: r}, nil
		})}
	b, err := Open(t.Context(), c)
	require.NoError(t, err)
	b.Exposed(t.Context(), "image/x")
	require.Equal(t, []string{"images.objects.brindle.example/", "images.objects.brindle.example/image/x"}, hosts)
}

type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

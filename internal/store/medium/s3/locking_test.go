package s3

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/mediumtest/gateway"
)

// A bucket with object lock keeps the contract, and locks what is to be locked against its own owner.
func TestLocking(t *testing.T) {
	g := gateway.Start(t)
	g.Bucket(t, "images")
	line := mediumtest.NewLine(t, g.Address)
	n := 0
	config := func() Config {
		n++
		return Config{Endpoint: "http://" + line.Address(), Bucket: "images", Prefix: "north pier/100%/" + strconv.Itoa(n), PathStyle: true, Region: "us-east-1", AccessKey: g.AccessKey, SecretKey: g.SecretKey}
	}
	place := func(t *testing.T) medium.Medium {
		m, err := Reach(t.Context(), config())
		require.NoError(t, err)
		require.IsType(t, &Locking{}, m)
		return m
	}
	mediumtest.Run(t, mediumtest.Subject{Open: place, Line: line, Costly: true, Plant: func(t *testing.T, names []string) {
		for _, name := range names {
			_, err := g.Client.PutObject(t.Context(), "images", "north pier/100%/"+strconv.Itoa(n)+"/"+name, bytes.NewReader(nil), 0, minio.PutObjectOptions{})
			require.NoError(t, err)
		}
	}})

	t.Run("a thief with the key", func(t *testing.T) {
		ctx, h := t.Context(), place(t).(*Locking)
		key := h.prefix + "pack/ab/abcd"
		until := time.Now().Add(8 * time.Second)
		require.NoError(t, h.PutUntil(ctx, "pack/ab/abcd", []byte("image"), until))
		require.NoError(t, h.Put(ctx, "pack/ab/abcdef", []byte("locked later")))
		require.NoError(t, h.Extend(ctx, "pack/ab/abcdef", until))
		require.NoError(t, h.Extend(ctx, "pack/ab/abcdef", until.Add(-4*time.Second)), "longer than asked is well")
		require.ErrorIs(t, h.Extend(ctx, "pack/ab/none", until), medium.ErrNotFound)
		row, err := h.all(ctx, "pack/ab/abcd")
		require.NoError(t, err)
		require.Len(t, row, 1)

		for _, bypass := range []bool{false, true} {
			require.Error(t, g.Client.RemoveObject(ctx, "images", key, minio.RemoveObjectOptions{VersionID: row[0].id, GovernanceBypass: bypass}))
			soon, mode := time.Now().Add(time.Second), minio.Governance
			require.Error(t, g.Client.PutObjectRetention(ctx, "images", key, minio.PutObjectRetentionOptions{VersionID: row[0].id, GovernanceBypass: bypass, Mode: &mode, RetainUntilDate: &soon}))
		}
		_, err = g.Client.PutObject(ctx, "images", key, strings.NewReader("rubbish"), 7, minio.PutObjectOptions{})
		require.NoError(t, err)
		require.NoError(t, g.Client.RemoveObject(ctx, "images", key, minio.RemoveObjectOptions{}))
		_, err = g.Client.PutObject(ctx, "images", key, strings.NewReader("more rubbish"), 12, minio.PutObjectOptions{})
		require.NoError(t, err)
		require.NoError(t, g.Client.RemoveObject(ctx, "images", key, minio.RemoveObjectOptions{}))

		anew, err := Reach(ctx, h.c) // it knows nothing of what was written
		require.NoError(t, err)
		for _, m := range []medium.Medium{h, anew} {
			back, err := m.Get(ctx, "pack/ab/abcd", 0, -1)
			require.NoError(t, err)
			require.Equal(t, "image", string(back))
			found := map[string]int64{}
			require.NoError(t, m.List(ctx, "pack/", func(o medium.Object) error {
				found[o.Name] = o.Size
				require.WithinDuration(t, time.Now(), o.Modified, time.Minute)
				return nil
			}))
			require.Equal(t, map[string]int64{"pack/ab/abcd": 5, "pack/ab/abcdef": 12}, found)
		}
		hidden, err := h.MendHidden(ctx)
		require.NoError(t, err)
		require.Equal(t, []string{"pack/ab/abcd"}, hidden)
		plain, err := g.Client.GetObject(ctx, "images", key, minio.GetObjectOptions{})
		require.NoError(t, err)
		back, err := io.ReadAll(plain)
		require.NoError(t, err)
		require.Equal(t, "image", string(back), "other programs see it again, too")
		hidden, err = h.MendHidden(ctx)
		require.NoError(t, err)
		require.Empty(t, hidden, "it is told once")

		require.ErrorIs(t, h.Delete(ctx, "pack/ab/abcd"), medium.ErrLocked)
		require.Eventually(t, func() bool { return h.Delete(ctx, "pack/ab/abcd") == nil }, 30*time.Second, 500*time.Millisecond)
		require.Greater(t, time.Now(), until)
		_, err = h.Stat(ctx, "pack/ab/abcd")
		require.ErrorIs(t, err, medium.ErrNotFound)
	})

	t.Run("a lock that is promised and not kept", func(t *testing.T) {
		c := config()
		c.Transport = roundTrip(func(r *http.Request) (*http.Response, error) {
			if r.Method == http.MethodDelete {
				return &http.Response{StatusCode: http.StatusNoContent, Header: http.Header{}, Body: http.NoBody, Request: r}, nil
			}
			return http.DefaultTransport.RoundTrip(r)
		})
		found := ""
		for _, s := range medium.Probe(t.Context(), true, func(ctx context.Context) (medium.Medium, error) { return Reach(ctx, c) }) {
			if s.Name == "lock" {
				found = string(s.State) + " " + s.Text
			}
		}
		require.Equal(t, "failed the place says that it locks objects, and did not: a deletion was not refused; don't count on its lock", found)
	})
}

// A bucket without object lock is a bucket.
func TestWithoutObjectLock(t *testing.T) {
	s := serve(t)
	m, err := Reach(t.Context(), s.config(s.Listener.Addr().String()))
	require.NoError(t, err)
	require.IsType(t, &Bucket{}, m)
}

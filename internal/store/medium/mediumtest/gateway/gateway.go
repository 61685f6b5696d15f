// Package gateway starts an S3 service that has object lock, for tests: a server of others, which is a tool of a module of its own.
package gateway

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"
)

// Gateway is a service that runs. AccessKey and SecretKey are its owner's.
type Gateway struct {
	Address              string
	AccessKey, SecretKey string
	Client               *minio.Client
}

// Start starts one, which ends with the test.
func Start(t testing.TB) *Gateway {
	t.Helper()
	_, here, _, _ := runtime.Caller(0)
	find := exec.Command("go", "tool", "-n", "versitygw") // builds it where that was not done before
	find.Dir = filepath.Join(filepath.Dir(here), "../../../../../tools/versitygw")
	out, err := find.Output()
	require.NoError(t, err, "build the gateway in %s", find.Dir)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := &Gateway{Address: free.Addr().String(), AccessKey: "pier", SecretKey: "tide tables"}
	require.NoError(t, free.Close())
	place, err := os.MkdirTemp("/var/tmp", "brindle-gateway-") // it needs extended attributes
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(place) })
	for _, f := range []string{"objects", "versions"} {
		require.NoError(t, os.Mkdir(filepath.Join(place, f), 0o700))
	}
	server := exec.Command(strings.TrimSpace(string(out)), "--port", g.Address, "--quiet", "posix", "--versioning-dir", filepath.Join(place, "versions"), filepath.Join(place, "objects"))
	server.Env = append(os.Environ(), "ROOT_ACCESS_KEY="+g.AccessKey, "ROOT_SECRET_KEY="+g.SecretKey)
	server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, server.Start())
	t.Cleanup(func() { server.Process.Kill(); server.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", g.Address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 30*time.Second, 20*time.Millisecond)
	g.Client, err = minio.New(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.AccessKey, g.SecretKey, ""), Region: "us-east-1"})
	require.NoError(t, err)
	return g
}

// Bucket makes a bucket with object lock.
func (g *Gateway) Bucket(t testing.TB, name string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	require.NoError(t, g.Client.MakeBucket(ctx, name, minio.MakeBucketOptions{Region: "us-east-1", ObjectLocking: true}))
}

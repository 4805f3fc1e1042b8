// Package buckettest runs a real S3 server for tests.
package buckettest

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"kestrel/internal/files/bucket"
	"kestrel/internal/support/freeport"
)

// Server is a running server with an empty bucket.
type Server struct {
	Config bucket.Config
	cmd    *exec.Cmd
	args   []string
}

// Start runs a server on loopback and makes a bucket in it. The test is skipped
// if there is none to run.
func Start(t testing.TB) *Server {
	t.Helper()
	return start(t, minio.MakeBucketOptions{})
}

// StartLocking is Start with a bucket that has Object Lock.
func StartLocking(t testing.TB) *Server {
	t.Helper()
	return start(t, minio.MakeBucketOptions{ObjectLocking: true})
}

func start(t testing.TB, bucketOptions minio.MakeBucketOptions) *Server {
	t.Helper()
	binary := os.Getenv("KESTREL_S3_SERVER")
	if binary == "" {
		t.Skip("KESTREL_S3_SERVER does not name an S3 server; ./dev test builds one")
	}
	port, err := freeport.Loopback()
	require.NoError(t, err)
	addr := fmt.Sprintf("127.0.0.1:%d", port)
	s := &Server{Config: bucket.Config{URL: "http://" + addr + "/points/eastmole", AccessKey: "skerry", SecretKey: "harbour-lights", Cache: 4 << 20},
		args: []string{binary, "--access", "skerry", "--secret", "harbour-lights", "--port", addr, "--iam-dir", t.TempDir(), "posix", "--versioning-dir", t.TempDir(), t.TempDir()}}
	s.Run(t)
	t.Cleanup(s.Stop)
	require.NoError(t, s.Client(t).MakeBucket(context.Background(), "points", bucketOptions))
	return s
}

// Client speaks to the server with the same keys as the store.
func (s *Server) Client(t testing.TB) *minio.Client {
	t.Helper()
	c, err := minio.New(s.args[6], &minio.Options{Creds: credentials.NewStaticV4("skerry", "harbour-lights", "")})
	require.NoError(t, err)
	return c
}

// Run starts the server again after Stop.
func (s *Server) Run(t testing.TB) {
	t.Helper()
	s.cmd = exec.Command(s.args[0], s.args[1:]...)
	require.NoError(t, s.cmd.Start())
	addr := s.args[6]
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", addr, time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 30*time.Second, 20*time.Millisecond)
}

// Stop ends the server at once.
func (s *Server) Stop() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// Open opens the bucket with its cache in the folder root.
func (s *Server) Open(t require.TestingT, root string) *bucket.FS {
	fs, err := bucket.Open(context.Background(), root, s.Config, nil)
	require.NoError(t, err)
	return fs
}

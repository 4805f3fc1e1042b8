package timed_test

import (
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/timed"
)

// A body that does not come is given up; one that has come lets the answer take as long
// as it takes.
func TestABodyHasToCome(t *testing.T) {
	const limit = 200 * time.Millisecond
	failed := make(chan error, 1)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = timed.Body(w, r.Body, limit)
		if _, err := io.ReadAll(r.Body); err != nil {
			failed <- err
			return
		}
		select {
		case <-r.Context().Done():
			failed <- r.Context().Err()
		case <-time.After(2 * limit):
			_, _ = io.WriteString(w, "done")
		}
	}))
	defer s.Close()
	c, err := net.Dial("tcp", s.Listener.Addr().String())
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	_, err = io.WriteString(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\nhalf")
	require.NoError(t, err)
	require.True(t, errors.Is(<-failed, os.ErrDeadlineExceeded))
	for _, body := range []io.Reader{strings.NewReader("whole"), http.NoBody} {
		res, err := http.Post(s.URL, "text/plain", body)
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, "done", string(b))
	}
	require.Empty(t, failed)
}

// Package timed bounds how long the body of a request may take to arrive.
package timed

import (
	"errors"
	"io"
	"net/http"
	"time"
)

// body has to be there in time. When it is, what follows, such as long work or a stream
// of events, has no end: a deadline of the server's own would cut that off as well.
type body struct {
	io.ReadCloser
	c *http.ResponseController
}

// Body is the body of a request, which has to be there within d from now.
func Body(w http.ResponseWriter, b io.ReadCloser, d time.Duration) io.ReadCloser {
	if b == nil || b == http.NoBody {
		return b
	}
	c := http.NewResponseController(w)
	_ = c.SetReadDeadline(time.Now().Add(d)) // where it cannot be set, there is no connection
	return body{b, c}
}

// Read implements io.Reader.
func (b body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.c.SetReadDeadline(time.Time{})
	}
	return n, err
}

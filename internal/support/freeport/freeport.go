// Package freeport finds ports of loopback for servers that are started, ended
// and started again: for the demo, the tests and the benches.
package freeport

import (
	"fmt"
	"math/rand/v2"
	"net"
	"strconv"
)

// Ports from first on are below those that Linux gives to outgoing connections
// and to whoever asks for any: one that is free now is not taken by chance while
// its server is away.
const (
	first = 20000
	count = 10000
)

// Loopback gives a port of 127.0.0.1 at which nobody listens.
func Loopback() (int, error) {
	for range 100 {
		port := first + rand.IntN(count)
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		if err != nil {
			continue
		}
		if err := l.Close(); err != nil {
			return 0, fmt.Errorf("try port %d: %w", port, err)
		}
		return port, nil
	}
	return 0, fmt.Errorf("no port of %d-%d is free on loopback", first, first+count-1)
}

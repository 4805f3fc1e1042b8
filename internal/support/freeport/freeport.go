// Package freeport finds ports of loopback for servers that are started, ended
// and started again: for the demo, the tests and the benches.
package freeport

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
)

// Ports from first on are below those that Linux gives to outgoing connections
// and to whoever asks for any: one that is free now is not taken by chance while
// its server is away.
const (
	first = 20000
	count = 10000
)

// Loopback gives a port of 127.0.0.1 at which nobody listens, and which nobody is given
// by this again before the process ends: its server may start later, and be away for a
// while.
func Loopback() (int, error) {
	dir := filepath.Join(os.TempDir(), "kestrel-ports")
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return 0, fmt.Errorf("set ports aside: %w", err)
	}
	_ = os.Chmod(dir, 0o1777) // of whoever made it, for all
	for range 100 {
		port := first + rand.IntN(count)
		if !reserve(filepath.Join(dir, strconv.Itoa(port))) {
			continue
		}
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

// reserve holds the lock of a file until the process ends; false if another has it.
func reserve(path string) bool {
	// Not an *os.File: that would let go of it when nobody refers to it any more.
	fd, err := syscall.Open(path, syscall.O_CREAT|syscall.O_RDWR|syscall.O_CLOEXEC, 0o666)
	if err != nil {
		return false
	}
	if err := syscall.Flock(fd, syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = syscall.Close(fd)
		return false
	}
	return true
}

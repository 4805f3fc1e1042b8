package freeport_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/support/freeport"
)

// No port is given twice, though nobody listens at any of them.
func TestNoPortIsGivenTwice(t *testing.T) {
	given := map[int]bool{}
	for range 500 {
		p, err := freeport.Loopback()
		require.NoError(t, err)
		require.False(t, given[p])
		given[p] = true
	}
}

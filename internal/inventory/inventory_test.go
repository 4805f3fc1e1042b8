package inventory_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/inventory"
)

func TestHostOfAnAddress(t *testing.T) {
	for address, want := range map[string]string{
		"qemu:///session":                        "",
		"qemu+unix:///system?socket=/run/x/sock": "",
		"qemu+tls://kvm1.skerry.example/system":  "kvm1.skerry.example",
		"qemu+ssh://root@192.0.2.4:22/system":    "192.0.2.4",
		"http://[::1]:7414":                      "::1",
		"lab.norhaven.example:7414":              "lab.norhaven.example",
		"lab.norhaven.example":                   "lab.norhaven.example",
	} {
		require.Equal(t, want, inventory.Host(address), address)
	}
	require.True(t, inventory.ShortName("kvm1"))
	require.False(t, inventory.ShortName("kvm1.skerry.example"))
	require.False(t, inventory.ShortName("localhost"))
	require.False(t, inventory.ShortName(""))
}

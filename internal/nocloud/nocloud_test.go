package nocloud_test

import (
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"kestrel/internal/nocloud"
)

func TestSeedDisk(t *testing.T) {
	dir := t.TempDir()
	s := nocloud.Seed{Instance: "landing-7", Hostname: "tick-db", DNS: []netip.Addr{netip.MustParseAddr("10.60.4.2")}, Suffix: "mole.skerry.example", Cards: []nocloud.Card{
		{MAC: "02:00:00:00:00:01", Address: netip.MustParsePrefix("10.60.4.111/24"), Gateway: netip.MustParseAddr("10.60.4.1")},
		{MAC: "02:00:00:00:00:02", DHCP: true},
		{MAC: "02:00:00:00:00:03", Address: netip.MustParsePrefix("fd00:60::11/64"), Gateway: netip.MustParseAddr("fd00:60::1")}}}
	b, err := s.Image(dir)
	require.NoError(t, err)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left of making it")
	// Read as whoever mounts it does: the primary volume descriptor is in sector 16
	// (ECMA-119, 8.4).
	require.Equal(t, "CD001", string(b[16*2048+1:16*2048+6]))
	require.Equal(t, "cidata", string(b[16*2048+40:16*2048+46]))
	path := filepath.Join(dir, "seed.iso")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer func() { require.NoError(t, f.Close()) }()
	fs, err := iso9660.Read(file.New(f, true), int64(len(b)), 0, 2048)
	require.NoError(t, err)
	read := func(name string) (out map[string]any) {
		x, err := fs.OpenFile(name, os.O_RDONLY)
		require.NoError(t, err, name)
		text, err := io.ReadAll(x)
		require.NoError(t, err)
		require.NoError(t, yaml.Unmarshal(text, &out))
		return out
	}
	require.Equal(t, map[string]any{"instance-id": "landing-7", "local-hostname": "tick-db"}, read("meta-data"))
	require.Equal(t, map[string]any{"preserve_hostname": true}, read("user-data"))
	n := read("network-config")
	require.Equal(t, 2, n["version"])
	cards := n["ethernets"].(map[string]any)
	require.Len(t, cards, 3)
	one := cards["card0"].(map[string]any)
	require.Equal(t, []any{"10.60.4.111/24"}, one["addresses"])
	require.Equal(t, map[string]any{"macaddress": "02:00:00:00:00:01"}, one["match"])
	require.Equal(t, []any{map[string]any{"to": "0.0.0.0/0", "via": "10.60.4.1"}}, one["routes"])
	require.Equal(t, map[string]any{"addresses": []any{"10.60.4.2"}, "search": []any{"mole.skerry.example"}}, one["nameservers"])
	require.Equal(t, true, cards["card1"].(map[string]any)["dhcp4"])
	require.Equal(t, []any{map[string]any{"to": "::/0", "via": "fd00:60::1"}}, cards["card2"].(map[string]any)["routes"])
}

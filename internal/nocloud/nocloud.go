// Package nocloud makes seed disks in the open NoCloud layout of cloud-init: a disk labelled
// cidata with the files meta-data, user-data and network-config
// (https://docs.cloud-init.io/en/latest/reference/datasources/nocloud.html). A guest with
// cloud-init takes its addresses from it.
package nocloud

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"go.yaml.in/yaml/v3"
)

// Seed is what a guest is told.
type Seed struct {
	// Instance changes where the guest is to take it anew.
	Instance string
	Hostname string
	Cards    []Card
	DNS      []netip.Addr
	Suffix   string
}

// Card is a network card, found by its MAC address.
type Card struct {
	MAC     string
	DHCP    bool
	Address netip.Prefix // invalid with DHCP
	Gateway netip.Addr   // invalid for none
}

// label is what cloud-init looks for.
const label = "cidata"

// blockSize is that of a disk in ISO 9660.
const blockSize = 2048

// network is version 2 of the network configuration, as netplan has it too.
func (s Seed) network() map[string]any {
	ethernets := map[string]any{}
	for i, c := range s.Cards {
		x := map[string]any{"match": map[string]any{"macaddress": c.MAC}}
		if c.DHCP {
			x["dhcp4"] = true
		}
		if c.Address.IsValid() {
			x["addresses"] = []string{c.Address.String()}
			x["dhcp4"], x["dhcp6"] = false, false
		}
		if c.Gateway.IsValid() {
			to := "0.0.0.0/0"
			if c.Gateway.Is6() {
				to = "::/0"
			}
			x["routes"] = []any{map[string]any{"to": to, "via": c.Gateway.String()}}
		}
		if len(s.DNS) > 0 {
			servers := []string{}
			for _, d := range s.DNS {
				servers = append(servers, d.String())
			}
			ns := map[string]any{"addresses": servers}
			if s.Suffix != "" {
				ns["search"] = []string{s.Suffix}
			}
			x["nameservers"] = ns
		}
		ethernets[fmt.Sprintf("card%d", i)] = x
	}
	return map[string]any{"version": 2, "ethernets": ethernets}
}

// Files are the files of the disk by their names.
func (s Seed) Files() (map[string][]byte, error) {
	network, err := yaml.Marshal(s.network())
	if err != nil {
		return nil, fmt.Errorf("write the network's settings: %w", err)
	}
	meta, err := yaml.Marshal(map[string]string{"instance-id": s.Instance, "local-hostname": s.Hostname})
	if err != nil {
		return nil, fmt.Errorf("write who it is: %w", err)
	}
	// Nothing but addresses is the guest's to be told: what it is, it brings along.
	return map[string][]byte{"meta-data": meta, "user-data": []byte("#cloud-config\npreserve_hostname: true\n"), "network-config": network}, nil
}

// Image makes the disk, an ISO 9660 image with the names of Rock Ridge. It uses a folder of
// its own below dir, which it removes.
func (s Seed) Image(dir string) (image []byte, err error) {
	files, err := s.Files()
	if err != nil {
		return nil, err
	}
	work, err := os.MkdirTemp(dir, "seed")
	if err != nil {
		return nil, fmt.Errorf("make a seed disk: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(work)) }()
	tree := filepath.Join(work, "tree")
	if err := os.Mkdir(tree, 0o700); err != nil {
		return nil, fmt.Errorf("make a seed disk: %w", err)
	}
	for name, b := range files {
		if err := os.WriteFile(filepath.Join(tree, name), b, 0o600); err != nil {
			return nil, fmt.Errorf("make a seed disk: %w", err)
		}
	}
	path := filepath.Join(work, "seed.iso")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("make a seed disk: %w", err)
	}
	defer func() { _ = f.Close() }()
	fs, err := iso9660.Create(file.New(f, false), 0, 0, blockSize, tree)
	if err == nil {
		err = fs.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: label})
	}
	if err != nil {
		return nil, fmt.Errorf("make a seed disk: %w", err)
	}
	return os.ReadFile(path)
}

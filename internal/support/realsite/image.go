package realsite

import (
	"bytes"
	"compress/gzip"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/cavaliergopher/cpio"
)

//go:embed init.sh
var initScript []byte

// modules in the order in which they have to be loaded: the kernel has ext4
// built in, virtio not.
var modules = []string{"drivers/virtio/virtio_ring", "drivers/virtio/virtio", "drivers/virtio/virtio_pci_legacy_dev", "drivers/virtio/virtio_pci_modern_dev",
	"drivers/virtio/virtio_pci", "drivers/block/virtio_blk", "drivers/char/virtio_console", "net/core/failover", "drivers/net/net_failover", "drivers/net/virtio_net", "drivers/acpi/button"}

// Image is what a guest boots from.
type Image struct {
	Kernel string
	Initrd string
}

// BuildImage makes a guest's kernel and initial file system in a folder, from
// Debian's packages of kernel, busybox and guest agent, which are downloaded
// (not installed), and our program that writes in the guest (a static binary).
func BuildImage(ctx context.Context, dir, program string) (*Image, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the image's folder: %w", err)
	}
	out, err := exec.CommandContext(ctx, "apt-cache", "depends", "--no-recommends", "--no-suggests", "linux-image-cloud-amd64").Output()
	found := regexp.MustCompile(`Depends: (linux-image-\S+)`).FindSubmatch(out)
	if err != nil || found == nil {
		return nil, fmt.Errorf("the cloud kernel of Debian is not in the package lists; run 'apt-get update' as root: %w", errors.Join(err, fs.ErrNotExist))
	}
	root := filepath.Join(dir, "packages")
	if err := unpack(ctx, root, string(found[1]), "busybox-static", "qemu-guest-agent"); err != nil {
		return nil, err
	}
	kernels, _ := filepath.Glob(filepath.Join(root, "boot", "vmlinuz-*"))
	if len(kernels) == 0 {
		return nil, errors.New("the kernel's package holds no kernel")
	}
	version := strings.TrimPrefix(filepath.Base(kernels[0]), "vmlinuz-")
	i := &Image{Kernel: filepath.Join(dir, "vmlinuz"), Initrd: filepath.Join(dir, "initrd.gz")}
	kernel, err := os.ReadFile(kernels[0])
	if err == nil {
		err = os.WriteFile(i.Kernel, kernel, 0o644)
	}
	if err != nil {
		return nil, fmt.Errorf("copy the kernel: %w", err)
	}
	files := map[string]string{"bin/kestrel-guest": program, "sbin/qemu-ga": filepath.Join(root, "usr/sbin/qemu-ga")}
	for _, b := range []string{"bin/busybox", "usr/bin/busybox"} {
		if _, err := os.Stat(filepath.Join(root, b)); err == nil {
			files["bin/busybox"] = filepath.Join(root, b)
		}
	}
	for n, m := range modules {
		files[fmt.Sprintf("modules/%02d.ko", n)] = filepath.Join(root, "lib/modules", version, "kernel", m+".ko")
	}
	libs, err := libraries(ctx, files["sbin/qemu-ga"])
	if err != nil {
		return nil, err
	}
	for _, l := range libs {
		files[strings.TrimPrefix(l, "/")] = l
	}
	return i, writeInitrd(i.Initrd, files)
}

// unpack downloads packages and unpacks them into root, once.
func unpack(ctx context.Context, root string, packages ...string) error {
	if b, err := os.ReadFile(filepath.Join(root, ".packages")); err == nil && string(b) == strings.Join(packages, " ") {
		return nil
	}
	if err := os.RemoveAll(root); err != nil {
		return err
	}
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	for _, p := range packages {
		cmd := exec.CommandContext(ctx, "apt-get", "download", "-q", p)
		cmd.Dir = root
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("download Debian's package %s: %w: %s", p, err, lastLine(out))
		}
		debs, _ := filepath.Glob(filepath.Join(root, p+"_*.deb"))
		if len(debs) == 0 {
			return fmt.Errorf("download Debian's package %s: nothing came", p)
		}
		if out, err := exec.CommandContext(ctx, "dpkg-deb", "-x", debs[0], root).CombinedOutput(); err != nil {
			return fmt.Errorf("unpack %s: %w: %s", p, err, lastLine(out))
		}
		_ = os.Remove(debs[0])
	}
	return os.WriteFile(filepath.Join(root, ".packages"), []byte(strings.Join(packages, " ")), 0o644)
}

func lastLine(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return lines[len(lines)-1]
}

// libraries lists what a program is linked to.
func libraries(ctx context.Context, program string) ([]string, error) {
	out, err := exec.CommandContext(ctx, "ldd", program).Output()
	if err != nil {
		return nil, fmt.Errorf("find the guest agent's libraries: %w", err)
	}
	if bytes.Contains(out, []byte("not found")) {
		return nil, fmt.Errorf("a library of the guest agent is not installed: %s", out)
	}
	var libs []string
	for _, m := range regexp.MustCompile(`(/\S+) \(0x`).FindAllSubmatch(out, -1) {
		libs = append(libs, string(m[1]))
	}
	return libs, nil
}

// writeInitrd writes an initial file system: a compressed archive in the "newc"
// format of the kernel's documentation (initramfs buffer format).
func writeInitrd(path string, files map[string]string) (err error) {
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	z := gzip.NewWriter(f)
	w := cpio.NewWriter(z)
	made := map[string]bool{".": true}
	var folder func(string) error
	folder = func(p string) error {
		if made[p] {
			return nil
		}
		made[p] = true
		if err := folder(filepath.Dir(p)); err != nil {
			return err
		}
		return w.WriteHeader(&cpio.Header{Name: p, Mode: cpio.TypeDir | 0o755, Links: 2})
	}
	put := func(name string, content []byte) error {
		if err := folder(filepath.Dir(name)); err != nil {
			return err
		}
		if err := w.WriteHeader(&cpio.Header{Name: name, Mode: cpio.TypeReg | 0o755, Size: int64(len(content)), Links: 1}); err != nil {
			return err
		}
		_, err := w.Write(content)
		return err
	}
	for _, d := range []string{"proc", "sys", "dev", "run", "etc", "tmp", "a", "b", "var/run", "var/log"} {
		if err := folder(d); err != nil {
			return err
		}
	}
	for name, from := range files {
		b, err := os.ReadFile(from)
		if err == nil {
			err = put(name, b)
		}
		if err != nil {
			return fmt.Errorf("put %s into the guest: %w", name, err)
		}
	}
	if err := put("init", initScript); err != nil {
		return err
	}
	if err := errors.Join(w.Close(), z.Close(), f.Close()); err != nil {
		return fmt.Errorf("write the guest's file system: %w", err)
	}
	return os.Rename(path+".part", path)
}

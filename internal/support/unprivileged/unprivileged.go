// Package unprivileged runs servers that refuse to run as root, or should not, as
// users of this host that may do little.
package unprivileged

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// As is the credential of a user for processes that root starts; nil if the present
// user is not root, and is itself as good.
func As(name string) (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("find the user %s: %w", name, err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, fmt.Errorf("number of the user %s: %w", name, err)
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return nil, fmt.Errorf("group of the user %s: %w", name, err)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Give makes files a user's own; those that are not there are passed over.
func Give(to *syscall.Credential, paths ...string) error {
	if to == nil {
		return nil
	}
	for _, p := range paths {
		if err := os.Chown(p, int(to.Uid), int(to.Gid)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("give a file to its user: %w", err)
		}
	}
	return nil
}

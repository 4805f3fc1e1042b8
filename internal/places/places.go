// Package places says where on its host a site may write and read files that people
// name: below folders that were named at its start, and never in its own.
package places

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Places are folders below which files may be named; the zero value allows none.
type Places struct {
	dirs []string
	flag string // with which more are named
}

// Open checks folders that were named with a flag: whole paths of folders that exist and
// have nothing to do with own, the site's own folder.
func Open(flag string, dirs []string, own string) (Places, error) {
	p := Places{flag: flag}
	own, err := filepath.Abs(own)
	if err != nil {
		return p, fmt.Errorf("the site's folder: %w", err)
	}
	if real, err := filepath.EvalSymlinks(own); err == nil {
		own = real
	}
	for _, d := range dirs {
		if !filepath.IsAbs(d) {
			return p, fmt.Errorf("%s %s: give a whole path", flag, d)
		}
		real, err := filepath.EvalSymlinks(d)
		if err != nil {
			return p, fmt.Errorf("%s %s: %w", flag, d, err)
		}
		st, err := os.Stat(real)
		switch {
		case err != nil:
			return p, fmt.Errorf("%s %s: %w", flag, d, err)
		case !st.IsDir():
			return p, fmt.Errorf("%s %s is no folder", flag, d)
		case within(own, real) || within(real, own):
			return p, fmt.Errorf("%s %s: the site's own folder %s is not for that", flag, d, own)
		}
		p.dirs = append(p.dirs, filepath.Clean(d))
	}
	return p, nil
}

// Dirs lists the folders.
func (p Places) Dirs() []string { return append([]string{}, p.dirs...) }

// within tells whether a path is a folder or below it.
func within(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, "../")
}

// ErrElsewhere says that a path is below none of the folders.
var ErrElsewhere = errors.New("not allowed there")

// Find opens the folder that a path is below, and gives the path from there. Whatever
// links lie on the way, nothing beyond the folder is reached through it. The error says
// which folders there are.
func (p Places) Find(path string) (root *os.Root, rel string, err error) {
	if !filepath.IsAbs(path) {
		return nil, "", fmt.Errorf("give a whole path; %w", p.allowed())
	}
	path = filepath.Clean(path)
	for _, d := range p.dirs {
		if !within(d, path) {
			continue
		}
		if rel, err = filepath.Rel(d, path); err != nil {
			return nil, "", err
		}
		root, err = os.OpenRoot(d)
		return root, rel, err
	}
	return nil, "", p.allowed()
}

func (p Places) allowed() error {
	if len(p.dirs) == 0 {
		return fmt.Errorf("%w: no folder is set aside for it; start the service with %s", ErrElsewhere, p.flag)
	}
	return fmt.Errorf("%w: choose a place below %s", ErrElsewhere, strings.Join(p.dirs, " or "))
}

// Package hostcommand runs commands of this host that its administrator has put into a
// folder. People of the site name them; nothing that they say becomes a program or an
// argument of one.
package hostcommand

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

const (
	maxSaid  = 4096 // bytes kept of what a command says
	maxNames = 1000
)

// ErrUnknown says that there is no such command.
var ErrUnknown = errors.New("no such command in the folder of commands")

// Folder is where the commands are; it need not be there.
type Folder string

// Names lists the commands, in order: executable files whose names show nothing hidden.
func (f Folder) Names() []string {
	out := []string{}
	entries, err := os.ReadDir(string(f))
	if err != nil {
		return out
	}
	for _, e := range entries {
		if f.has(e.Name()) && len(out) < maxNames {
			out = append(out, e.Name())
		}
	}
	return out
}

func (f Folder) has(name string) bool {
	if name == "" || strings.HasPrefix(name, ".") || filepath.Base(name) != name {
		return false
	}
	info, err := os.Stat(filepath.Join(string(f), name))
	return err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0
}

// Run runs a command without arguments, with what it is told in its environment, and waits
// until it has ended. What it started is stopped with it when it takes longer than limit.
// The error holds the last line of what it said; it wraps ErrUnknown.
func (f Folder) Run(ctx context.Context, name string, told map[string]string, limit time.Duration) error {
	if !f.has(name) {
		return fmt.Errorf("%s: %w", name, ErrUnknown)
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	c := exec.CommandContext(ctx, filepath.Join(string(f), name))
	c.Dir = string(f)
	c.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"}
	for k, v := range told {
		c.Env = append(c.Env, k+"="+v)
	}
	said := &tail{}
	c.Stdout, c.Stderr = said, said
	c.WaitDelay = time.Second
	apart(c)
	err := c.Run()
	switch {
	case ctx.Err() != nil && errors.Is(context.Cause(ctx), context.DeadlineExceeded):
		return fmt.Errorf("%s did not end within %s", name, span.Format(limit))
	case err != nil:
		return fmt.Errorf("%s: %w%s", name, err, said.last())
	}
	return nil
}

// tail keeps the end of what was said.
type tail struct{ b []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.b = append(t.b, p...)
	if over := len(t.b) - maxSaid; over > 0 {
		t.b = bytes.Clone(t.b[over:])
	}
	return len(p), nil
}

// last is the last line, as far as it can be shown.
func (t *tail) last() string {
	line := words.LastLine(string(t.b), 200)
	if line == "" {
		return ""
	}
	return ": " + line
}

// Package packaging_test installs the Debian package as dpkg does, into a folder.
package packaging_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// run runs a program and gives what it printed.
func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// An upgrade keeps what the site has and what its administrator wrote; a removed and even
// a purged package leaves the recovery points.
func TestThePackage(t *testing.T) {
	debs, root := t.TempDir(), t.TempDir()
	for _, version := range []string{"1.0", "1.1"} {
		run(t, "../dev", "package", debs, version)
	}
	deb := func(version string) string {
		found, err := filepath.Glob(filepath.Join(debs, "kestrel-tide_"+version+"_*.deb"))
		require.NoError(t, err)
		require.Len(t, found, 1)
		return found[0]
	}
	for _, d := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "var/lib/dpkg/triggers", "etc"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	for _, f := range []string{"status", "available"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg", f), nil, 0o600))
	}
	dpkg := func(args ...string) string {
		return run(t, "dpkg", append([]string{"--root=" + root, "--force-depends", "--force-script-chrootless", "--force-confold"}, args...)...)
	}
	at := func(path string) string { return filepath.Join(root, path) }
	read := func(path string) string {
		b, err := os.ReadFile(at(path))
		require.NoError(t, err)
		return string(b)
	}

	require.Contains(t, dpkg("-i", deb("1.0")), "fill in /etc/kestrel/site")
	require.Contains(t, read("etc/passwd"), "kestrel:")
	require.Contains(t, read("etc/passwd"), "nologin")
	st, err := os.Stat(at("etc/kestrel/site"))
	require.NoError(t, err)
	require.Zero(t, st.Mode()&0o007, "it holds the database's password")
	require.Contains(t, run(t, at("usr/bin/kestrel"), "--version"), "kestrel version")

	mine := "KESTREL_OPTIONS=--site Norhaven\n"
	require.NoError(t, os.WriteFile(at("etc/kestrel/site"), []byte(mine), 0o640))
	require.NoError(t, os.MkdirAll(at("var/lib/kestrel/store"), 0o700))
	require.NoError(t, os.WriteFile(at("var/lib/kestrel/store/1.pack"), []byte("points"), 0o600))
	require.NotContains(t, dpkg("-i", deb("1.1")), "fill in")
	require.Equal(t, mine, read("etc/kestrel/site"))
	require.Equal(t, "points", read("var/lib/kestrel/store/1.pack"))
	dpkg("-r", "kestrel-tide")
	require.NoFileExists(t, at("usr/bin/kestrel"))
	require.Equal(t, mine, read("etc/kestrel/site"))
	require.Contains(t, dpkg("-P", "kestrel-tide"), "recovery points is kept")
	require.NoFileExists(t, at("etc/kestrel/site"))
	require.Equal(t, "points", read("var/lib/kestrel/store/1.pack"))
}

// The unit leaves the service little, and the profile is one that the parser takes.
func TestTheUnitAndTheProfile(t *testing.T) {
	out := run(t, "systemd-analyze", "security", "--offline=true", "--threshold=20", "kestrel.service")
	require.Contains(t, out, "OK")
	profile := run(t, "apparmor_parser", "--skip-kernel-load", "--skip-cache", "--names", "apparmor")
	require.Equal(t, "kestrel", strings.TrimSpace(profile[strings.LastIndex(strings.TrimSpace(profile), "\n")+1:]))
	run(t, "apparmor_parser", "--skip-kernel-load", "--skip-cache", "apparmor")
	for _, script := range []string{"postinst", "prerm", "postrm"} {
		run(t, "sh", "-n", script)
	}
}

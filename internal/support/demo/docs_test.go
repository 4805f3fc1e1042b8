package demo_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// example is a command as a document shows it.
type example struct {
	line    string
	refused bool // what is shown after it is an error
}

var fence = regexp.MustCompile("(?s)```\n(.*?)```")

// examples gives the commands in a document's fenced blocks, in order.
func examples(t *testing.T, path string) (out []example) {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, block := range fence.FindAllStringSubmatch(string(b), -1) {
		for _, line := range strings.Split(block[1], "\n") {
			shown := strings.HasPrefix(line, "$ ")
			line = strings.TrimPrefix(line, "$ ")
			switch {
			case shown || strings.HasPrefix(line, "kestrel ") || strings.HasPrefix(line, "qemu-img "):
				out = append(out, example{line: line})
			case strings.HasPrefix(line, "kestrel: ") && len(out) > 0:
				out[len(out)-1].refused = true
			}
		}
	}
	return out
}

var (
	port       = regexp.MustCompile(`127\.0\.0\.1:(74\d\d)`)
	disk       = regexp.MustCompile(`nbd://\S+`)
	checkpoint = regexp.MustCompile(`kt-[0-9a-f][-0-9a-f]+`)
)

// documented runs every command that README and guide show against a demo, as they
// are written. What differs from demo to demo (a port, a checkpoint, the address
// of a served disk) is put in from what was printed before, as a reader does.
func documented(t *testing.T, binary, state string, ports int, password string) {
	t.Helper()
	dir := t.TempDir()
	root, err := filepath.Abs("../../..")
	require.NoError(t, err)
	env := append(os.Environ(), "KESTREL_PROFILES="+filepath.Join(state, "profiles.json"), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "KESTREL_LAB_PASSWORD="+password)
	ran := 0
	for _, doc := range []string{"README.md", "docs/guide.md"} {
		said := ""
		for _, x := range examples(t, filepath.Join("../../..", doc)) {
			// The demo without real guests has nothing to start machines on, and its
			// exports were set before.
			if strings.HasPrefix(x.line, "export ") || strings.Contains(x.line, " landing ") {
				continue
			}
			line := port.ReplaceAllStringFunc(x.line, func(s string) string {
				n, err := strconv.Atoi(s[len(s)-4:])
				require.NoError(t, err)
				return fmt.Sprintf("127.0.0.1:%d", ports+n-7410)
			})
			line = strings.ReplaceAll(line, "/var/lib/kestrel-tide/demo/", state+"/")
			line = strings.ReplaceAll(line, " docs/", " "+root+"/docs/")
			if doc == "docs/guide.md" {
				// "At the site that holds it", of any point.
				line = strings.ReplaceAll(strings.ReplaceAll(line, "kestrel point", "kestrel -p eastmole point"), ":42", "")
			}
			if strings.HasPrefix(line, "qemu-img") {
				line = "qemu-img convert -O raw " + disk.FindString(said) + " " + filepath.Join(dir, "disk.raw")
			}
			line = strings.ReplaceAll(line, "kt-…", checkpoint.FindString(said))
			require.NotContains(t, line, "…", "%s: %s cannot be run as it is written", doc, x.line)
			cmd := exec.CommandContext(t.Context(), "bash", "-o", "pipefail", "-c", line)
			cmd.Env, cmd.Dir = env, dir
			b, err := cmd.CombinedOutput()
			said = string(b)
			if x.refused {
				require.Error(t, err, "%s: %s is shown to be refused\n%s", doc, line, b)
			} else {
				require.NoError(t, err, "%s: %s\n%s", doc, line, b)
			}
			ran++
		}
	}
	require.Greater(t, ran, 15, "the documents' commands are found")
}

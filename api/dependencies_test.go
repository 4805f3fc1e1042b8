package contract_test

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every direct dependency is in docs/dependencies.md, with why it is there, and nothing
// else is.
func TestEveryDependencyIsListed(t *testing.T) {
	mod, err := os.ReadFile("../go.mod")
	require.NoError(t, err)
	var have []string
	for _, m := range regexp.MustCompile(`(?m)^\t(\S+) v\S+$`).FindAllStringSubmatch(string(mod), -1) {
		have = append(have, m[1])
	}
	b, err := os.ReadFile("../console/package.json")
	require.NoError(t, err)
	var console struct{ Dependencies, DevDependencies map[string]string }
	require.NoError(t, json.Unmarshal(b, &console))
	for _, all := range []map[string]string{console.Dependencies, console.DevDependencies} {
		for name := range all {
			have = append(have, name)
		}
	}
	doc, err := os.ReadFile("../docs/dependencies.md")
	require.NoError(t, err)
	var listed []string
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| .+ \\|$").FindAllStringSubmatch(string(doc), -1) {
		listed = append(listed, m[1])
	}
	slices.Sort(have)
	slices.Sort(listed)
	require.Greater(t, len(have), 40)
	require.Equal(t, have, listed)
}

// Command generate writes what follows from the list of metrics.
package main

import (
	"fmt"
	"os"

	"kestrel/internal/metrics"
)

func main() {
	dashboard, err := metrics.Dashboard()
	for path, b := range map[string][]byte{"docs/metrics.md": metrics.Document(), "packaging/grafana/kestrel-tide.json": dashboard} {
		if err == nil {
			err = os.WriteFile(path, b, 0o644)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

package span

import (
	"fmt"
	"math"
)

// Bytes writes a size with a binary unit, for reading: "512 B", "1.5 MiB". What
// would round to 1024 of a unit is written as one of the next.
func Bytes(n float64) string {
	for _, u := range []string{"B", "KiB", "MiB", "GiB", "TiB"} {
		if math.Round(n) < 1024 || u == "TiB" {
			if n < 9.95 && u != "B" {
				return fmt.Sprintf("%.1f %s", n, u)
			}
			return fmt.Sprintf("%.0f %s", n, u)
		}
		n /= 1024
	}
	return ""
}

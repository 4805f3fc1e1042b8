package pace

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
)

// ParseRate reads a number of bytes as people write it, per second said or not; none is 0.
func ParseRate(text string) (int64, error) {
	if strings.EqualFold(strings.TrimSpace(text), "none") {
		return 0, nil
	}
	n, err := humanize.ParseBytes(strings.TrimSuffix(strings.TrimSpace(text), "/s"))
	if err != nil || n == 0 || n > 1<<50 {
		return 0, fmt.Errorf("%q is no number of bytes; write it like 40MiB, or none", text)
	}
	return int64(n), nil
}

// CutWindow reads a time of the week as people write it, "mon-fri 08:00-18:00 5MiB", into its
// parts, of which only the rate is read.
func CutWindow(text string) (days, from, to string, rate int64, err error) {
	parts := strings.Fields(text)
	if len(parts) < 3 {
		return "", "", "", 0, fmt.Errorf("%q is not days, times and a rate; write it like \"mon-fri 08:00-18:00 5MiB\"", text)
	}
	from, to, ok := strings.Cut(parts[1], "-")
	if !ok {
		return "", "", "", 0, fmt.Errorf("%q is no span of the day; write it like 08:00-18:00", parts[1])
	}
	rate, err = ParseRate(strings.Join(parts[2:], ""))
	return parts[0], from, to, rate, err
}

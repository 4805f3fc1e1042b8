package span_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/span"
)

// A span reads as it was written, whichever of its ways it is written in.
func TestSpansAsPeopleWriteThem(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "90 sec": 90 * time.Second, "1 h 30 min": 90 * time.Minute, "1h30m": 90 * time.Minute, "1.5h": 90 * time.Minute,
		"2 D": 2 * span.Day, "5w": 5 * span.Week, "1y": span.Year, " 3 days ": 3 * span.Day, "0s": 0, "1 hour 1 second": time.Hour + time.Second,
	} {
		d, err := span.Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, d, text)
	}
	for text, says := range map[string]string{
		"": "write it like", " ": "write it like", "5": "no unit", "h": "not a span", "-5 min": "not a span", "5 fortnights": "no unit", "1..5 h": "not a span", "5 min ago": "not a span",
		"3651d": "longer than ten years", "9999999999999999999999y": "longer than ten years", "1h-30min": "not a span",
	} {
		_, err := span.Parse(text)
		require.ErrorContains(t, err, says, text)
	}
}

// What Format writes, Parse reads as nearly the same: at most two units are written.
func TestFormatIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(0, int64(span.Max)).Draw(t, "d"))
		text := span.Format(d)
		back, err := span.Parse(text)
		require.NoError(t, err, text)
		lost := time.Hour
		switch {
		case d < 10*time.Minute:
			lost = time.Second
		case d < span.Day:
			lost = time.Minute
		}
		require.LessOrEqual(t, (d - back).Abs(), lost, text)
		if text != "0 s" {
			require.Equal(t, "-"+text, span.Format(-d))
		}
	})
}

// Units roll over where people expect them to.
func TestUnitsRollOver(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "0 s", -999 * time.Millisecond: "0 s", 999 * time.Millisecond: "0 s", time.Second: "1 s", 59*time.Second + 600*time.Millisecond: "1 min", time.Minute: "1 min", 130 * time.Second: "2 min 10 s",
		9*time.Minute + 59*time.Second: "9 min 59 s", 21*time.Minute + 30*time.Second: "21 min", 59*time.Minute + 59*time.Second + 900*time.Millisecond: "1 h", 82 * time.Minute: "1 h 22 min",
		span.Day: "1 d", span.Day + 5*time.Minute: "1 d", 26 * time.Hour: "1 d 2 h",
	} {
		require.Equal(t, want, span.Format(d), d)
	}
	for d, want := range map[time.Duration]string{
		0: "0 ms", 215*time.Millisecond + 400*time.Microsecond: "215 ms", 999*time.Millisecond + 700*time.Microsecond: "1.0 s", 1400 * time.Millisecond: "1.4 s",
		9960 * time.Millisecond: "10 s", 10 * time.Second: "10 s", 90 * time.Second: "1 min 30 s", -1400 * time.Millisecond: "-1.4 s",
	} {
		require.Equal(t, want, span.Precise(d), d)
	}
	for n, want := range map[float64]string{
		0: "0 B", 9: "9 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 10 << 10: "10 KiB", 9.98 * 1024: "10 KiB", 1023.9 * 1024: "1.0 MiB", 1 << 40: "1.0 TiB", 5000 * (1 << 40): "5000 TiB",
	} {
		require.Equal(t, want, span.Bytes(n), n)
	}
}

// No size is written with four digits before its unit but for bytes and the last
// unit, and a larger one never reads as less.
func TestBytesGrow(t *testing.T) {
	value := func(text string) (v float64) {
		var unit string
		_, err := fmt.Sscanf(text, "%g %s", &v, &unit)
		require.NoError(t, err)
		for _, u := range []string{"B", "KiB", "MiB", "GiB", "TiB"} {
			if u == unit {
				return v
			}
			v *= 1024
		}
		require.Fail(t, "an odd unit", text)
		return 0
	}
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.Float64Range(0, 1<<50).Draw(t, "a")
		b := rapid.Float64Range(a, 1<<50).Draw(t, "b")
		x, y := span.Bytes(a), span.Bytes(b)
		require.LessOrEqual(t, value(x), value(y))
		if !strings.HasSuffix(x, " TiB") && !strings.HasSuffix(x, " B") {
			require.LessOrEqual(t, len(strings.Fields(x)[0]), 4, x)
		}
		require.InDelta(t, a, value(x), 0.5+0.06*a)
	})
}

// No number makes a short span of a long one, or turns its sign.
func TestTimes(t *testing.T) {
	require.Equal(t, 90*time.Second, span.Times(90, time.Second))
	require.Equal(t, -90*time.Minute, span.Times(int64(-90), time.Minute))
	for _, n := range []int64{math.MaxInt64, math.MaxInt64 / 2, math.MaxInt64/int64(time.Hour) + 1} {
		require.Equal(t, time.Duration(math.MaxInt64), span.Times(n, time.Hour), n)
		require.Negative(t, span.Times(-n, time.Hour), n)
	}
}

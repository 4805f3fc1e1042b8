// Package scope decides what is protected: which disks may be left out, which machines a
// rule matches, and what the coverage of a site is.
package scope

import (
	"fmt"
	"regexp"
)

// Disk is what is looked at to find disks that need not be copied.
type Disk struct {
	Label     string
	SizeBytes int64
	Boot      bool
}

// scratchName finds words that people give disks whose content nobody needs again.
var scratchName = regexp.MustCompile(`(?i)(^|[^a-z])(scratch|swap|temp|tmp|temporary|page ?file|cache|spool)([^a-z]|$)`)

// Suggest says why a disk may be left out; nothing if nothing speaks for it. It never
// suggests the disk that a machine starts from. Memory is the machine's, in bytes: swap
// is often made as large, or twice as large.
func Suggest(d Disk, memory int64) string {
	if d.Boot {
		return ""
	}
	if word := scratchName.FindStringSubmatch(d.Label); word != nil {
		return fmt.Sprintf("Its name says %q.", word[2])
	}
	if memory > 0 && (near(d.SizeBytes, memory) || near(d.SizeBytes, 2*memory)) {
		return "It is as large as the machine's memory, or twice as large, as swap often is."
	}
	return ""
}

// near tells whether two sizes are the same to a fiftieth.
func near(a, b int64) bool { return a > b-b/50 && a < b+b/50 }

package realsite

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/digitalocean/go-libvirt"
)

// Report says how the daemon and its guests are, for whoever has to find out
// why a test on them failed: states, and the ends of the logs.
func (d *Daemon) Report() string {
	var b strings.Builder
	err := d.With(func(l *libvirt.Libvirt) error {
		all, _, err := l.ConnectListAllDomains(1, 0)
		for _, dom := range all {
			state, reason, _ := l.DomainGetState(dom, 0)
			text, _ := l.DomainGetXMLDesc(dom, 0)
			fmt.Fprintf(&b, "%s: state %d, reason %d, held %v\n", dom.Name, state, reason, strings.Contains(text, "urn:kestrel-tide:hold"))
		}
		return err
	})
	if err != nil {
		fmt.Fprintf(&b, "libvirtd does not answer: %v\n", err)
	}
	logs, _ := filepath.Glob(filepath.Join(d.dir, "cache", "libvirt", "qemu", "log", "*.log"))
	for _, name := range append(logs, filepath.Join(d.dir, "libvirtd.log")) {
		text, _ := os.ReadFile(name)
		fmt.Fprintf(&b, "%s ends with\n%s\n", filepath.Base(name), text[max(0, len(text)-1200):])
	}
	return b.String()
}

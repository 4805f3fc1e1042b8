package libvirt

import (
	"context"
	"fmt"
	"time"
)

// HoldForTest brings machines to rest as a capture does, says so, and does
// nothing more, so that its process can be killed at that moment.
func HoldForTest(uri, checkpoint string, quiesce bool, machines, guard []string) error {
	d, err := New(Settings{Hosts: []string{uri}, Guard: guard})
	if err != nil {
		return err
	}
	ctx := context.Background()
	var all []*held
	want := map[string]bool{}
	for _, id := range machines {
		m := &held{id: id}
		if err := d.ready(ctx, checkpoint, m); err != nil {
			return err
		}
		all = append(all, m)
		want[id] = quiesce
	}
	if err := d.still(ctx, checkpoint, all, want, true); err != nil {
		return err
	}
	fmt.Print("!")
	time.Sleep(time.Minute)
	return nil
}

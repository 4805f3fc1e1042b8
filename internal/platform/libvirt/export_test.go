package libvirt

import (
	"context"
	"fmt"
	"kestrel/internal/platform"
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
	r := platform.CaptureRequest{Name: checkpoint}
	for _, id := range machines {
		m := &held{id: id}
		if err := d.ready(ctx, r, m); err != nil {
			return err
		}
		all = append(all, m)
		if quiesce {
			r.Quiesce = append(r.Quiesce, platform.Rest{Machine: id})
		}
	}
	if err := d.still(ctx, r, all, true); err != nil {
		return err
	}
	fmt.Print("!")
	time.Sleep(time.Minute)
	return nil
}

// Reserve reserves addresses for the cards of a landing, as Land does.
var Reserve = reserve

// Unreserve takes out the reservations of a card.
var Unreserve = unreserve

// DialAny tries a TCP port at each of some addresses.
var DialAny = dialAny

// AsPNG makes a PNG of what QEMU makes of a screen.
var AsPNG = asPNG

package libvirt_test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// The tests run on real guests of real daemons. Where QEMU and libvirt are not
// installed they are skipped, and say so.
var pair *realsite.Pair

func TestMain(m *testing.M) {
	// The guard is a process of its own; here it is this program once more.
	if len(os.Args) > 1 && os.Args[1] == "guard" {
		if err := libvirt.Guard(os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "hold" {
		if err := libvirt.HoldForTest(os.Args[2], os.Args[3], os.Args[4] != "", os.Args[5:], []string{os.Args[0], "guard"}); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	code := func() int {
		if realsite.Missing() != "" {
			return m.Run()
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		p, err := realsite.StartPair(ctx)
		if err != nil {
			fmt.Fprintln(os.Stderr, "real guests cannot be started:", err)
			return 1
		}
		pair = p
		defer p.Stop()
		for _, g := range guests {
			if err := p.Home.Add(ctx, p.Image, g); err != nil {
				fmt.Fprintln(os.Stderr, err)
				return 1
			}
		}
		return m.Run()
	}()
	os.Exit(code)
}

var guests = []realsite.Guest{
	{Name: "gangway", Address: "10.77.1.11", Segment: "230.77.0.1:7411"},
	{Name: "purser", After: "gangway", Address: "10.77.1.12", Segment: "230.77.0.1:7411"},
}

func need(t *testing.T) *realsite.Pair {
	t.Helper()
	if pair == nil {
		t.Skipf("REAL GUESTS ARE NOT TESTED: %s is not installed", realsite.Missing())
	}
	return pair
}

// within bounds what a test waits for.
func within(t *testing.T, d time.Duration) context.Context {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

func newDriver(t *testing.T, s libvirt.Settings) *libvirt.Driver {
	t.Helper()
	if s.Hosts == nil {
		s.Hosts = []string{pair.Home.URI}
	}
	d, err := libvirt.New(s)
	require.NoError(t, err)
	t.Cleanup(d.Close)
	return d
}

func ids(t *testing.T, names ...string) (out []string) {
	t.Helper()
	for _, n := range names {
		id, err := pair.Home.ID(n)
		require.NoError(t, err)
		out = append(out, id)
	}
	return out
}

func TestTheContractOnRealGuests(t *testing.T) {
	p := need(t)
	ctx := within(t, 15*time.Minute)
	for _, g := range guests {
		_, err := p.Home.Await(ctx, g.Name, "TX", 1, 0)
		require.NoError(t, err)
	}
	platformtest.Run(t, platformtest.Fixture{
		New:         func() platform.Driver { return newDriver(t, libvirt.Settings{}) },
		Machines:    ids(t, "gangway", "purser"),
		Names:       []string{"gangway", "purser"},
		Works:       "sync",
		Fails:       "exit 3",
		AwaitWrites: func(t *testing.T) { require.NoError(t, p.Home.Writes(ctx, "gangway", "purser")) },
	})
}

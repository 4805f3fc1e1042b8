package inventory_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/inventory"
	"kestrel/internal/listing"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// driver is a platform that can fail, hang and be closed.
type driver struct {
	platform.Driver
	mu     sync.Mutex
	has    platform.Inventory
	fails  error
	hangs  bool
	step   *platform.Step
	asked  int
	closed bool
}

func (d *driver) set(change func(d *driver)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	change(d)
}

func (d *driver) Check(context.Context) []platform.Step {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.step != nil {
		return []platform.Step{{Name: "address", Tried: true, OK: true}, *d.step}
	}
	return []platform.Step{{Name: "address", Tried: true, OK: true}}
}

func (d *driver) Inventory(ctx context.Context) (platform.Inventory, error) {
	d.mu.Lock()
	d.asked++
	hangs, has, err := d.hangs, d.has, d.fails
	d.mu.Unlock()
	if hangs {
		<-ctx.Done()
		return platform.Inventory{}, ctx.Err()
	}
	return has, err
}

// times is how often it was asked, once all waits.
func (d *driver) times() int {
	synctest.Wait()
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asked
}

func (d *driver) Close() { d.set(func(d *driver) { d.closed = true }) }

// rig is a site whose platforms are drivers by address.
type rig struct {
	*rooms.Side
	t       *testing.T
	dir     string
	v       *inventory.Inventory
	drivers map[string]*driver
	stop    func()
}

// virtual runs a test over a clock that moves when all wait.
func virtual(t *testing.T, f func(t *testing.T, r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		s, err := rooms.New(rooms.HomeID, rooms.HomeName, 1)
		require.NoError(t, err)
		r := &rig{Side: s, t: t, dir: t.TempDir(), drivers: map[string]*driver{}}
		r.start()
		defer func() {
			r.stop()
			require.NoError(t, s.Store.Close())
		}()
		f(t, r)
	})
}

func (r *rig) start() {
	r.t.Helper()
	var err error
	r.v, err = inventory.Open(r.t.Context(), inventory.Config{DB: r.DB, Groups: r.Groups, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log, StateDir: r.dir, Every: 10 * time.Second,
		Connect: func(_, address string) (platform.Driver, error) {
			if d, ok := r.drivers[address]; ok {
				return d, nil
			}
			return nil, problem.Invalid("address", "nothing is there")
		}})
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { r.v.Run(ctx); close(done) }()
	r.stop = func() { cancel(); <-done; r.v.Close() }
	synctest.Wait()
}

// machine has one disk.
func machine(id, name, folder string, tags ...string) platform.Machine {
	return platform.Machine{ID: id, Name: name, Folder: folder, Tags: tags, Power: platform.PowerOn, MemoryBytes: 1 << 30, Host: "host-1", Disks: []platform.Disk{{Key: "d", Label: "disk 1", SizeBytes: 1 << 30, UsedBytes: 1 << 20}}}
}

// add adds a platform with machines.
func (r *rig) add(name string, ms ...platform.Machine) (api.Platform, *driver) {
	r.t.Helper()
	d := &driver{has: platform.Inventory{Machines: ms, Hosts: []platform.Host{{ID: "h", Name: "host-1", MemoryBytes: 8 << 30}}}}
	r.drivers[name] = d
	p, err := r.v.Create(r.t.Context(), rooms.Anna(), api.NewPlatform{Name: name, Kind: "lab", Address: name, User: new("svc"), Password: new("the tide turns at six")})
	require.NoError(r.t, err)
	return p, d
}

func after(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

func (r *rig) notes(words string) int {
	r.t.Helper()
	lines, err := r.Trail.Lines(r.t.Context(), records.Sought{Limit: 100, Text: words})
	require.NoError(r.t, err)
	return len(lines)
}

func refused(t *testing.T, err error) *problem.Problem {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	return p
}

// A platform that fails or hangs is said to once, keeps what was last seen of it,
// and holds up no other; when it answers again that is said too.
func TestAPlatformThatFailsOrHangs(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		quay, d := r.add("quay", machine("1", "tick-db", "/pier"))
		_, other := r.add("pier")
		for what, change := range map[string]func(d *driver){
			"fails": func(d *driver) { d.fails = errors.New("the door is shut") },
			"hangs": func(d *driver) { d.hangs = true },
		} {
			before, said := r.v.SeenAt(quay.ID), r.notes("cannot be used")
			d.set(change)
			after(time.Minute)
			p, ok := r.v.Get(quay.ID)
			require.True(t, ok)
			require.False(t, p.Up, what)
			require.Error(t, p.Err)
			require.Len(t, p.Held().Machines, 1, "what was seen last")
			require.Equal(t, said+1, r.notes("cannot be used"), "said once")
			n := other.times()
			after(time.Minute)
			require.GreaterOrEqual(t, other.times()-n, 5, "the others are asked as before")
			d.set(func(d *driver) { d.fails, d.hangs = nil, false })
			after(time.Minute)
			p, _ = r.v.Get(quay.ID)
			require.True(t, p.Up)
			require.True(t, r.v.SeenAt(quay.ID).After(before))
		}
		require.Equal(t, 2, r.notes("answers again"))
		require.Zero(t, r.v.SeenAt(uuid.NewString()))
	})
}

// What cannot be a platform is refused by its field, and its connection closed.
func TestPlatformsThatAreRefused(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.add("quay")
		for name, c := range map[string]struct {
			in    api.NewPlatform
			step  string
			field string
		}{
			"no name":          {api.NewPlatform{Name: " ", Kind: "lab"}, "", "name"},
			"a taken name":     {api.NewPlatform{Name: "QUAY", Kind: "lab"}, "", "name"},
			"two lines":        {api.NewPlatform{Name: "a\nb", Kind: "lab"}, "", "name"},
			"settings of kvm":  {api.NewPlatform{Name: "n", Kind: "lab", Libvirt: &api.LibvirtSettings{}}, "", "libvirt"},
			"no time at all":   {api.NewPlatform{Name: "n", Kind: "libvirt", Libvirt: &api.LibvirtSettings{FreezeSeconds: new(0)}}, "", "libvirt.freezeSeconds"},
			"a wrong password": {api.NewPlatform{Name: "n", Kind: "lab"}, "credentials", "password"},
			"certificates":     {api.NewPlatform{Name: "n", Kind: "libvirt"}, "certificates", "libvirt.certificates"},
			"scratch":          {api.NewPlatform{Name: "n", Kind: "libvirt", Libvirt: &api.LibvirtSettings{Scratch: new("/x")}}, "storage", "libvirt.scratch"},
			"anything else":    {api.NewPlatform{Name: "n", Kind: "lab"}, "version", "address"},
		} {
			d := &driver{}
			if c.step != "" {
				d.step = &platform.Step{Name: c.step, Tried: true, Note: "It is refused.", Mend: "Ask the harbour master."}
			}
			r.drivers["there"] = d
			c.in.Address = "there"
			_, err := r.v.Create(t.Context(), rooms.Anna(), c.in)
			p := refused(t, err)
			require.Equal(t, c.field, p.Errors[0].Field, name)
			if c.step != "" {
				require.Contains(t, p.Errors[0].Message, "It is refused. Ask the harbour master.", name)
				require.True(t, d.closed, name)
				v, err := r.v.Test(t.Context(), c.in)
				require.NoError(t, err)
				require.False(t, v.Ok)
			}
		}
		require.Len(t, r.v.All(), 1)
	})
}

// Platforms are there again after a restart, with their passwords, which the
// database holds only under the key beside the site's identity.
func TestPlatformsAfterARestart(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		p, d := r.add("quay", machine("1", "tick-db", "/pier"))
		recs, err := r.DB.Platforms(t.Context())
		require.NoError(t, err)
		require.False(t, bytes.Contains(recs[0].Password, []byte("tide")))
		r.stop()
		require.True(t, d.closed)
		d.closed = false
		r.start()
		_, m, err := r.v.Machine("TICK-DB")
		require.NoError(t, err)
		require.Equal(t, "1", m.ID)
		delete(r.drivers, "quay") // such as certificates that were moved
		r.stop()
		r.start()
		now, ok := r.v.Get(p.ID)
		require.True(t, ok, "the site starts without it")
		require.ErrorContains(t, now.Err, "nothing is there")
		require.False(t, now.Up)
		r.stop()
		require.NoError(t, os.Remove(filepath.Join(r.dir, "secrets.key")))
		_, err = inventory.Open(t.Context(), inventory.Config{DB: r.DB, Groups: r.Groups, StateDir: r.dir})
		require.ErrorContains(t, err, "another key file than secrets.key")
	})
}

// Machines are found by ID or by a name that only one has; else people learn what
// they may have meant.
func TestMachinesAreFound(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		quay, _ := r.add("quay", machine("1", "tick-db", "/pier"), machine("2", "twin", "/pier"))
		pier, _ := r.add("pier", machine("1", "gate", "/"), machine("3", "Twin", "/"))
		for text, want := range map[string]string{"tick-db": quay.ID + "/1", "GATE": pier.ID + "/1", pier.ID + "/3": pier.ID + "/3"} {
			p, m, err := r.v.Machine(text)
			require.NoError(t, err, text)
			require.Equal(t, want, inventory.MachineID(p.ID, m.ID))
		}
		for text, says := range map[string]string{"twin": "2 machines have this name; give the ID", "tikc-db": `did you mean "tick-db"?`, "x": "no platform of this site has it", quay.ID + "/9": "no platform"} {
			_, _, err := r.v.Machine(text)
			require.ErrorContains(t, err, says, text)
		}
		_, err := r.v.Find("quai")
		require.Contains(t, refused(t, err).Detail, `Did you mean "quay"?`)
		found, err := r.v.Find("QUAY")
		require.NoError(t, err)
		require.Equal(t, quay.ID, found.ID)
	})
}

// Lists of machines are narrowed by what is known of them, and count all.
func TestListsOfMachines(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		big := machine("2", "archive", "/pier/cold", "Gold")
		big.Disks[0].SizeBytes, big.Power = 1<<40, platform.PowerOff
		bare := platform.Machine{ID: "3", Name: "router", Folder: "/pier", NICs: []platform.NIC{{Address: "192.0.2.9", Network: "quay-lan"}}}
		quay, _ := r.add("quay", machine("1", "tick-db", "/pier", "gold"), big, bare)
		r.add("shed", machine("1", "gate", "/sheds"))
		spec := rooms.Spec("Ticketing")
		spec.Platform, spec.Machines[0].ID = quay.ID, "1"
		g, err := r.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(uuid.NewString(), spec))
		require.NoError(t, err)
		for _, c := range []struct {
			f    inventory.MachineFilter
			want string
			n    int
		}{
			{inventory.MachineFilter{}, "[router tick-db archive gate]", 4},
			{inventory.MachineFilter{Platform: "QUAY"}, "[router tick-db archive]", 3},
			{inventory.MachineFilter{Folder: "/pier"}, "[router tick-db archive]", 3},
			{inventory.MachineFilter{Folder: "/pier/cold/"}, "[archive]", 1},
			{inventory.MachineFilter{Folder: "/pi"}, "[]", 0},
			{inventory.MachineFilter{Tag: "GOLD"}, "[tick-db archive]", 2},
			{inventory.MachineFilter{Power: platform.PowerOff}, "[archive]", 1},
			{inventory.MachineFilter{Coverage: "protected"}, "[tick-db]", 1},
			{inventory.MachineFilter{Coverage: "unprotected"}, "[archive gate]", 2},
			{inventory.MachineFilter{Coverage: "cannot be"}, "[router]", 1},
			{inventory.MachineFilter{Query: "192.0.2.9"}, "[router]", 1},
			{inventory.MachineFilter{Query: "ticketing"}, "[tick-db]", 1},
			{inventory.MachineFilter{Page: listing.Page{Sort: "-size", Limit: 2}}, "[archive tick-db]", 4},
			{inventory.MachineFilter{Page: listing.Page{Sort: "name", Skip: 3}}, "[tick-db]", 4},
			{inventory.MachineFilter{See: func(group string) bool { return group == g.ID }}, "[tick-db]", 1},
		} {
			ms, n, err := r.v.Machines(c.f)
			require.NoError(t, err)
			names := []string{}
			for _, m := range ms {
				names = append(names, m.Name)
			}
			require.Equal(t, c.want, fmt.Sprint(names), "%+v", c.f)
			require.Equal(t, c.n, n)
		}
		_, _, err = r.v.Machines(inventory.MachineFilter{Coverage: "some"})
		require.Equal(t, "coverage", refused(t, err).Errors[0].Field)
		ms, _, err := r.v.Machines(inventory.MachineFilter{Coverage: "cannot be"})
		require.NoError(t, err)
		require.NotEmpty(t, *ms[0].Mend, "what can be done about it")
		inv, err := r.v.Resources("quay")
		require.NoError(t, err)
		require.EqualValues(t, 6<<30, inv.Hosts[0].FreeBytes)
	})
}

// A platform that something uses is not removed; one that nothing uses is forgotten
// and asked no more.
func TestRemovingAPlatform(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		p, d := r.add("quay", machine("1", "tick-db", "/pier"))
		spec := rooms.Spec("Ticketing")
		spec.Platform = p.ID
		g, err := r.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(uuid.NewString(), spec))
		require.NoError(t, err)
		require.Contains(t, refused(t, r.v.Delete(t.Context(), rooms.Anna(), "quay")).Detail, "Group Ticketing protects machines of this platform")
		require.NoError(t, r.Groups.Delete(t.Context(), rooms.Anna(), g.ID, "gone"))
		used := true
		r.v.Using(func(id string) error {
			if used && id == p.ID {
				return problem.Conflict("A landed machine runs there.")
			}
			return nil
		})
		require.Equal(t, http.StatusConflict, refused(t, r.v.Delete(t.Context(), rooms.Anna(), "quay")).Status)
		used = false
		require.NoError(t, r.v.Delete(t.Context(), rooms.Anna(), "quay"))
		require.True(t, d.closed)
		n := d.times()
		after(time.Minute)
		require.Equal(t, n, d.times())
		require.Equal(t, http.StatusNotFound, refused(t, r.v.Delete(t.Context(), rooms.Anna(), "quay")).Status)
		require.Empty(t, r.v.Platforms())
	})
}

// What is wrong with a platform is shown with it: that it fails, and that its
// address works here only by chance.
func TestWhatIsShownOfAPlatform(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		p, d := r.add("kvm1:7414", machine("1", "tick-db", "/pier"))
		require.Contains(t, *p.Warning, `"kvm1" is a short name`)
		require.True(t, p.Reachable)
		require.Equal(t, 1, p.Machines)
		d.set(func(d *driver) { d.fails = errors.New("the door is shut") })
		v, err := r.v.Retest(t.Context(), p.ID)
		require.NoError(t, err)
		require.True(t, v.Ok, "it can be connected to")
		now := r.v.Platforms()[0]
		require.Equal(t, "The door is shut", *now.Error)
		require.NotNil(t, now.SeenAt)
		d.set(func(d *driver) { d.fails, d.has.Trouble = nil, "a disk is missing" })
		r.v.Refresh(t.Context(), p.ID)
		require.Equal(t, "A disk is missing", *r.v.Platforms()[0].Error)
		_, err = r.v.Resources(uuid.NewString())
		require.Equal(t, http.StatusNotFound, refused(t, err).Status)
	})
}

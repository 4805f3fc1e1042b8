// Package inventory knows the platforms of this site, their drivers, and what each
// was last seen to hold. Every platform is asked by a loop of its own, so that one
// that hangs delays nothing but what needs it.
package inventory

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/places"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/reach"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
)

// maxName bounds a platform's name, in characters.
const maxName = 60

// answerTime is how long a platform may take to list what it holds.
const answerTime = 20 * time.Second

// Config is what the inventory is made of.
type Config struct {
	DB       Records
	Groups   *directory.Directory
	Trail    *audit.Trail
	Clock    clock.Clock
	Hub      *events.Hub
	Log      *slog.Logger
	StateDir string
	// Owner marks this site's checkpoints on a platform.
	Owner string
	// Guard is the command of the process that lets machines go which are held when
	// this one is killed.
	Guard []string
	// Certificates is where the certificates of platforms may lie.
	Certificates places.Places
	// Within are the networks that platforms may be in.
	Within reach.Networks
	// Every is how often each platform is asked.
	Every time.Duration
	// Connect makes the driver of a platform of some kind; of the kinds lab and libvirt
	// if nil.
	Connect func(kind, address string) (platform.Driver, error)
}

// Records is where platforms are kept; *records.DB is one.
type Records interface {
	Platforms(ctx context.Context) ([]records.Platform, error)
	AddPlatform(ctx context.Context, p records.Platform) error
	DeletePlatform(ctx context.Context, id string) error
	LeftOut(ctx context.Context) ([]records.LeftOut, error)
	LeaveOut(ctx context.Context, ms []records.LeftOut) error
	TakeBack(ctx context.Context, ms []records.LeftOut) error
}

// Inventory is the platforms of one site.
type Inventory struct {
	Config
	secrets *sealed.Box

	mu   sync.Mutex
	byID map[string]*state
	left map[string]records.LeftOut // on purpose, by MachineID
	ctx  context.Context            // of Run; nil before it
	wg   sync.WaitGroup
	used []func(platformID string) error
}

// state is a platform and what was last seen of it.
type state struct {
	rec    records.Platform
	set    settings
	driver platform.Driver
	seen   *seen
	seenAt time.Time
	err    error // of the last attempt
	stop   context.CancelFunc
	// Questions are numbered: asked is the newest, told the newest that was answered.
	asked, told uint64
}

// seen is what a platform held, and how to find it. It never changes.
type seen struct {
	platform.Inventory
	byID   map[string]int
	byName map[string][]int // lower case
}

func index(inv platform.Inventory) *seen {
	s := &seen{Inventory: inv, byID: map[string]int{}, byName: map[string][]int{}}
	for i, m := range inv.Machines {
		s.byID[m.ID] = i
		n := strings.ToLower(m.Name)
		s.byName[n] = append(s.byName[n], i)
	}
	return s
}

func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

func orNil(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Open reads the platforms.
func Open(ctx context.Context, cfg Config) (*Inventory, error) {
	v := &Inventory{Config: cfg, byID: map[string]*state{}, left: map[string]records.LeftOut{}}
	var err error
	if v.secrets, err = sealed.Open(cfg.StateDir); err != nil {
		return nil, err
	}
	left, err := cfg.DB.LeftOut(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range left {
		v.left[MachineID(x.Platform, x.Machine)] = x
	}
	recs, err := cfg.DB.Platforms(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		password, err := v.secrets.Open(r.Password)
		if err != nil {
			return nil, err
		}
		p := &state{rec: r}
		if err := json.Unmarshal(r.Settings, &p.set); err != nil {
			return nil, fmt.Errorf("settings of platform %s: %w", r.Name, err)
		}
		if p.driver, err = v.newDriver(r.Name, r.Kind, r.Address, r.Username, password, p.set); err != nil {
			// Such as certificates that were moved: the site's other work goes on.
			p.driver = platform.Unusable(err)
			cfg.Log.Warn("a platform cannot be used", "platform", r.Name, "err", err)
		}
		v.byID[r.ID] = p
	}
	return v, nil
}

// Using has f asked before a platform is removed; what it answers refuses that. It
// is for wiring, before anything runs.
func (v *Inventory) Using(f func(platformID string) error) { v.used = append(v.used, f) }

// Close lets go of all platforms.
func (v *Inventory) Close() {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, p := range v.byID {
		p.driver.Close()
	}
}

// Run asks all platforms until ctx ends.
func (v *Inventory) Run(ctx context.Context) {
	v.mu.Lock()
	v.ctx = ctx
	for _, p := range v.byID {
		v.watch(p)
	}
	v.mu.Unlock()
	<-ctx.Done()
	v.wg.Wait()
}

// watch begins asking a platform; the lock is held.
func (v *Inventory) watch(p *state) {
	if v.ctx == nil || v.ctx.Err() != nil {
		return
	}
	ctx, cancel := context.WithCancel(v.ctx)
	p.stop = cancel
	v.wg.Go(func() {
		defer cancel()
		for {
			v.refresh(ctx, p)
			if clock.Sleep(ctx, v.Clock, v.Every) != nil {
				return
			}
		}
	})
}

// refresh asks a platform once.
func (v *Inventory) refresh(ctx context.Context, p *state) {
	outer := ctx
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	v.mu.Lock()
	p.asked++
	mine := p.asked
	v.mu.Unlock()
	inv, err := p.driver.Inventory(ctx)
	if outer.Err() != nil {
		return // the service is stopping; that says nothing of the platform
	}
	if ctx.Err() != nil && err != nil {
		err = fmt.Errorf("%w: no answer in time", platform.ErrUnreachable)
	}
	var found *seen
	if err == nil {
		found = index(inv)
	}
	v.mu.Lock()
	if mine < p.told {
		v.mu.Unlock()
		return // somebody who asked later was answered sooner
	}
	p.told = mine
	was, known := p.err, !p.seenAt.IsZero()
	p.err = err
	if found != nil {
		p.seen, p.seenAt = found, v.Clock.Now()
	}
	v.mu.Unlock()
	if (was == nil) == (err == nil) && known {
		return
	}
	v.Hub.Send(events.Event{Type: "platform", ID: p.rec.ID})
	if err != nil && was == nil {
		v.Trail.Note(ctx, actor.System(), object(p), "Platform %s cannot be used: %v", p.rec.Name, err)
	} else if err == nil && was != nil {
		v.Trail.Note(ctx, actor.System(), object(p), "Platform %s answers again", p.rec.Name)
	}
}

func object(p *state) audit.Object {
	return audit.Object{Kind: "platform", Name: p.rec.Name, ID: p.rec.ID}
}

// Platform is a platform at one moment.
type Platform struct {
	ID, Name, Kind, Address string
	Driver                  platform.Driver
	Up                      bool
	Err                     error     // of the last attempt
	SeenAt                  time.Time // when it last answered; zero if it never did
	seen                    *seen
}

// Seen tells whether it has ever answered.
func (p Platform) Seen() bool { return p.seen != nil }

// Held is what it was last seen to hold.
func (p Platform) Held() platform.Inventory {
	if p.seen == nil {
		return platform.Inventory{}
	}
	return p.seen.Inventory
}

// Machine finds a machine by its ID on the platform.
func (p Platform) Machine(id string) (platform.Machine, bool) {
	if p.seen == nil {
		return platform.Machine{}, false
	}
	i, ok := p.seen.byID[id]
	if !ok {
		return platform.Machine{}, false
	}
	return p.seen.Machines[i], true
}

// Lander is the driver as one that machines can be started with, if it can.
func (p Platform) Lander() (platform.Lander, bool) {
	l, ok := p.Driver.(platform.Lander)
	return l, ok
}

func (s *state) now() Platform {
	return Platform{ID: s.rec.ID, Name: s.rec.Name, Kind: s.rec.Kind, Address: s.rec.Address, Driver: s.driver, Up: s.err == nil && !s.seenAt.IsZero(), Err: s.err, SeenAt: s.seenAt, seen: s.seen}
}

// Get gives a platform by ID.
func (v *Inventory) Get(id string) (Platform, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p, ok := v.byID[id]
	if !ok {
		return Platform{}, false
	}
	return p.now(), true
}

// All lists the platforms by name.
func (v *Inventory) All() []Platform {
	v.mu.Lock()
	out := make([]Platform, 0, len(v.byID))
	for _, p := range v.byID {
		out = append(out, p.now())
	}
	v.mu.Unlock()
	slices.SortFunc(out, func(a, b Platform) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Find resolves an ID or a name.
func (v *Inventory) Find(text string) (Platform, error) {
	p, err := v.find(text)
	if err != nil {
		return Platform{}, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return p.now(), nil
}

func (v *Inventory) find(text string) (*state, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	var names []string
	for _, p := range v.byID {
		if p.rec.ID == text || strings.EqualFold(p.rec.Name, text) {
			return p, nil
		}
		names = append(names, p.rec.Name)
	}
	p := problem.NotFound("platform", text)
	if near, ok := words.Nearest(text, names); ok {
		p.Detail += fmt.Sprintf(" Did you mean %q?", near)
	}
	return nil, p
}

// MachineID joins platform and the platform's own ID: machines of two platforms may
// have the same.
func MachineID(platformID, id string) string { return platformID + "/" + id }

// Machine resolves what an administrator typed: an ID, or a name that only one
// machine has. The error says what may have been meant.
func (v *Inventory) Machine(text string) (Platform, platform.Machine, error) {
	var p Platform
	var found platform.Machine
	n := 0
	all := v.All()
	for _, x := range all {
		if id, ok := strings.CutPrefix(text, x.ID+"/"); ok {
			if m, ok := x.Machine(id); ok {
				return x, m, nil
			}
		}
		if x.seen == nil {
			continue
		}
		for _, i := range x.seen.byName[strings.ToLower(text)] {
			p, found = x, x.seen.Machines[i]
			n++
		}
	}
	switch n {
	case 1:
		return p, found, nil
	case 0:
		var names []string
		for _, x := range all {
			for _, m := range x.Held().Machines {
				names = append(names, m.Name)
			}
		}
		if near, ok := words.Nearest(text, names); ok {
			return p, found, fmt.Errorf("no platform of this site has it; did you mean %q?", near)
		}
		return p, found, errors.New("no platform of this site has it")
	}
	return p, found, fmt.Errorf("%d machines have this name; give the ID", n)
}

func (v *Inventory) driverOf(in api.NewPlatform) (platform.Driver, error) {
	if why := group.CheckName(in.Name, maxName); why != "" {
		return nil, problem.Invalid("name", "%s", why)
	}
	if in.Kind == "lab" && in.Libvirt != nil {
		return nil, problem.Invalid("libvirt", "A lab has no libvirt settings; leave them out, or use the kind libvirt.")
	}
	if in.Libvirt != nil && in.Libvirt.FreezeSeconds != nil && *in.Libvirt.FreezeSeconds == 0 {
		return nil, problem.Invalid("libvirt.freezeSeconds", "A guest agent gets 1 to 60 seconds.")
	}
	return v.newDriver(in.Name, in.Kind, in.Address, value(in.User), value(in.Password), settingsOf(in.Libvirt))
}

func testView(steps []platform.Step) api.ConnectionTest {
	t := api.ConnectionTest{Ok: true, Steps: []api.TestStep{}}
	for _, x := range steps {
		t.Ok = t.Ok && x.OK
		t.Steps = append(t.Steps, api.TestStep{Name: x.Name, Ok: x.OK, Tried: x.Tried, Note: x.Note, Mend: x.Mend})
	}
	return t
}

// Test tries a connection without keeping it.
func (v *Inventory) Test(ctx context.Context, in api.NewPlatform) (api.ConnectionTest, error) {
	d, err := v.driverOf(in)
	if err != nil {
		return api.ConnectionTest{}, err
	}
	defer d.Close()
	return testView(d.Check(ctx)), nil
}

// Retest tries a platform's connection.
func (v *Inventory) Retest(ctx context.Context, id string) (api.ConnectionTest, error) {
	p, err := v.find(id)
	if err != nil {
		return api.ConnectionTest{}, err
	}
	steps := p.driver.Check(ctx)
	v.refresh(ctx, p)
	return testView(steps), nil
}

// Refresh asks a platform now, after something was changed there.
func (v *Inventory) Refresh(ctx context.Context, id string) {
	v.mu.Lock()
	p := v.byID[id]
	v.mu.Unlock()
	if p != nil {
		v.refresh(ctx, p)
	}
}

// Create adds a platform after testing it.
func (v *Inventory) Create(ctx context.Context, who actor.Actor, in api.NewPlatform) (api.Platform, error) {
	in.Name = strings.TrimSpace(in.Name)
	d, err := v.driverOf(in)
	if err != nil {
		return api.Platform{}, err
	}
	kept := false
	defer func() {
		if !kept {
			d.Close()
		}
	}()
	taken := problem.Invalid("name", "There is a platform %q already; choose another name.", in.Name)
	if _, err := v.find(in.Name); err == nil {
		return api.Platform{}, taken
	}
	for _, step := range d.Check(ctx) {
		if step.OK {
			continue
		}
		field := "address"
		switch {
		case step.Name == "credentials":
			field = "password"
		case step.Name == "certificates":
			field = "libvirt.certificates"
		case step.Name == "storage" && in.Libvirt != nil && value(in.Libvirt.Scratch) != "":
			field = "libvirt.scratch"
		}
		return api.Platform{}, problem.Invalid(field, "The connection fails at the step %q: %s %s", step.Name, step.Note, step.Mend)
	}
	p := &state{driver: d, set: settingsOf(in.Libvirt), rec: records.Platform{ID: uuid.NewString(), Name: in.Name, Kind: in.Kind, Address: in.Address,
		Username: value(in.User), Password: v.secrets.Seal(value(in.Password)), CreatedAt: v.Clock.Now()}}
	if p.rec.Settings, err = json.Marshal(p.set); err != nil {
		return api.Platform{}, err
	}
	err = v.Trail.Do(ctx, who, object(p), func(ctx context.Context) error { return v.DB.AddPlatform(ctx, p.rec) }, "%s added the platform %s (%s)", who, p.rec.Name, p.rec.Address)
	if err != nil {
		if records.Taken(err, records.PlatformNameUsed) {
			return api.Platform{}, taken
		}
		return api.Platform{}, err
	}
	kept = true
	v.refresh(ctx, p)
	v.mu.Lock()
	v.byID[p.rec.ID] = p
	v.watch(p)
	view := platformView(p)
	v.mu.Unlock()
	return view, nil
}

// Delete removes a platform that nothing uses.
func (v *Inventory) Delete(ctx context.Context, who actor.Actor, id string) error {
	p, err := v.find(id)
	if err != nil {
		return err
	}
	for _, g := range v.Groups.All() {
		if g.Direction == directory.Out && g.Spec.Platform == p.rec.ID {
			return problem.Conflict("Group %s protects machines of this platform. Delete the group first.", g.Spec.Name)
		}
	}
	for _, f := range v.used {
		if err := f(p.rec.ID); err != nil {
			return err
		}
	}
	err = v.Trail.Do(ctx, who, object(p), func(ctx context.Context) error { return v.DB.DeletePlatform(ctx, p.rec.ID) }, "%s removed the platform %s", who, p.rec.Name)
	if err != nil {
		return err
	}
	v.mu.Lock()
	delete(v.byID, p.rec.ID)
	maps.DeleteFunc(v.left, func(_ string, x records.LeftOut) bool { return x.Platform == p.rec.ID })
	if p.stop != nil {
		p.stop()
	}
	v.mu.Unlock()
	p.driver.Close()
	return nil
}

// Host is the host part of a URL, or of HOST:PORT; empty if a URL names none, which
// is this machine itself.
func Host(address string) string {
	if strings.Contains(address, "://") {
		u, err := url.Parse(address)
		if err != nil {
			return address
		}
		return u.Hostname()
	}
	h, _, err := net.SplitHostPort(address)
	if err != nil {
		return address
	}
	return h
}

// ShortName tells a host name without a domain, which may not resolve elsewhere.
func ShortName(host string) bool {
	return host != "" && host != "localhost" && net.ParseIP(host) == nil && !strings.Contains(host, ".")
}

// DatastoresOf lists the names of the datastores that the disks of machines are on, as the
// platform was last seen, in order.
func (p Platform) DatastoresOf(machines []group.Machine) []string {
	var out []string
	for _, m := range machines {
		now, _ := p.Machine(m.ID)
		for _, d := range now.Disks {
			if d.Datastore != "" && !slices.Contains(out, d.Datastore) {
				out = append(out, d.Datastore)
			}
		}
	}
	slices.Sort(out)
	return out
}

package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kestrel/internal/access"
	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/httpapi"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/overview"
	"kestrel/internal/protection"
	"kestrel/internal/records"
	"kestrel/internal/site"
)

func newPassword() string {
	b := make([]byte, 9)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return base64.RawURLEncoding.EncodeToString(b)
}

// plan is a protection group of the story.
type plan struct {
	home, to   string
	name       string
	machines   []string
	rpo, every string
	keep       string
	paused     bool // after its first copy
	quiesce    []string
	rule       string   // by which more machines join
	order      int      // of the rule
	without    []string // disks that are left out
	quiet      string   // when no cycle starts by itself
	tier       string   // that it follows
	reason     string   // why its cadence differs from the tier
	tags       string   // words
}

func (p plan) tagList() *[]string {
	tags := strings.Fields(p.tags)
	return &tags
}

// keepLong is that of what matters most: what is older is in a long-term store.
const keepLong = "all 30min, 15min 90min, 30min 30d long-term, monthly 2y long-term"

const keepUsual = "all 2h, 15min 6h, 1h 2d"

// pastPlans were made hours ago.
func pastPlans() []plan {
	return []plan{
		{home: "Norhaven", to: "Eastmole", name: "Vessel tracking", rule: "folder /harbour/vessels", order: 10, tier: "Harbour-1", without: []string{"track-tsdb:scratch"}, rpo: "10min", every: "4min", keep: keepUsual, tags: "sea gold"},
		{home: "Norhaven", to: "Skarholt", name: "Timetable", tier: "Public-2", reason: "its pages are made anew every twelve minutes", machines: []string{"time-api", "time-web-1", "time-web-2"}, quiesce: []string{"time-api", "time-web-1", "time-web-2"}, rpo: "30min", every: "12min", keep: keepUsual, tags: "passengers"},
		{home: "Norhaven", to: "Eastmole", name: "Fuel ledger", machines: []string{"fuel-db"}, rpo: "6h", every: "30min", keep: keepUsual, paused: true, tags: "office"},
		{home: "Eastmole", to: "Norhaven", name: "Harbour gates", machines: []string{"gate-ctl", "gate-db"}, rpo: "15min", every: "6min", quiet: "sun 02:00-02:10", keep: keepUsual, tags: "harbour gold"},
		{home: "Eastmole", to: "Norhaven", name: "Freight desk", tier: "Quay", machines: []string{"freight-db", "freight-app"}, rpo: "30min", every: "10min", keep: keepUsual, tags: "office"},
		{home: "Skarholt", to: "Norhaven", name: "Radio archive", machines: []string{"radio-arch", "beacon-log"}, rpo: "4h", every: "daily at 00:20, 02:20, 04:20, 06:20, 08:20, 10:20, 12:20, 14:20, 16:20, 18:20, 20:20, 22:20", keep: "all 6h, 1h 2d, 1d 14d", tags: "sea"},
	}
}

// crewRota is a day old and close to its target when the demo starts.
func crewRota() plan {
	return plan{home: "Norhaven", to: "Skarholt", name: "Crew rota", machines: []string{"rota-db", "rota-app"}, rpo: "6h", every: "5h45min", keep: "all 2d, 1d 14d", tags: "office"}
}

// presentPlans are made when the demo starts. Ticketing's data lies on an old
// array that reads more slowly than it changes, so that it goes over its
// target; the cameras' first copy takes a while.
func presentPlans() []plan {
	return []plan{
		{home: "Norhaven", to: "Eastmole", name: "Ticketing", machines: []string{"tick-db", "tick-app", "tick-web"}, rpo: "15s", every: "5s", keep: "all 30min, 5min 6h", tags: "passengers gold"},
		{home: "Norhaven", to: "Eastmole", name: "Pier cameras", machines: []string{"cam-rec-1", "cam-rec-2"}, rpo: "1h", every: "30min", keep: keepUsual, tags: "harbour"},
	}
}

func (p plan) promise() (api.Promise, error) {
	rpo, err1 := span.Parse(p.rpo)
	every, err2 := cadence.Parse(p.every, "")
	keep, err3 := ladder.Parse(p.keep)
	out := api.Promise{RpoTargetSeconds: int64(rpo / time.Second), CadenceSeconds: int64(every.Every / time.Second)}
	if !every.Calendar.IsZero() {
		out.Cadence = &p.every
	}
	if p.quiet != "" {
		out.Quiet = &p.quiet
	}
	for _, r := range keep {
		out.Keep = append(out.Keep, protection.RungView(r))
	}
	return out, errors.Join(err1, err2, err3)
}

// newGroup is what is asked for to make the group.
func (p plan) newGroup() (api.NewGroup, error) {
	promise, err := p.promise()
	in := api.NewGroup{Name: p.name, Tags: p.tagList(), Machines: append([]string{}, p.machines...), Link: p.to, Promise: &promise}
	if p.quiesce != nil {
		in.Quiesce = &[]api.QuiesceOf{}
		for _, m := range p.quiesce {
			*in.Quiesce = append(*in.Quiesce, api.QuiesceOf{Machine: m, Mode: "try"})
		}
	}
	if p.tier != "" {
		in.Tier, in.Promise = &p.tier, nil
	}
	if p.reason != "" {
		in.Reason, in.PromiseText = &p.reason, &api.PromiseText{Cadence: &p.every}
	}
	if p.rule != "" {
		in.Rule = &api.MemberRule{Match: p.rule, Order: p.order}
	}
	if p.without != nil {
		in.WithoutDisks = &p.without
	}
	return in, err
}

// tierPlans are the promises that have names, by site.
func tierPlans() map[string][]api.NewTier {
	text := func(rpo, every, keep string) *api.PromiseText {
		return &api.PromiseText{RpoTarget: &rpo, Cadence: &every, Keep: &keep}
	}
	return map[string][]api.NewTier{
		"Norhaven": {
			{Name: "Harbour-1", PromiseText: text("10min", "4min", keepLong), RtoTargetSeconds: new(int64(3600)), Priority: new("high"), DrillEverySeconds: new(int64(7 * 86400))},
			{Name: "Public-2", PromiseText: text("30min", "10min", keepUsual), RtoTargetSeconds: new(int64(4 * 3600)), DrillEverySeconds: new(int64(180 * 86400))},
		},
		"Eastmole": {{Name: "Quay", PromiseText: text("30min", "10min", keepUsual), RtoTargetSeconds: new(int64(8 * 3600))}},
	}
}

// leaveOut notes the machines that the ferry company does without.
func (d *demo) leaveOut(ctx context.Context) error {
	return d.post(ctx, "Norhaven", "/machines/leave-out", api.LeaveOut{Machines: []string{"berth-kiosk"}, Reason: "made anew from its image every night"})
}

// The past is told by running the real service and labs: when everything was paired and
// copied for the first time, and through the last hours, on a clock that runs fast (slower
// while copies are made, so that they do not seem to take hours). What was between is stepped
// through by the scheduler's decisions alone.
const (
	pastFirst = 14*span.Day + 2*time.Hour // before now, where the story begins
	pastRota  = 5*time.Hour + 15*time.Minute
	pastHours = 3 * time.Hour // from where the service runs through it
	speedCopy = 20
	speedRun  = 330
)

// tellPast runs the sites through what was before now.
func (d *demo) tellPast(ctx context.Context) error {
	d.say("first start: making the labs' disks, and two weeks of history; a little more than a minute")
	now := time.Now()
	var copied time.Time
	err := d.rehearse(ctx, now.Add(-pastFirst), func(ctx context.Context, clk *clock.Fast, sites map[string]*site.Site) error {
		if err := d.openSites(ctx, clk, sites); err != nil {
			return err
		}
		d.say("the sites are paired; copying for the first time")
		clk.SetSpeed(speedCopy)
		for at, all := range tierPlans() {
			for _, t := range all {
				if _, err := sites[at].Tiers.Make(ctx, d.person(), t); err != nil {
					return fmt.Errorf("tier %s: %w", t.Name, err)
				}
			}
		}
		if err := d.makeBerths(ctx, sites); err != nil {
			return err
		}
		if err := d.makeGroups(ctx, sites, append([]plan{crewRota()}, pastPlans()...)); err != nil {
			return err
		}
		err := newer(ctx, sites, now.Add(-pastFirst), append([]plan{crewRota()}, pastPlans()...))
		copied = clk.Now()
		return err
	})
	if err != nil {
		return err
	}
	d.say("%d groups are copied; the days pass", len(pastPlans())+1)
	all := incidents(now)
	for _, to := range []time.Duration{pastRota, pastHours} {
		if err := d.passDays(ctx, copied, now.Add(-to), all); err != nil {
			return fmt.Errorf("the days: %w", err)
		}
		if to == pastHours {
			break
		}
		// The rota's newest point is of then.
		err := d.rehearse(ctx, now.Add(-to), func(ctx context.Context, clk *clock.Fast, sites map[string]*site.Site) error {
			clk.SetSpeed(speedCopy)
			err := d.takeUp(ctx, sites, now.Add(-to), append([]plan{crewRota()}, pastPlans()...))
			copied = clk.Now()
			return err
		})
		if err := errors.Join(err, d.forget(ctx, now.Add(-to))); err != nil {
			return err
		}
	}
	d.say("the sites run through the last %s on a fast clock", span.Format(pastHours))
	err = d.rehearse(ctx, now.Add(-pastHours), func(ctx context.Context, clk *clock.Fast, sites map[string]*site.Site) error {
		clk.SetSpeed(speedCopy)
		if err := d.takeUp(ctx, sites, now.Add(-pastHours), pastPlans()); err != nil {
			return err
		}
		clk.SetSpeed(speedRun)
		if _, err := sites["Norhaven"].Surveys.Start(ctx, d.person(), "Print and kiosks", []string{"print-queue", "berth-kiosk"}, 2*time.Hour); err != nil {
			return err
		}
		if err := settle(ctx, clk, now.Add(-40*time.Minute)); err != nil {
			return err
		}
		for _, p := range pastPlans() {
			if p.paused {
				if err := sites[p.home].Protection.Pause(ctx, d.person(), p.name, &api.PauseRequest{Reason: new("the array is being replaced")}); err != nil {
					return err
				}
			}
		}
		// What runs when the present is reached is cut off, and goes on there.
		return settle(ctx, clk, time.Now())
	})
	return errors.Join(err, d.forget(ctx, now.Add(-pastHours)))
}

// takeUp goes on where the days end: groups get a point at once.
func (d *demo) takeUp(ctx context.Context, sites map[string]*site.Site, at time.Time, plans []plan) error {
	for _, p := range plans {
		for try := 0; ; try++ {
			r, err := sites[p.home].Groups.Find(p.name)
			if err == nil {
				err = sites[p.home].Mover.Ask(r, false)
			}
			if err == nil {
				break
			}
			if try == 200 {
				return err
			}
			if err := clock.Sleep(ctx, clock.Wall{}, 50*time.Millisecond); err != nil {
				return err
			}
		}
	}
	return newer(ctx, sites, at, plans)
}

// forget takes out the alerts that were raised because the sites were not there for a moment,
// which is no part of the story.
func (d *demo) forget(ctx context.Context, at time.Time) error {
	for _, s := range d.sites {
		db, err := records.Open(ctx, s.db)
		if err != nil {
			return err
		}
		_, err = db.ExecContext(ctx, `DELETE FROM alerts WHERE raised_at >= $1 AND raised_at < $2 AND kind <> ALL($3)`, at, at.Add(10*time.Minute), []string{string(alert.NotReady)})
		if err := errors.Join(err, db.Close()); err != nil {
			return err
		}
	}
	return nil
}

// settle waits until the fast clock has come to an instant.
func settle(ctx context.Context, clk clock.Clock, until time.Time) error {
	return clock.Sleep(ctx, clk, until.Sub(clk.Now()))
}

// newer waits until groups have a point of after an instant, as every site sees it.
func newer(ctx context.Context, sites map[string]*site.Site, than time.Time, plans []plan) error {
	for {
		waiting := false
		for _, s := range sites {
			groups, _, err := s.Overview.List(overview.Filter{})
			if err != nil {
				return err
			}
			for _, g := range groups {
				waiting = waiting || slices.ContainsFunc(plans, func(p plan) bool { return p.name == g.Name }) && (g.NewestCaptureAt == nil || g.NewestCaptureAt.Before(than))
			}
		}
		if !waiting {
			return nil
		}
		if err := clock.Sleep(ctx, clock.Wall{}, 50*time.Millisecond); err != nil {
			return err
		}
	}
}

// rehearse runs labs and services in this process on a fast clock.
func (d *demo) rehearse(ctx context.Context, from time.Time, story func(context.Context, *clock.Fast, map[string]*site.Site) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	clk := clock.NewFast(from, 1)
	logFile, err := os.OpenFile(filepath.Join(d.State, "past.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = logFile.Close() }()
	log := slog.New(slog.NewJSONHandler(logFile, nil))
	g, gctx := errgroup.WithContext(ctx)
	sites := map[string]*site.Site{}
	var closers []io.Closer
	err = func() error {
		for _, s := range d.sites {
			l, err := d.rehearseLab(gctx, g, s, clk)
			if err != nil {
				return err
			}
			closers = append(closers, l)
		}
		for _, s := range d.sites {
			svc, err := site.New(gctx, site.Config{Name: s.name, StateDir: filepath.Join(s.dir, "site"), DatabaseURL: s.db, LinkListen: s.addr(portLink), NBDListen: s.addr(portNBD), StoreFloor: storeFloor,
				ConsoleURL: s.url(), LongTerm: d.longTerm(s), Clock: clk, Log: log.With("site", s.name), Pulse: 15 * time.Second})
			if err != nil {
				return err
			}
			closers = append(closers, svc)
			sites[s.name] = svc
			g.Go(func() error { return svc.Run(gctx) })
		}
		return story(gctx, clk, sites)
	}()
	cancel()
	err = errors.Join(err, g.Wait())
	for i := len(closers) - 1; i >= 0; i-- {
		err = errors.Join(err, closers[i].Close())
	}
	return err
}

func (d *demo) rehearseLab(ctx context.Context, g *errgroup.Group, s place, clk clock.Clock) (*lab.Lab, error) {
	sc, err := lab.LoadScenario(s.scenario())
	if err != nil {
		return nil, err
	}
	nl, err := net.Listen("tcp", s.addr(portLabNBD))
	if err != nil {
		return nil, err
	}
	hl, err := net.Listen("tcp", s.addr(portLab))
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(s.dir, "lab")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := lab.Open(dir, sc, clk, nl.Addr().String())
	if err != nil {
		return nil, err
	}
	g.Go(func() error { return l.Run(ctx, 20*time.Second) })
	g.Go(func() error { return nbd.Serve(ctx, nl, l) })
	g.Go(func() error { return httpapi.Serve(ctx, hl, l.Handler("lab", d.secrets.LabPassword), "", "") })
	return l, nil
}

// fromDemo is where what the story does comes from, in the trail.
const fromDemo = "127.0.0.1"

// person is who does what the story tells.
func (d *demo) person() actor.Actor {
	return actor.Actor{Kind: actor.Person, Name: d.secrets.User, Role: actor.Administrator, From: fromDemo}
}

// openSites makes the administrators, adds the platforms and pairs the sites,
// as people would.
func (d *demo) openSites(ctx context.Context, clk clock.Clock, sites map[string]*site.Site) error {
	profiles := map[string]any{}
	for _, s := range d.sites {
		svc := sites[s.name]
		db, err := records.Open(ctx, s.db)
		if err != nil {
			return err
		}
		link, err := access.WelcomeLink(ctx, db, clk.Now(), s.url())
		err = errors.Join(err, db.Close())
		if err != nil {
			return err
		}
		who, _, err := svc.Access.Welcome(ctx, api.Welcome{Token: link[len(s.url()+"/welcome#"):], Name: d.secrets.User, Password: d.secrets.Password}, fromDemo)
		if err != nil {
			return err
		}
		t, err := svc.Access.CreateToken(ctx, who, api.NewToken{Name: "demo command line", Days: 365}, "")
		if err != nil {
			return err
		}
		d.secrets.Tokens[s.name] = t.Secret
		profiles[s.scenario()] = map[string]string{"url": s.url(), "token": t.Secret, "site": s.name, "user": d.secrets.User}
		if _, err := svc.Inventory.Create(ctx, d.person(), api.NewPlatform{Name: s.scenario() + "-lab", Kind: "lab", Address: "http://" + s.addr(portLab), User: new("lab"), Password: new(d.secrets.LabPassword)}); err != nil {
			return err
		}
	}
	for _, pair := range [][2]string{{"Norhaven", "Eastmole"}, {"Norhaven", "Skarholt"}} {
		inv, err := sites[pair[0]].Peering.Invite(ctx, d.person(), api.NewInvitation{ForSite: &pair[1]})
		if err != nil {
			return err
		}
		if _, err := sites[pair[1]].Peering.Accept(ctx, d.person(), api.AcceptInvitation{Invitation: inv.Text}); err != nil {
			return err
		}
	}
	b, err := json.MarshalIndent(map[string]any{"current": "norhaven", "profiles": profiles}, "", "  ")
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(filepath.Join(d.State, "profiles.json"), b, 0o600), d.saveSecrets())
}

func (d *demo) makeGroups(ctx context.Context, sites map[string]*site.Site, plans []plan) error {
	for _, p := range plans {
		in, err := p.newGroup()
		if err != nil {
			return err
		}
		// A platform or a link that has just come up may not be seen yet.
		for try := 0; ; try++ {
			_, err = sites[p.home].Protection.Create(ctx, d.person(), in)
			if err == nil || try == 100 {
				break
			}
			if err := clock.Sleep(ctx, clock.Wall{}, 50*time.Millisecond); err != nil {
				return err
			}
		}
		if err != nil {
			return fmt.Errorf("group %s: %w", p.name, err)
		}
	}
	return nil
}

// tellPresent makes the groups that are busy when the demo opens, through the
// API like anybody else.
func (d *demo) tellPresent(ctx context.Context) error {
	for _, p := range presentPlans() {
		d.say("%s: making the group %s", p.home, p.name)
		if err := d.makeGroup(ctx, p); err != nil {
			return fmt.Errorf("group %s: %w", p.name, err)
		}
	}
	if err := d.putBerth(ctx, "Norhaven", "Freight desk", freightBerth()); err != nil {
		return err
	}
	if err := d.putBerth(ctx, "Norhaven", "Ticketing", ticketingBerth()); err != nil {
		return err
	}
	// One recovery is tried as everybody does, and another is overdue.
	if err := d.post(ctx, "Norhaven", "/groups/"+url.PathEscape("Freight desk")+"/drills", api.NewDrill{Once: new(true)}); err != nil {
		return err
	}
	return d.leaveOut(ctx)
}

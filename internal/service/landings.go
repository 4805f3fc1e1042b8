package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// landing is a machine made from a point of this site. A goroutine of its own
// drives it from state to state until it is local or gone.
type landing struct {
	rec    records.Landing
	detail landingDetail
	share  *share // what its disks read from; nil once they are local
	stop   context.CancelFunc
	done   chan struct{}

	copied   int64 // bytes that were local when copying was first seen
	copiedAt time.Time
}

// landingDetail is what its record holds beside its columns.
type landingDetail struct {
	Name        string           `json:"name"`
	MachineName string           `json:"machineName"`
	GroupName   string           `json:"groupName"`
	PointNumber int64            `json:"pointNumber"`
	CaptureAt   time.Time        `json:"captureAt"`
	Datastore   string           `json:"datastore"`
	How         string           `json:"how"`
	NICs        []api.LandingNic `json:"nics"`
	FreshMACs   bool             `json:"freshMACs"`
	Limit       int64            `json:"limit"` // bytes a second a disk
	Note        string           `json:"note"`
	Crashes     int              `json:"crashes,omitempty"` // of its hypervisor process
	Error       string           `json:"error"`
	LocalBytes  int64            `json:"localBytes"`
	TotalBytes  int64            `json:"totalBytes"`
	Sizes       map[string]int64 `json:"sizes"` // of its disks
	StartedAt   *time.Time       `json:"startedAt,omitempty"`
	LocalAt     *time.Time       `json:"localAt,omitempty"`
}

// How a machine lands.
const (
	atOnce      = "at-once" // runs off the point, and is made local meanwhile
	copiedFirst = "copied"
)

// openLanding serves what a landing's disks read from.
func (s *Service) openLanding(l *landing) error {
	x, release, err := s.store.Use(l.rec.Point)
	if err != nil {
		return err
	}
	l.share = &share{rec: records.Share{ID: l.rec.ID, Point: l.rec.Point, Token: l.rec.Token}, seal: x, release: release}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range x.Machines {
		if m.ID != l.rec.Machine {
			continue
		}
		for _, d := range m.Disks {
			s.exports[exportName(l.rec.Token, m.Name, d.Key)] = &sharedDisk{share: l.share, disk: d}
		}
	}
	return nil
}

// closeLandingShare ends serving; the machine no longer needs the point.
func (s *Service) closeLandingShare(l *landing) {
	s.mu.Lock()
	sh := l.share
	l.share = nil
	for name, x := range s.exports {
		if x.share == sh {
			delete(s.exports, name)
		}
	}
	s.mu.Unlock()
	if sh != nil {
		sh.release()
	}
}
func (s *Service) loadLandings(ctx context.Context) error {
	recs, err := s.db.Landings(ctx)
	if err != nil {
		return err
	}
	for _, r := range recs {
		l := &landing{rec: r}
		if err := json.Unmarshal(r.Detail, &l.detail); err != nil {
			return fmt.Errorf("landing record %s: %w", r.ID, err)
		}
		if l.detail.LocalAt == nil && l.rec.State != string(api.LandingStateRemoving) {
			if err := s.openLanding(l); err != nil {
				l.detail.Error = "The point that it runs off is gone."
			}
		}
		s.landings[r.ID] = l
	}
	return nil
}

// startLandings goes on with what was under way when the service stopped.
func (s *Service) startLandings() {
	s.mu.Lock()
	var all []*landing
	for _, l := range s.landings {
		all = append(all, l)
	}
	s.mu.Unlock()
	for _, l := range all {
		s.drive(l)
	}
}

const (
	// localAfter is how long a guest that started at once is left alone before
	// its disks are made local: the copying would slow its start.
	localAfter   = 15 * time.Second
	landingPulse = 500 * time.Millisecond
	landingWait  = 10 * time.Second // the longest after a failure
)

// drive runs a landing until it is local or gone.
func (s *Service) drive(l *landing) {
	s.mu.Lock()
	if s.runCtx == nil || s.runCtx.Err() != nil || l.rec.State == string(api.LandingStateLocal) || l.rec.State == string(api.LandingStateGone) {
		s.mu.Unlock()
		return
	}
	ctx, cancel := context.WithCancel(s.runCtx)
	l.stop, l.done = cancel, make(chan struct{})
	done := l.done
	s.mu.Unlock()
	s.wg.Go(func() {
		defer close(done)
		defer cancel()
		failures := 0
		for {
			over, err := s.landingStep(ctx, l)
			if ctx.Err() != nil {
				return
			}
			wait := landingPulse
			if err != nil {
				failures++
				wait = min(landingWait, landingPulse<<min(failures, 5))
			} else {
				failures = 0
			}
			s.noteLanding(ctx, l, err)
			if over {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-s.clk.After(wait):
			}
		}
	})
}

// noteLanding saves a landing after a step and tells clients if it changed.
func (s *Service) noteLanding(ctx context.Context, l *landing, err error) {
	s.mu.Lock()
	text := ""
	if err != nil {
		text = sentence(err)
	}
	fresh := text != l.detail.Error && text != ""
	l.detail.Error = text
	before := string(l.rec.Detail)
	l.rec.Detail = mustJSON(l.detail)
	rec := l.rec
	changed := before != string(rec.Detail)
	s.mu.Unlock()
	if !changed {
		return
	}
	if fresh {
		s.note(ctx, "kestrel", "landing", l.detail.Name, "%s: %s", l.detail.Name, text)
	}
	if err := s.db.SaveLanding(context.WithoutCancel(ctx), rec); err != nil && !errors.Is(err, records.ErrNotFound) {
		s.log.Error("save landing", "machine", l.detail.Name, "err", err)
	}
	s.hub.send(Event{Type: "landing", ID: rec.ID})
}
func (s *Service) lander(l *landing) (platform.Lander, error) {
	s.mu.Lock()
	p := s.platforms[l.rec.Platform]
	s.mu.Unlock()
	if p == nil {
		return nil, problem.NotFound("platform", l.rec.Platform)
	}
	d, ok := p.driver.(platform.Lander)
	if !ok {
		return nil, fmt.Errorf("platform %s cannot be used", p.rec.Name)
	}
	return d, nil
}

// crashesBorne is how often a machine is started again whose hypervisor process
// has crashed before it was local.
const crashesBorne = 3

// landingStep does what is next. It reports whether nothing is left to do.
func (s *Service) landingStep(ctx context.Context, l *landing) (over bool, err error) {
	d, err := s.lander(l)
	if err != nil {
		return false, err
	}
	s.mu.Lock()
	state := l.rec.State
	s.mu.Unlock()
	switch state {
	case string(api.LandingStatePreparing):
		return false, s.prepareLanding(ctx, d, l)
	case string(api.LandingStateRemoving):
		return true, s.finishRemoval(ctx, d, l) // a restart came between
	}
	now, err := d.Landed(ctx, l.rec.ID)
	if errors.Is(err, platform.ErrGone) {
		s.setLanding(l, string(api.LandingStateGone), "It was removed on the platform.")
		s.closeLandingShare(l)
		return true, nil
	}
	if err != nil {
		return false, err
	}
	local, idle := s.countLocal(l, now)
	switch {
	case local && state == string(api.LandingStateCopying):
		if err := d.ResumeLanded(ctx, l.rec.ID); err != nil {
			return false, err
		}
		fallthrough
	case local:
		s.setLanding(l, string(api.LandingStateLocal), "")
		s.mu.Lock()
		at := s.clk.Now().UTC()
		l.detail.LocalAt = &at
		if l.detail.StartedAt == nil {
			l.detail.StartedAt = &at
		}
		s.mu.Unlock()
		s.closeLandingShare(l)
		s.note(ctx, "kestrel", "landing", l.detail.Name, "%s is local: it needs the point no longer", l.detail.Name)
		return true, nil
	case now.Crashed && l.detail.Crashes < crashesBorne:
		// A machine that somebody waits for is not left lying because of what is
		// no fault of its own. Its disks are as after a power cut.
		s.mu.Lock()
		l.detail.Crashes++
		n := l.detail.Crashes
		s.mu.Unlock()
		s.setLanding(l, state, fmt.Sprintf("Its hypervisor process has crashed, and it was started again (%d).", n))
		s.note(ctx, "kestrel", "landing", l.detail.Name, "%s: its hypervisor process has crashed while its disks were made local; it was started again", l.detail.Name)
		return false, d.StartLanded(ctx, l.rec.ID, state == string(api.LandingStateCopying))
	case now.Power == platform.PowerOff:
		s.setLanding(l, string(api.LandingStateOff), "It is off, and its disks still read from the point. It is made local when it runs.")
		return false, nil
	case now.Starved:
		// It waited for an export: the service was away, or the store was.
		s.setLanding(l, l.rec.State, "Its disks could not be read for a moment; the guest was held meanwhile.")
		return false, d.ResumeLanded(ctx, l.rec.ID)
	case state == string(api.LandingStateOff):
		s.setLanding(l, string(api.LandingStateRunning), "")
	}
	if at := l.detail.StartedAt; idle && (at == nil || s.clk.Now().Sub(*at) >= localAfter) {
		return false, d.MakeLocal(ctx, l.rec.ID, l.detail.Limit)
	}
	return false, nil
}
func (s *Service) setLanding(l *landing, state, note string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l.rec.State, l.detail.Note = state, note
}

// countLocal notes how much is local; idle means that some disk is not, and
// nothing copies it.
func (s *Service) countLocal(l *landing, now platform.Landed) (local, idle bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	local = true
	busy := false
	var done, total int64
	for _, k := range now.Disks {
		local = local && k.Local
		idle, busy = idle || !k.Local && !k.Busy, busy || k.Busy
		size := l.detail.Sizes[k.Key]
		total += size
		switch {
		case k.Local:
			done += size
		case k.Total > 0:
			done += int64(float64(size) * float64(k.Done) / float64(k.Total))
		}
	}
	l.detail.LocalBytes, l.detail.TotalBytes = done, total
	if l.copiedAt.IsZero() && busy {
		l.copied, l.copiedAt = done, s.clk.Now()
	}
	return local, idle
}

// prepareLanding makes the machine and starts it.
func (s *Service) prepareLanding(ctx context.Context, d platform.Lander, l *landing) error {
	host, port, err := s.nbdAddress()
	if err != nil {
		return err
	}
	s.mu.Lock()
	sh := l.share
	s.mu.Unlock()
	if sh == nil {
		return errors.New("the point that it is made from is gone")
	}
	r := platform.Landing{ID: l.rec.ID, Name: l.detail.Name, Datastore: l.detail.Datastore, FreshMACs: l.detail.FreshMACs}
	for _, m := range sh.seal.Machines {
		if m.ID != l.rec.Machine {
			continue
		}
		r.Config = m.Config
		for _, k := range m.Disks {
			r.Disks = append(r.Disks, platform.LandingDisk{Key: k.Key, Size: k.Size, Host: host, Port: port, Export: exportName(l.rec.Token, m.Name, k.Key), TLS: s.nbdTLS != nil})
		}
	}
	for _, n := range l.detail.NICs {
		r.NICs = append(r.NICs, platform.LandingNIC{MAC: n.Mac, Network: n.Network})
	}
	if err := d.Land(ctx, r); err != nil {
		return err
	}
	if err := d.StartLanded(ctx, l.rec.ID, l.detail.How == copiedFirst); err != nil {
		return err
	}
	if l.detail.How == copiedFirst {
		s.setLanding(l, string(api.LandingStateCopying), "")
	} else {
		s.setLanding(l, string(api.LandingStateRunning), "")
		s.mu.Lock()
		at := s.clk.Now().UTC()
		l.detail.StartedAt = &at
		s.mu.Unlock()
	}
	return nil
}

// nbdAddress is where hypervisors reach our exports.
func (s *Service) nbdAddress() (string, int, error) {
	address := s.cfg.NBDAddress
	if address == "" {
		address = s.nbdL.Addr().String()
	}
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return "", 0, fmt.Errorf("the NBD address %q: %w", address, err)
	}
	port, err := strconv.Atoi(text)
	return host, port, err
}

// landingView is a landing as the contract shows it; the lock is held.
func (s *Service) landingView(l *landing) api.Landing {
	x := l.detail
	v := api.Landing{ID: l.rec.ID, Point: l.rec.Point, PointNumber: x.PointNumber, GroupName: x.GroupName, CaptureAt: x.CaptureAt, Machine: x.MachineName, Name: x.Name, Platform: l.rec.Platform,
		Datastore: x.Datastore, How: api.LandingHow(x.How), State: api.LandingState(l.rec.State), Note: strOrNil(x.Note), Error: strOrNil(x.Error), Nics: x.NICs, LocalBytes: x.LocalBytes, TotalBytes: x.TotalBytes,
		StartedAt: x.StartedAt, LocalAt: x.LocalAt, CreatedAt: l.rec.CreatedAt, CreatedBy: l.rec.CreatedBy}
	if v.Nics == nil {
		v.Nics = []api.LandingNic{}
	}
	if p := s.platforms[l.rec.Platform]; p != nil {
		v.PlatformName = p.rec.Name
	}
	if d := s.clk.Now().Sub(l.copiedAt); x.LocalAt == nil && !l.copiedAt.IsZero() && d > time.Second && x.LocalBytes > l.copied {
		rate := float64(x.LocalBytes-l.copied) / d.Seconds()
		v.BytesPerSecond = ptr(int64(rate))
		v.FinishAt = ptr(s.clk.Now().Add(time.Duration(float64(x.TotalBytes-x.LocalBytes) / rate * float64(time.Second))).UTC())
	}
	return v
}

// Landings lists all, newest first.
func (s *Service) Landings() []api.Landing {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Landing{}
	for _, l := range s.landings {
		out = append(out, s.landingView(l))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].CreatedAt.After(out[j].CreatedAt) })
	return out
}

// findLanding resolves an ID or the name of a landed machine.
func (s *Service) findLanding(id string) (*landing, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var found *landing
	for _, l := range s.landings {
		switch {
		case l.rec.ID == id:
			return l, nil
		case strings.EqualFold(l.detail.Name, id) && found != nil:
			return nil, problem.Conflict("More than one machine %q has landed; give the ID.", id)
		case strings.EqualFold(l.detail.Name, id):
			found = l
		}
	}
	if found == nil {
		return nil, problem.NotFound("landing", id)
	}
	return found, nil
}

// Landing gives one.
func (s *Service) Landing(id string) (api.Landing, error) {
	l, err := s.findLanding(id)
	if err != nil {
		return api.Landing{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.landingView(l), nil
}

// DeleteLanding stops a landed machine and removes all that was made for it.
func (s *Service) DeleteLanding(ctx context.Context, who, id string) error {
	l, err := s.findLanding(id)
	if err != nil {
		return err
	}
	d, err := s.lander(l)
	if err != nil {
		return err
	}
	s.mu.Lock()
	for _, g := range s.groups {
		if g.rec.Direction == "out" && slices.ContainsFunc(g.set.Machines, func(m settingsMachine) bool { return m.ID == l.rec.ID }) {
			s.mu.Unlock()
			return problem.Conflict("%s is protected by the group %s. Take it out there first.", l.detail.Name, g.rec.Name)
		}
	}
	stop, done := l.stop, l.done
	state := l.rec.State
	l.rec.State = string(api.LandingStateRemoving)
	rec := l.rec
	s.mu.Unlock()
	if stop != nil {
		stop()
		<-done
	}
	if err := s.db.SaveLanding(ctx, rec); err != nil {
		return err
	}
	if err := s.finishRemoval(ctx, d, l); err != nil {
		s.setLanding(l, state, "")
		s.drive(l)
		return problem.Unreachable("%s could not be removed: %v", l.detail.Name, err)
	}
	s.mu.Lock()
	p := s.platforms[l.rec.Platform]
	s.mu.Unlock()
	s.note(ctx, who, "landing", l.detail.Name, "%s removed %s, made from point %d of %s", who, l.detail.Name, l.detail.PointNumber, l.detail.GroupName)
	if p != nil {
		s.refreshPlatform(ctx, p)
	}
	s.hub.send(Event{Type: "landing", ID: l.rec.ID})
	return nil
}
func (s *Service) finishRemoval(ctx context.Context, d platform.Lander, l *landing) error {
	if err := d.RemoveLanded(ctx, l.rec.ID); err != nil {
		return err
	}
	s.closeLandingShare(l)
	if err := s.db.DeleteLanding(ctx, l.rec.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.landings, l.rec.ID)
	return nil
}

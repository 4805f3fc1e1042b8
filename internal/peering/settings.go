package peering

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// settings is how what this site sends over a link is compressed and limited, and
// how much it takes from there. The other site decides for its own direction.
type settings struct {
	Compression string    `json:"compression,omitempty"` // empty is s2
	Pace        pace.Plan `json:"pace"`
	MaxGroups   int       `json:"maxGroups,omitempty"` // that come from there; 0 for the default
	Room        int64     `json:"room,omitempty"`      // bytes of points from there; 0 for no bound
}

// What a link may bring if nobody says otherwise, and what may be said.
const (
	defaultGroups = 500
	mostGroups    = 10_000
)

func (x settings) groups() int {
	if x.MaxGroups == 0 {
		return defaultGroups
	}
	return x.MaxGroups
}

const defaultCompression = "s2"

// encodings are the ways to compress, by name.
func encodings() map[string]points.Encoding {
	return map[string]points.Encoding{"s2": points.EncodingS2, "zstd": points.EncodingZstd, "off": points.EncodingRaw}
}

func (x settings) compression() string {
	if x.Compression == "" {
		return defaultCompression
	}
	return x.Compression
}

func (x settings) encoding() points.Encoding { return encodings()[x.compression()] }

// view enters the settings into a link as the contract shows it.
func (x settings) view(v *api.Link, now time.Time) {
	v.Compression, v.LimitBytesPerSecond, v.LimitNowBytesPerSecond = x.compression(), x.Pace.Rate, x.Pace.At(now.Local())
	v.MaxGroups, v.RoomBytes = x.groups(), x.Room
	v.Windows = []api.RateWindow{}
	for _, w := range x.Pace.Windows {
		v.Windows = append(v.Windows, api.RateWindow{Days: w.Days.String(), From: pace.FormatMinute(w.From), To: pace.FormatMinute(w.To), BytesPerSecond: w.Rate})
	}
}

// Edit changes how what this site sends over a link is compressed and limited, and
// how much it takes from there. It holds at once, also for cycles under way.
func (p *Peering) Edit(ctx context.Context, who actor.Actor, id string, in api.EditLink) (api.Link, error) {
	s, err := p.find(id)
	if err != nil {
		return api.Link{}, err
	}
	// One edit at a time: the next one starts from what this one left.
	s.editing.Lock()
	defer s.editing.Unlock()
	p.mu.Lock()
	set := s.set
	p.mu.Unlock()
	before := set.text()
	set, faults := set.edited(in)
	if len(faults) > 0 {
		return api.Link{}, problem.InvalidFields(faults...)
	}
	return p.saved(ctx, who, s, set, before)
}

// Check tells what is wrong with an edit of a link.
func (p *Peering) Check(id string, in api.EditLink) []problem.Field {
	s, err := p.find(id)
	if err != nil {
		return []problem.Field{{Field: "name", Message: err.Error()}}
	}
	p.mu.Lock()
	set := s.set
	p.mu.Unlock()
	_, faults := set.edited(in)
	return faults
}

// edited gives settings with what was named changed, and what is wrong with it.
func (x settings) edited(in api.EditLink) (set settings, _ []problem.Field) {
	set = x
	var faults []problem.Field
	if in.Compression != nil {
		if _, ok := encodings()[*in.Compression]; !ok {
			faults = append(faults, problem.Field{Field: "compression", Message: fmt.Sprintf("%q is no way to compress; choose s2, zstd or off.", *in.Compression)})
		}
		set.Compression = *in.Compression
	}
	if in.LimitBytesPerSecond != nil {
		set.Pace.Rate = *in.LimitBytesPerSecond
		if err := (pace.Plan{Rate: set.Pace.Rate}).Check(); err != nil {
			faults = append(faults, problem.Field{Field: "limitBytesPerSecond", Message: words.Upper(err.Error())})
		}
	}
	if in.Windows != nil {
		windows, err := windowsOf(*in.Windows)
		if err == nil {
			err = pace.Plan{Windows: windows}.Check()
		}
		if err != nil {
			faults = append(faults, problem.Field{Field: "windows", Message: words.Upper(err.Error())})
		}
		set.Pace.Windows = windows
	}
	if n := in.MaxGroups; n != nil {
		if *n < 1 || *n > mostGroups {
			faults = append(faults, problem.Field{Field: "maxGroups", Message: fmt.Sprintf("Take 1 to %d groups from there.", mostGroups)})
		}
		set.MaxGroups = *n
	}
	if n := in.RoomBytes; n != nil {
		if *n < 0 {
			faults = append(faults, problem.Field{Field: "roomBytes", Message: "Give 0 bytes, for no bound, or more."})
		}
		set.Room = *n
	}
	return set, faults
}

// saved keeps settings, which hold at once.
func (p *Peering) saved(ctx context.Context, who actor.Actor, s *state, set settings, before string) (api.Link, error) {
	b, err := json.Marshal(set)
	if err != nil {
		return api.Link{}, err
	}
	err = p.Trail.Do(ctx, who, object(s.rec), func(ctx context.Context) error { return p.DB.SaveLinkSettings(ctx, s.rec.ID, b) }, "%s changed the link to %s: %s → %s", who, s.rec.PeerName, before, set.text())
	if err != nil {
		return api.Link{}, err
	}
	p.mu.Lock()
	s.set = set
	s.peer.Limit(set.Pace)
	p.mu.Unlock()
	p.Hub.Send(events.Event{Type: "link", ID: s.rec.ID})
	return p.view(s), nil
}

func (x settings) text() string {
	t := "compression " + x.compression() + ", "
	if x.Pace.Rate == 0 {
		t += "no limit"
	} else {
		t += fmt.Sprintf("at most %d bytes a second", x.Pace.Rate)
	}
	if n := len(x.Pace.Windows); n == 1 {
		t += ", other in 1 time of the week"
	} else if n > 1 {
		t += fmt.Sprintf(", other in %d times of the week", n)
	}
	t += fmt.Sprintf("; at most %d groups from there", x.groups())
	if x.Room > 0 {
		t += ", with " + span.Bytes(float64(x.Room)) + " of points"
	}
	return t
}

func windowsOf(in []api.RateWindow) (out []pace.Window, err error) {
	for n, w := range in {
		x := pace.Window{Rate: w.BytesPerSecond}
		if x.Days, err = pace.ParseDays(w.Days); err == nil {
			if x.From, err = pace.ParseMinute(w.From); err == nil {
				x.To, err = pace.ParseMinute(w.To)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("time %d of the week: %w", n+1, err)
		}
		out = append(out, x)
	}
	return out, nil
}

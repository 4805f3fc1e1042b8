package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/pace"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// linkSettings is how what this site sends over a link is compressed and
// limited. The other site decides for its own direction.
type linkSettings struct {
	Compression string    `json:"compression,omitempty"` // empty is s2
	Pace        pace.Plan `json:"pace"`
}

const defaultCompression = "s2"

// encodings are the ways to compress, by name.
func encodings() map[string]points.Encoding {
	return map[string]points.Encoding{"s2": points.EncodingS2, "zstd": points.EncodingZstd, "off": points.EncodingRaw}
}

func (x linkSettings) compression() string {
	if x.Compression == "" {
		return defaultCompression
	}
	return x.Compression
}

func (x linkSettings) encoding() points.Encoding { return encodings()[x.compression()] }

// view enters the settings into a link as the contract shows it.
func (x linkSettings) view(v *api.Link, now time.Time) {
	v.Compression, v.LimitBytesPerSecond, v.LimitNowBytesPerSecond = x.compression(), x.Pace.Rate, x.Pace.At(now.Local())
	v.Windows = []api.RateWindow{}
	for _, w := range x.Pace.Windows {
		v.Windows = append(v.Windows, api.RateWindow{Days: w.Days.String(), From: pace.FormatMinute(w.From), To: pace.FormatMinute(w.To), BytesPerSecond: w.Rate})
	}
}

// EditLink changes how what this site sends over a link is compressed and
// limited. It holds at once, also for cycles under way.
func (s *Service) EditLink(ctx context.Context, who, id string, in api.EditLink) (api.Link, error) {
	s.mu.Lock()
	l, err := s.findLink(id)
	var set linkSettings
	if err == nil {
		set = l.set
	}
	s.mu.Unlock()
	if err != nil {
		return api.Link{}, err
	}
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
			faults = append(faults, problem.Field{Field: "limitBytesPerSecond", Message: sentence(err)})
		}
	}
	if in.Windows != nil {
		windows, err := windowsOf(*in.Windows)
		if err == nil {
			err = pace.Plan{Windows: windows}.Check()
		}
		if err != nil {
			faults = append(faults, problem.Field{Field: "windows", Message: sentence(err)})
		}
		set.Pace.Windows = windows
	}
	if len(faults) > 0 {
		return api.Link{}, problem.InvalidFields(faults...)
	}
	if err := s.db.SaveLinkSettings(ctx, l.rec.ID, mustJSON(set)); err != nil {
		return api.Link{}, err
	}
	s.mu.Lock()
	// The link may have been renewed meanwhile.
	if l, err = s.findLink(l.rec.ID); err != nil {
		s.mu.Unlock()
		return api.Link{}, err
	}
	l.set = set
	l.peer.Limit(set.Pace)
	v := s.linkView(l)
	s.mu.Unlock()
	s.note(ctx, who, "link", l.rec.PeerName, "%s changed the link to %s: %s", who, l.rec.PeerName, set.text())
	s.hub.send(Event{Type: "link", ID: l.rec.ID})
	return v, nil
}

func (x linkSettings) text() string {
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

// weight is a group's share of a limited link beside others'.
func (x settings) weight() float64 {
	switch x.priority() {
	case "high":
		return 4
	case "low":
		return 1
	}
	return 2
}

func (x settings) priority() string {
	if x.Priority == "" {
		return "normal"
	}
	return x.Priority
}

// checkPriority gives the priority asked for, or what it was.
func checkPriority(in *string, was string) (string, []problem.Field) {
	if in == nil {
		return was, nil
	}
	if !slices.Contains([]string{"high", "normal", "low"}, *in) {
		return was, []problem.Field{{Field: "priority", Message: fmt.Sprintf("%q is no priority; choose high, normal or low.", *in)}}
	}
	return *in, nil
}

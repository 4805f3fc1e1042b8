package meter

import (
	"kestrel/internal/directory"
	"kestrel/internal/keeper"
	"kestrel/internal/overview"
	"kestrel/internal/peering"
)

// Rooms is what is measured.
type Rooms struct {
	SiteID   string
	Groups   *directory.Directory
	Overview *overview.Overview
	Peering  *peering.Peering
	Keeper   *keeper.Keeper
}

// Look measures everything now. What is not known is left out.
func (r Rooms) Look() []Sight {
	var out []Sight
	for _, g := range r.Groups.All() {
		if n, ok := r.Overview.Backlog(g); ok && g.Direction != directory.Ended {
			out = append(out, Sight{g.ID, Backlog, float64(n)})
		}
	}
	for _, l := range r.Peering.Links() {
		out = append(out, Sight{l.ID, Out, float64(l.SendBytesPerSecond)}, Sight{l.ID, In, float64(l.ReceiveBytesPerSecond)})
	}
	for _, s := range r.Keeper.Rooms() {
		used, free := Used, Free
		if s.LongTerm {
			used, free = LongTermUsed, LongTermFree
		}
		out = append(out, Sight{r.SiteID, used, float64(s.Used)})
		if !s.Boundless {
			out = append(out, Sight{r.SiteID, free, float64(s.Free)})
		}
	}
	return out
}

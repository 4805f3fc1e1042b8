// Package large makes a site large without copying anything: links that are down, groups,
// and what is known of their points, put straight into its records.
package large

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/directory"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// Size is how large a site is made: Crew is how many machines are in each group.
type Size struct{ Links, Groups, Crew int }

// Machine is the name of the machine that is number i.
func Machine(i int) string { return fmt.Sprintf("quay-%05d", i) }

// Fill records links, groups and what is known of their points for six hours back.
//
// The site is to be stopped meanwhile, or started anew: it reads its records when it starts.
func Fill(ctx context.Context, url string, n Size, platform string, machine func(i int) string) error {
	db, err := records.Open(ctx, url)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	now := time.Now().UTC()
	own, err := db.Site(ctx, "", now)
	if err != nil {
		return err
	}
	links := make([]records.Link, n.Links)
	for i := range links {
		links[i] = records.Link{ID: uuid.NewString(), PeerID: uuid.NewString(), PeerName: fmt.Sprintf("Harbour %02d", i), Address: "127.0.0.1:1", PeerKey: []byte(fmt.Sprintf("%032d", i)), CreatedAt: now.Add(-7 * time.Hour)}
		if err := db.PutLink(ctx, links[i]); err != nil {
			return err
		}
	}
	for i := range n.Groups {
		l := links[i%len(links)]
		s := group.Spec{Name: fmt.Sprintf("Quay %04d", i), Platform: platform, Priority: group.Normal, NewDisks: group.CopyNew, Tags: []string{fmt.Sprintf("pier-%d", i%40)}, Destinations: []group.Destination{{SiteID: l.PeerID, Site: l.PeerName}},
			Promise: promise.Promise{Target: time.Duration(15+i%120) * time.Minute, Cadence: cadence.Cadence{Every: 5 * time.Minute}, Keep: ladder.Ladder{{For: 24 * time.Hour}}}}
		g := records.Group{ID: uuid.NewString(), Name: s.Name, Direction: "out", Link: &l.ID, HomeID: own.ID, HomeName: own.Name, RecoveryName: l.PeerName, Term: 1, Revision: 1, Anchor: now.Add(-7 * time.Hour), CreatedAt: now.Add(-7 * time.Hour), Target: int64(s.Promise.Target.Seconds()), Platform: platform}
		seal := points.Seal{Consistency: "crash"}
		for m := range n.Crew {
			name, id := Machine(i*n.Crew+m), machine(i*n.Crew+m)
			s.Machines = append(s.Machines, group.Machine{ID: id, Name: name})
			seal.Machines = append(seal.Machines, points.SealMachine{ID: id, Name: name})
			g.Machines = append(g.Machines, id)
		}
		g.Settings = directory.Encode(s)
		if err := db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}); err != nil {
			return err
		}
		sealed, err := json.Marshal(seal)
		if err != nil {
			return err
		}
		ago := time.Duration(i%170) * time.Minute // the newest point's age
		if _, err := db.ExecContext(ctx, `INSERT INTO arrivals SELECT $1, t, t + interval '4 s' FROM generate_series($2::timestamptz, $3, interval '5 min') t`, g.ID, now.Add(-6*time.Hour), now.Add(-ago)); err != nil {
			return err
		}
		if _, err := db.ExecContext(ctx, `INSERT INTO points (id, group_id, capture_at, held, pinned, seal) SELECT gen_random_uuid(), $1, t, false, false, $4 FROM generate_series($2::timestamptz, $3, interval '5 min') t`, g.ID, now.Add(-6*time.Hour), now.Add(-ago), sealed); err != nil {
			return err
		}
	}
	_, err = db.ExecContext(ctx, `ANALYZE`)
	return err
}

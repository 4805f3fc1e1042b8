package memory

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/records"
)

// Links implements peering.Records.
func (db *DB) Links(context.Context) ([]records.Link, error) { return all(db, db.links) }

// known finds the link with a site; the lock is held.
func (db *DB) known(peer string) (records.Link, bool) {
	for _, l := range db.links {
		if l.PeerID == peer {
			return l, true
		}
	}
	return records.Link{}, false
}

// PutLink implements peering.Records.
func (db *DB) PutLink(_ context.Context, l records.Link) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.known(l.PeerID)
	for _, o := range db.links {
		if o.PeerID != l.PeerID && bytes.Equal(o.PeerKey, l.PeerKey) {
			return &records.TakenError{Constraint: records.LinkKeyTaken}
		}
	}
	switch {
	case !ok:
		db.links[l.ID] = l
	case !bytes.Equal(was.PeerKey, l.PeerKey):
		return fmt.Errorf("link: %w", records.ErrStale)
	default:
		was.PeerName, was.Address = l.PeerName, l.Address
		db.links[was.ID] = was
	}
	return nil
}

// RekeyLink implements peering.Records.
func (db *DB) RekeyLink(_ context.Context, l records.Link) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.known(l.PeerID)
	if !ok {
		return missing("link")
	}
	was.PeerKey, was.PeerName, was.Address = l.PeerKey, l.PeerName, l.Address
	db.links[was.ID] = was
	return nil
}

// SaveLinkSettings implements peering.Records.
func (db *DB) SaveLinkSettings(_ context.Context, id string, settings []byte) error {
	return db.set(func() {
		l := db.links[id]
		l.Settings = slices.Clone(settings)
		db.links[id] = l
	})
}

// DeleteLink implements peering.Records.
func (db *DB) DeleteLink(_ context.Context, id string) error {
	return db.set(func() {
		for k, g := range db.groups {
			if g.Link != nil && *g.Link == id {
				g.Link = nil
				db.groups[k] = g
			}
		}
		delete(db.links, id)
	})
}

// AddInvitation implements peering.Records.
func (db *DB) AddInvitation(_ context.Context, i records.Invitation) error {
	return db.set(func() { db.invitations[i.ID] = i })
}

// Invitations implements peering.Records.
func (db *DB) Invitations(_ context.Context, now time.Time) ([]records.Invitation, error) {
	every, err := all(db, db.invitations)
	every = slices.DeleteFunc(every, func(i records.Invitation) bool { return i.UsedAt != nil || !i.ExpiresAt.After(now) })
	return every, err
}

// InvitationByHash implements peering.Records.
func (db *DB) InvitationByHash(_ context.Context, hash []byte) (records.Invitation, error) {
	every, _ := all(db, db.invitations)
	if i := slices.IndexFunc(every, func(i records.Invitation) bool { return bytes.Equal(i.Hash, hash) }); i >= 0 {
		return every[i], nil
	}
	return records.Invitation{}, missing("invitation")
}

// UseInvitation implements peering.Records.
func (db *DB) UseInvitation(_ context.Context, id string, now time.Time) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	i, ok := db.invitations[id]
	if !ok || i.UsedAt != nil {
		return missing("invitation")
	}
	i.UsedAt = &now
	db.invitations[id] = i
	return nil
}

// DeleteInvitation implements peering.Records.
func (db *DB) DeleteInvitation(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.invitations[id]; !ok {
		return missing("invitation")
	}
	delete(db.invitations, id)
	return nil
}

// farewell is a group that the other end of a link is to hear the last of.
type farewell struct{ group, link string }

// AddFarewell implements protection.Records.
func (db *DB) AddFarewell(_ context.Context, group, link string) error {
	return db.set(func() { db.farewells[farewell{group, link}] = true })
}

// Farewells implements peering.Records.
func (db *DB) Farewells(_ context.Context, link string) ([]string, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []string
	for f := range db.farewells {
		if f.link == link {
			out = append(out, f.group)
		}
	}
	slices.Sort(out)
	return out, nil
}

// DeleteFarewells implements peering.Records.
func (db *DB) DeleteFarewells(_ context.Context, link string, groups []string) error {
	return db.set(func() {
		for _, g := range groups {
			delete(db.farewells, farewell{g, link})
		}
	})
}

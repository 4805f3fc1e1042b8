package tiers_test

import (
	"context"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/directory"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
	"kestrel/internal/tiers"
)

type rec = directory.Record

func stored(x tiers.Tier) records.Tier {
	return records.Tier{ID: x.ID, Name: x.Name, Revision: x.Revision, Settings: directory.EncodeTier(x.Tier)}
}

// open is the room after a restart.
func open(ctx context.Context, h *rooms.House) (*tiers.Tiers, error) {
	return tiers.Open(ctx, tiers.Config{DB: h.DB, Groups: h.Groups, Trail: h.Trail, Clock: clock.Wall{}, Hub: h.Hub, Log: h.Log, Every: time.Hour})
}

package keeper

import (
	"context"
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/room"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/operation"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// Kinds of long work on the store. Each may be done again from the beginning.
const (
	kindVerify  = "store verify"
	kindRewrite = "store rewrite"
	kindSweep   = "store sweep"
	kindCopy    = "copy"
	kindExport  = "export"
	kindMove    = "long-term copy"
)

const theStore = "the point store"

func (k *Keeper) register() {
	for _, x := range []operation.Kind{
		{Name: kindVerify, Run: k.runVerify},
		{Name: kindRewrite, Run: func(ctx context.Context, _ *operation.Work) (string, error) {
			packs := 0
			for _, s := range k.stores() {
				x, err := s.Rewrite(ctx)
				if packs += x.Packs; err != nil {
					return "", err
				}
			}
			return fmt.Sprintf("%s written anew under key %d.", words.Count(packs, "pack"), k.Store.Keys().Number), nil
		}},
		{Name: kindSweep, Run: func(ctx context.Context, _ *operation.Work) (string, error) {
			packs, freed := 0, int64(0)
			for _, s := range k.stores() {
				x, err := s.Sweep(ctx)
				if packs, freed = packs+x.Packs, freed+x.Freed; err != nil {
					return "", err
				}
			}
			return fmt.Sprintf("%s removed, %.1f MiB given back.", words.Count(packs, "pack"), float64(freed)/(1<<20)), nil
		}},
		{Name: kindCopy, Run: k.runCopy},
		{Name: kindExport, Run: k.runExport},
		{Name: kindMove, Run: k.runMove},
	} {
		k.Operations.Register(x)
	}
}

// StoreView describes the point store.
func (k *Keeper) StoreView() api.Store {
	u := k.Store.Usage()
	keys := k.Store.Keys()
	v := api.Store{Directory: k.Store.Dir(), PackBytes: u.PackBytes, Packs: u.Packs, Records: u.Records, Points: u.Points, Intakes: u.Intakes, DamagedRecords: u.DamagedRecords, FreeBytes: u.FreeBytes, FloorBytes: u.FloorBytes,
		Full: u.FreeBytes < u.FloorBytes, BadRecords: u.BadRecords, HealedRecords: u.HealedRecords, Verify: k.passView(k.Store), Encryption: api.Encryption{On: keys.Number > 0, Key: int(keys.Number), StaleBytes: keys.StaleBytes}}
	v.ExportDirs, v.CarryDirs = k.Exports.Dirs(), k.Carried.Dirs()
	v.LockedPoints, v.LockedUntil = k.lockedNow()
	if at, ok := k.Fills(); ok {
		v.FillsAt = &at
	}
	v.LockedOutside = k.Store.Retains()
	if !keys.Created.IsZero() {
		v.Encryption.KeyCreatedAt = new(keys.Created)
	}
	if k.Objects != nil {
		v.Objects, v.CacheBytes = new(k.ObjectsURL), new(k.Objects.CacheBytes())
	}
	if k.LongTerm != nil {
		v.LongTerm = new(k.longTermView())
	}
	return v
}

func (k *Keeper) longTermView() api.LongTermStore {
	u := k.LongTerm.Usage()
	keys := k.LongTerm.Keys()
	v := api.LongTermStore{Directory: k.LongTerm.Dir(), Points: u.Points, PackBytes: u.PackBytes, FreeBytes: u.FreeBytes, FloorBytes: u.FloorBytes, Full: u.FreeBytes < u.FloorBytes, BadRecords: u.BadRecords, Verify: k.passView(k.LongTerm),
		Encrypted: keys.Number > 0, Awaiting: k.Awaiting()}
	for _, x := range k.LongTerm.Points("") {
		if _, err := k.Store.Point(x.Point); err != nil {
			v.OnlyThere++
		}
	}
	if k.LongTermObjects != nil {
		v.Objects, v.CacheBytes = new(k.LongTermURL), new(k.LongTermObjects.CacheBytes())
	}
	return v
}

// Fills foretells when the store is full at the pace of the last day; false if it does
// not grow, is not known well enough, or is kept where there is no end of room.
func (k *Keeper) Fills() (time.Time, bool) {
	if k.Objects != nil {
		return time.Time{}, false
	}
	u := k.Store.Usage()
	k.mu.Lock()
	defer k.mu.Unlock()
	return room.Fills(k.samples, u.PackBytes, u.FreeBytes-u.FloorBytes, k.Clock.Now())
}

// Room is how much room a store of this site has.
type Room struct {
	Name, Dir   string
	Used        int64     // bytes of its packs
	Free, Floor int64     // bytes; what arrives leaves so much
	LongTerm    bool      // it is the long-term store
	Boundless   bool      // it is a bucket: how much is free there is not known
	Fills       time.Time // when it is full at the pace of the last day; zero if that is not known
	Bad         int       // records that cannot be read, and were not replaced
}

// Rooms lists this site's stores, the nearest first. How much is free in a bucket is not
// known: there is enough.
func (k *Keeper) Rooms() []Room {
	var out []Room
	for i, s := range k.stores() {
		u := s.Usage()
		r := Room{Name: theStore, Dir: s.Dir(), Used: u.PackBytes, Free: u.FreeBytes, Floor: u.FloorBytes, Boundless: k.Objects != nil, Bad: u.BadRecords}
		if i > 0 {
			r.Name, r.LongTerm, r.Boundless = theLongTermStore, true, k.LongTermObjects != nil
		} else if at, ok := k.Fills(); ok {
			r.Fills = at
		}
		out = append(out, r)
	}
	return out
}

// sample notes how full the store is.
func (k *Keeper) sample() {
	u := k.Store.Usage()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.samples = room.Add(k.samples, room.Sample{At: k.Clock.Now(), Bytes: u.PackBytes})
}

// fillsSoon is how long before the store is full the board says so.
const fillsSoon = 14 * span.Day

// Filling is what the board says of a store that fills, and of what is locked in it.
func (k *Keeper) Filling() (api.Need, bool) {
	at, ok := k.Fills()
	left := at.Sub(k.Clock.Now())
	if !ok || left > fillsSoon {
		return api.Need{}, false
	}
	v := api.Need{State: "filling", Title: "The point store is full in about " + span.Format(max(left, time.Hour).Round(time.Hour)), Text: "At the pace of the last day. Then cycles that arrive wait.", Action: "Look at the point store", Href: "/store"}
	if left <= 0 {
		v.Title, v.Text = "The point store is full", "Cycles that arrive wait until there is room."
	}
	if n, until := k.lockedNow(); n > 0 {
		v.Text += fmt.Sprintf(" %s locked, the last until %s: nobody can make room by deleting those.", words.Are(n, "point"), until.UTC().Format("2006-01-02 15:04 MST"))
	}
	return v, true
}

// Room is what is free for points, and what arriving cycles leave of it, in bytes.
func (k *Keeper) Room() (free, floor int64) {
	u := k.Store.Usage()
	return u.FreeBytes, u.FloorBytes
}

// VerifyStore reads and verifies everything in the store.
func (k *Keeper) VerifyStore(ctx context.Context, who actor.Actor) (api.Operation, error) {
	return k.Operations.Start(ctx, who, kindVerify, theStore, struct{}{})
}

func (k *Keeper) runVerify(ctx context.Context, w *operation.Work) (string, error) {
	var rep points.Report
	before := int64(0) // bytes of the stores that are done
	for _, s := range k.stores() {
		one, err := s.Verify(ctx, func(done, total int64) { w.Progress(before+done, before+total) })
		if err != nil {
			return "", err
		}
		rep.Faults = append(rep.Faults, one.Faults...)
		rep.Packs, rep.Records, rep.Points, rep.Disks, rep.Bytes = rep.Packs+one.Packs, rep.Records+one.Records, rep.Points+one.Points, rep.Disks+one.Disks, rep.Bytes+one.Bytes
		before = rep.Bytes
	}
	if len(rep.Faults) > 0 {
		k.noteDamage(ctx)
	}
	for _, f := range rep.Faults {
		line := fmt.Sprintf("%s: %s", f.Where, f.What)
		if len(f.Points) > 0 {
			line += fmt.Sprintf("; points that lose by it: %d, the first %s", len(f.Points), f.Points[0])
		}
		w.Log("%s", line)
	}
	w.Progress(rep.Bytes, rep.Bytes)
	if n := len(rep.Faults); n > 0 {
		return "", fmt.Errorf("%s found in %s and %s; see the log of this operation", words.Count(n, "fault"), words.Count(rep.Packs, "pack"), words.Count(rep.Points, "point"))
	}
	return fmt.Sprintf("All good: %s in %s and %s of %s verified.", words.Count(int(rep.Records), "record"), words.Count(rep.Packs, "pack"), words.Count(rep.Disks, "disk"), words.Count(rep.Points, "point")), nil
}

// RewriteStore encrypts what is in the clear or under an older key.
func (k *Keeper) RewriteStore(ctx context.Context, who actor.Actor) (api.Operation, error) {
	if k.Store.Keys().Number == 0 {
		return api.Operation{}, problem.Conflict("The point store is not encrypted. Start the service with --store-key-file or --store-passphrase-file first.")
	}
	return k.Operations.Start(ctx, who, kindRewrite, theStore, struct{}{})
}

// SweepStore gives back the room of dropped points.
func (k *Keeper) SweepStore(ctx context.Context, who actor.Actor) (api.Operation, error) {
	return k.Operations.Start(ctx, who, kindSweep, theStore, struct{}{})
}

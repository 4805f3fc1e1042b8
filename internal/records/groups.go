package records

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// Group is a protection group as this site knows it. Settings is its
// specification as it is stored and sent; revision and term go with it.
type Group struct {
	ID           string    `db:"id"`
	Name         string    `db:"name"`
	Direction    string    `db:"direction"` // out, in or ended
	Link         *string   `db:"link"`
	HomeID       string    `db:"home_id"`
	HomeName     string    `db:"home_name"`
	RecoveryName string    `db:"recovery_name"`
	Term         int64     `db:"term"`
	Revision     int64     `db:"revision"`
	Settings     []byte    `db:"settings"`
	Anchor       time.Time `db:"anchor"`
	CreatedAt    time.Time `db:"created_at"`
	// Turned says that it was turned to another site, or given back; empty if not.
	Turned string `db:"turned"`
	// Former is the machines that it had here before it became home elsewhere.
	Former []byte `db:"former"`
	// Target is the RPO target of the settings, in seconds, for judging the past by
	// it later.
	Target int64 `db:"-"`
	// Tier is the name of the tier that the settings follow; Paused is why cycles are held,
	// nil if they are not, and PausedUntil until when. They are kept with the target.
	Tier        string     `db:"-"`
	Paused      *string    `db:"-"`
	PausedUntil *time.Time `db:"-"`
	// Platform and Machines are what the settings name, of groups that are home
	// here: a machine is of one of them.
	Platform string   `db:"-"`
	Machines []string `db:"-"`
}

// addGroup writes what a group, or several, are.
const addGroup = `INSERT INTO groups (id, name, direction, link, home_id, home_name, recovery_name, term, revision, settings, anchor, created_at, turned, former)
		VALUES (:id, :name, :direction, :link, :home_id, :home_name, :recovery_name, :term, :revision, :settings, :anchor, :created_at, :turned, :former)`

// fresh is how many new groups are written with one statement: their values stay well below
// what a statement can have.
const fresh = 500

// AddGroups stores new groups with their lines of the trail, one of each in order, all or none. A
// TakenError says that a name, or a machine, is another's.
func (db *DB) AddGroups(ctx context.Context, gs []Group, as []Activity) error {
	return db.together(ctx, "groups", func(tx *sqlx.Tx) error {
		for some := range slices.Chunk(gs, fresh) {
			if _, err := named(ctx, tx, "groups", addGroup, some); err != nil {
				return err
			}
			if err := addMachines(ctx, tx, some); err != nil {
				return err
			}
			if err := addTargets(ctx, tx, some); err != nil {
				return err
			}
		}
		return addActivities(ctx, tx, as)
	})
}

// addMachines writes whose the machines of groups are that are home here.
func addMachines(ctx context.Context, tx *sqlx.Tx, gs []Group) error {
	var platforms, machines, groups []string
	for _, g := range gs {
		if g.Direction != "out" {
			continue
		}
		for _, m := range g.Machines {
			platforms, machines, groups = append(platforms, g.Platform), append(machines, m), append(groups, g.ID)
		}
	}
	if len(machines) == 0 {
		return nil
	}
	_, err := exec(ctx, tx, "machines", `INSERT INTO group_machines (platform, machine, group_id) SELECT * FROM unnest($1::text[], $2::text[], $3::uuid[])`, platforms, machines, groups)
	return err
}

// addTargets writes what new groups promise from when they are made.
func addTargets(ctx context.Context, tx *sqlx.Tx, gs []Group) error {
	type target struct {
		Group string     `db:"group_id"`
		Since time.Time  `db:"since"`
		Secs  int64      `db:"target_seconds"`
		Tier  string     `db:"tier"`
		Held  *string    `db:"paused"`
		Until *time.Time `db:"paused_until"`
	}
	var rows []target
	for _, g := range gs {
		if g.Target > 0 {
			rows = append(rows, target{g.ID, g.CreatedAt, g.Target, g.Tier, g.Paused, g.PausedUntil})
		}
	}
	if len(rows) == 0 {
		return nil
	}
	_, err := named(ctx, tx, "targets", `INSERT INTO targets (group_id, since, target_seconds, tier, paused, paused_until) VALUES (:group_id, :since, :target_seconds, :tier, :paused, :paused_until)`, rows)
	return err
}

// SwapGroup writes what an edit of the revision from made of a group, with its line
// of the trail, all or nothing. ErrStale says that there is another revision, or that the
// group was turned meanwhile; a TakenError that its name, or a machine, is another's.
func (db *DB) SwapGroup(ctx context.Context, g Group, from int64, a Activity) error {
	return db.together(ctx, "group", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "group", `UPDATE groups SET name = $3, direction = $4, link = $5, home_id = $6, home_name = $7, recovery_name = $8, revision = $10, settings = $11, anchor = $12
			WHERE id = $1 AND revision = $2 AND term = $9 AND turned = $13`, g.ID, from, g.Name, g.Direction, g.Link, g.HomeID, g.HomeName, g.RecoveryName, g.Term, g.Revision, g.Settings, g.Anchor, g.Turned)
		if err != nil {
			return err
		}
		if n == 0 {
			return fmt.Errorf("group %s: %w", g.Name, ErrStale)
		}
		return follow(ctx, tx, g, a.At, a)
	})
}

// TurnGroup writes that a group is turned, with its line of the trail, both or neither. Was is
// the group as it was. ErrStale says that it is not as it was, a TakenError that its name, or
// a machine, is another's.
func (db *DB) TurnGroup(ctx context.Context, g, was Group, a Activity) error {
	return db.together(ctx, "turn group", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "group", `UPDATE groups SET link = $15, direction = $5, home_id = $6, home_name = $7, recovery_name = $8, term = $9, revision = $10, settings = $11, anchor = $12, turned = $13, former = $14
			WHERE id = $1 AND revision = $2 AND term = $3 AND turned = $4`, g.ID, was.Revision, was.Term, was.Turned, g.Direction, g.HomeID, g.HomeName, g.RecoveryName, g.Term, g.Revision, g.Settings, g.Anchor, g.Turned, g.Former, g.Link)
		if err != nil {
			return err
		}
		if n == 0 {
			return fmt.Errorf("group %s: %w", g.Name, ErrStale)
		}
		return follow(ctx, tx, g, a.At, a)
	})
}

// MirrorGroup stores a group as its home site reports it, unless a later term or
// revision is here. It reports whether anything was written. A line with no text
// is not written.
func (db *DB) MirrorGroup(ctx context.Context, g Group, at time.Time, a Activity) (bool, error) {
	written := false
	err := db.together(ctx, "group", func(tx *sqlx.Tx) error {
		n, err := named(ctx, tx, "group", addGroup+` ON CONFLICT (id) DO UPDATE SET name = :name, direction = :direction, link = :link, home_id = :home_id, home_name = :home_name,
			recovery_name = :recovery_name, term = :term, revision = :revision, settings = :settings, anchor = :anchor, turned = :turned, former = :former
			WHERE (groups.term, groups.revision) <= (:term, :revision)`, g)
		if err != nil {
			return err
		}
		written = n > 0
		if !written {
			return nil
		}
		return follow(ctx, tx, g, at, a)
	})
	return written, err
}

// follow writes what goes with a group's settings: its machines, its target, its
// line of the trail.
func follow(ctx context.Context, tx *sqlx.Tx, g Group, at time.Time, a Activity) error {
	if _, err := exec(ctx, tx, "machines", `DELETE FROM group_machines WHERE group_id = $1`, g.ID); err != nil {
		return err
	}
	if g.Direction != "out" || g.Turned != "" { // it is home here no longer, so none of its cycles goes on
		if _, err := exec(ctx, tx, "cycles", `UPDATE cycles SET state = 'failed', ended_at = $2 WHERE group_id = $1 AND ended_at IS NULL`, g.ID, at); err != nil {
			return err
		}
	}
	if g.Direction != "out" { // what its cycles here have come to says nothing of those elsewhere
		if _, err := exec(ctx, tx, "replication", `DELETE FROM replications WHERE group_id = $1`, g.ID); err != nil {
			return err
		}
	}
	if err := addMachines(ctx, tx, []Group{g}); err != nil {
		return err
	}
	if g.Target > 0 {
		if _, err := exec(ctx, tx, "target", `INSERT INTO targets (group_id, since, target_seconds, tier, paused, paused_until) SELECT $1::uuid, $2::timestamptz, $3::bigint, $4::text, $5::text, $6::timestamptz
			WHERE NOT EXISTS (SELECT FROM (SELECT * FROM targets WHERE group_id = $1::uuid ORDER BY since DESC LIMIT 1) last
				WHERE (target_seconds, tier) = ($3::bigint, $4::text) AND paused IS NOT DISTINCT FROM $5::text AND paused_until IS NOT DISTINCT FROM $6::timestamptz)
			ON CONFLICT (group_id, since) DO UPDATE SET target_seconds = EXCLUDED.target_seconds, tier = EXCLUDED.tier, paused = EXCLUDED.paused, paused_until = EXCLUDED.paused_until`, g.ID, at, g.Target, g.Tier, g.Paused, g.PausedUntil); err != nil {
			return err
		}
	}
	return addActivities(ctx, tx, []Activity{a})
}

// Groups lists all.
func (db *DB) Groups(ctx context.Context) ([]Group, error) {
	return list[Group](ctx, db, "groups", `SELECT * FROM groups ORDER BY name`)
}

// DeleteGroup removes a group with its cycles and points, and writes the line of
// the trail.
func (db *DB) DeleteGroup(ctx context.Context, id string, a Activity) error {
	return db.together(ctx, "delete group", func(tx *sqlx.Tx) error {
		for _, q := range []string{`DELETE FROM arrivals WHERE group_id = $1`, `DELETE FROM targets WHERE group_id = $1`, `DELETE FROM groups WHERE id = $1`} {
			if _, err := exec(ctx, tx, "group", q, id); err != nil {
				return err
			}
		}
		return addActivity(ctx, tx, a)
	})
}

// Target is what was promised from an instant on: the RPO target, by which tier if by one, and
// whether cycles were held on purpose, nil if not, and until when.
type Target struct {
	GroupID     string     `db:"group_id"`
	Since       time.Time  `db:"since"`
	Seconds     int64      `db:"target_seconds"`
	Tier        string     `db:"tier"`
	Paused      *string    `db:"paused"`
	PausedUntil *time.Time `db:"paused_until"`
}

// Targets lists a group's, oldest first.
func (db *DB) Targets(ctx context.Context, group string) ([]Target, error) {
	return list[Target](ctx, db, "targets", `SELECT * FROM targets WHERE group_id = $1 ORDER BY since`, group)
}

// AllTargets lists those of all groups, oldest first.
func (db *DB) AllTargets(ctx context.Context) ([]Target, error) {
	return list[Target](ctx, db, "targets", `SELECT * FROM targets ORDER BY group_id, since`)
}

// AddFarewell notes that the site at the other end of a link has yet to hear that a
// group has ended, or is copied elsewhere.
func (db *DB) AddFarewell(ctx context.Context, group, link string) error {
	return db.exec(ctx, "farewell", `INSERT INTO farewells (group_id, link) VALUES ($1, $2) ON CONFLICT DO NOTHING`, group, link)
}

// Farewells lists the groups whose end the site at the other end of a link has yet
// to hear of.
func (db *DB) Farewells(ctx context.Context, link string) ([]string, error) {
	return list[string](ctx, db, "farewells", `SELECT group_id::text FROM farewells WHERE link = $1 ORDER BY group_id`, link)
}

// DeleteFarewells forgets those that were heard at the other end of a link.
func (db *DB) DeleteFarewells(ctx context.Context, link string, groups []string) error {
	return db.exec(ctx, "farewells", `DELETE FROM farewells WHERE link = $1 AND group_id = ANY($2::uuid[])`, link, groups)
}

// Package memory keeps records as PostgreSQL would, in memory: for tests of rooms
// that take milliseconds, and for simulated sites. It compares revisions, guards
// names and machines, and writes lines of the trail with what they tell of, as the
// real one does; the tests of records hold both to that.
package memory

import (
	"fmt"
	"sync"
	"time"

	"kestrel/internal/records"
)

// DB is a database. The zero value is not ready; use New.
type DB struct {
	mu           sync.Mutex
	groups       map[string]records.Group
	machines     map[string]string // platform/machine → group
	targets      map[string][]records.Target
	activity     []records.Activity
	points       map[string]map[string]records.Point // by group
	groupOf      map[string]string                   // of a point
	arrivals     map[string][]records.Arrival
	cycles       map[string][]records.Cycle // by group, oldest first
	attainedDays []time.Time
	attained     []records.Attained
	replications map[string]records.Replication
	operations   map[string]records.Operation
	platforms    map[string]records.Platform
	links        map[string]records.Link
	invitations  map[string]records.Invitation
	farewells    map[farewell]bool // group → link
	served       map[string]records.Served
	landings     map[string]records.Landing
	deletions    map[string]records.Deletion // by group
	shortenings  []records.Shortening
	heads        []records.TrailHead
	left         map[string]records.LeftOut // by platform/machine
	coverage     []records.Coverage
	tiers        map[string]records.Tier
	berths       map[string]records.Berth // by kind and subject
	tierHistory  []records.TierRevision
	surveys      map[string]records.Survey
	samples      []records.SurveySample
	recoveries   map[string]records.Recovery
	evidence     []records.Evidence
	rounds       map[string]records.DrillRound
	screens      map[string][]byte // by recovery/machine

	// Before, if set, is called before each write of a group or of a point with the method's name;
	// what it returns fails the write. It is where a test lets others come between.
	Before func(method string) error
	// Careless makes writes of groups forget to compare revisions, as a fault that a
	// simulation has to find.
	Careless bool
}

// New makes an empty one.
func New() *DB {
	return &DB{groups: map[string]records.Group{}, machines: map[string]string{}, targets: map[string][]records.Target{}, points: map[string]map[string]records.Point{}, groupOf: map[string]string{}, arrivals: map[string][]records.Arrival{},
		cycles: map[string][]records.Cycle{}, replications: map[string]records.Replication{}, operations: map[string]records.Operation{},
		links: map[string]records.Link{}, invitations: map[string]records.Invitation{}, farewells: map[farewell]bool{}, platforms: map[string]records.Platform{}, served: map[string]records.Served{}, landings: map[string]records.Landing{}, deletions: map[string]records.Deletion{}, left: map[string]records.LeftOut{}, surveys: map[string]records.Survey{}, tiers: map[string]records.Tier{}, berths: map[string]records.Berth{}, recoveries: map[string]records.Recovery{}, rounds: map[string]records.DrillRound{}, screens: map[string][]byte{}}
}

func (db *DB) before(method string) error {
	if db.Before != nil {
		return db.Before(method)
	}
	return nil
}

func missing(what string) error { return fmt.Errorf("%s: %w", what, records.ErrNotFound) }

package memory

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/records"
)

// AddOperation implements operation.Store.
func (db *DB) AddOperation(_ context.Context, o records.Operation) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.operations[o.ID]; ok {
		return &records.TakenError{Constraint: "operations_pkey"}
	}
	db.operations[o.ID] = o
	return nil
}

// TakeOperation implements operation.Store.
func (db *DB) TakeOperation(_ context.Context, id, holder string, now, until time.Time) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok || o.EndedAt != nil || o.Holder != holder && o.LeaseUntil != nil && o.LeaseUntil.After(now) {
		return o, missing("operation")
	}
	o.Holder, o.LeaseUntil = holder, &until
	o.Epoch++
	db.operations[id] = o
	return o, nil
}

// held changes an operation whose epoch is still its holder's.
func (db *DB) held(o records.Operation, f func(was *records.Operation)) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.operations[o.ID]
	if !ok || was.Epoch != o.Epoch || was.EndedAt != nil {
		return was, fmt.Errorf("operation %s: %w", o.ID, records.ErrLost)
	}
	if !json.Valid(o.Progress) {
		return was, fmt.Errorf("operation %s: progress is no JSON", o.ID)
	}
	was.Progress = bytes.Clone(o.Progress)
	f(&was)
	db.operations[o.ID] = was
	return was, nil
}

// HoldOperation implements operation.Store.
func (db *DB) HoldOperation(_ context.Context, o records.Operation) (bool, error) {
	is, err := db.held(o, func(was *records.Operation) { was.LeaseUntil = o.LeaseUntil })
	return is.StopAsked, err
}

// EndOperation implements operation.Store.
func (db *DB) EndOperation(_ context.Context, o records.Operation) error {
	_, err := db.held(o, func(was *records.Operation) {
		was.State, was.EndedAt, was.Message, was.LeaseUntil = o.State, o.EndedAt, o.Message, nil
	})
	return err
}

// LetGoOperation implements operation.Store.
func (db *DB) LetGoOperation(_ context.Context, o records.Operation) error {
	_, err := db.held(o, func(was *records.Operation) { was.LeaseUntil = nil })
	return err
}

// StopOperation implements operation.Store.
func (db *DB) StopOperation(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok || o.EndedAt != nil {
		return missing("operation")
	}
	o.StopAsked = true
	db.operations[id] = o
	return nil
}

// Operation implements operation.Store.
func (db *DB) Operation(_ context.Context, id string) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok {
		return o, missing("operation")
	}
	return o, nil
}

// OpenOperations implements operation.Store.
func (db *DB) OpenOperations(context.Context) ([]records.Operation, error) {
	return db.list(func(o records.Operation) bool { return o.EndedAt == nil }), nil
}

// Operations implements operation.Store.
func (db *DB) Operations(_ context.Context, limit, skip int) ([]records.Operation, error) {
	out := db.list(func(records.Operation) bool { return true })
	slices.Reverse(out)
	out = out[min(skip, len(out)):]
	return out[:min(limit, len(out))], nil
}

func (db *DB) list(which func(o records.Operation) bool) []records.Operation {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Operation
	for _, o := range db.operations {
		if which(o) {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b records.Operation) int {
		return cmp.Or(a.StartedAt.Compare(b.StartedAt), strings.Compare(a.ID, b.ID))
	})
	return out
}

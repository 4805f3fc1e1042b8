// Package witness is a small transactional record that simulated guests keep
// on their raw disks, so that anyone who reads a disk at some instant can tell
// whether it is consistent and up to which transaction.
//
// A machine's transaction n first writes a page on its last disk and then a
// record, which names the page, in a ring on its first disk. A machine that
// depends on another also records the other's newest transaction, which was
// complete before its own began.
package witness

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"hash/fnv"
	"io"
	"time"
)

const (
	// RingOffset is where the ring of records lies on the first disk.
	RingOffset = 1 << 20
	// RestOffset is where the first disk says whether its guest is at rest.
	RestOffset = 3 << 20
	// PageOffset is where the pages lie on the last disk.
	PageOffset = 2 << 20

	// Slots is the number of records in the ring, and of pages.
	Slots      = 64
	recordSize = 512
	pageSize   = 4096
	magic      = "SKERRYTX"
)

// Record is one transaction.
type Record struct {
	Machine uint64 // KeyOf the machine's ID
	Seq     uint64 // from 1
	At      time.Time
	Peer    uint64 // KeyOf the machine it depends on, or 0
	PeerSeq uint64 // that machine's newest transaction before this one
	Cursor  uint64 // where the guest appends next: its own memory across restarts
}

// KeyOf shortens a machine ID for records.
func KeyOf(machine string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(machine))
	return h.Sum64()
}

// Write does one transaction through two writers, page first.
func (r Record) Write(first, last io.WriterAt) error {
	page := make([]byte, pageSize)
	binary.LittleEndian.PutUint64(page, r.Seq)
	binary.LittleEndian.PutUint64(page[8:], r.Machine)
	for i := 16; i < pageSize-4; i++ {
		page[i] = byte(r.Seq>>(i%8)) ^ byte(i)
	}
	binary.LittleEndian.PutUint32(page[pageSize-4:], crc32.ChecksumIEEE(page[:pageSize-4]))
	if _, err := last.WriteAt(page, PageOffset+int64(r.Seq%Slots)*pageSize); err != nil {
		return err
	}
	b := make([]byte, recordSize)
	copy(b, magic)
	for i, v := range []uint64{r.Machine, r.Seq, uint64(r.At.UnixNano()), r.Peer, r.PeerSeq, r.Cursor} {
		binary.LittleEndian.PutUint64(b[8+8*i:], v)
	}
	binary.LittleEndian.PutUint32(b[recordSize-4:], crc32.ChecksumIEEE(b[:recordSize-4]))
	_, err := first.WriteAt(b, RingOffset+int64(r.Seq%Slots)*recordSize)
	return err
}

// restMark is what the disk of a guest at rest says, before the number of its newest
// transaction.
const restMark = "SKERRYOK"

// Rest writes that a guest is at rest, or no longer is.
func (r Record) Rest(first io.WriterAt, rests bool) error {
	b := make([]byte, 16)
	if rests {
		copy(b, restMark)
		binary.LittleEndian.PutUint64(b[8:], r.Seq)
	}
	_, err := first.WriteAt(b, RestOffset)
	return err
}

// AtRest tells whether a disk is of an instant at which its guest was at rest, with its
// newest transaction complete.
func AtRest(first io.ReaderAt, newest Record) (bool, error) {
	b := make([]byte, 16)
	if _, err := first.ReadAt(b, RestOffset); err != nil && !errors.Is(err, io.EOF) {
		return false, fmt.Errorf("read the mark of rest: %w", err)
	}
	return string(b[:8]) == restMark && binary.LittleEndian.Uint64(b[8:]) == newest.Seq, nil
}

// ErrTorn is wrapped where a disk is not a possible state of an instant.
var ErrTorn = errors.New("not consistent")

// Read finds the newest record of a machine and checks that everything that
// had to be there before it is there: all earlier records of the ring, and the
// page of each. A disk on which no transaction was ever done gives the zero
// Record.
func Read(first, last io.ReaderAt) (Record, error) {
	ring := make([]byte, Slots*recordSize)
	if _, err := first.ReadAt(ring, RingOffset); err != nil && !errors.Is(err, io.EOF) {
		return Record{}, fmt.Errorf("read ring: %w", err)
	}
	var newest Record
	seen := map[uint64]bool{}
	for slot := range uint64(Slots) {
		b := ring[slot*recordSize : (slot+1)*recordSize]
		if string(b[:8]) == string(make([]byte, 8)) {
			continue
		}
		r, err := parse(b)
		if err != nil || r.Seq%Slots != slot {
			return Record{}, fmt.Errorf("record in slot %d is torn: %w", slot, ErrTorn)
		}
		seen[r.Seq] = true
		if r.Seq > newest.Seq {
			newest = r
		}
	}
	page := make([]byte, pageSize)
	for n := range min(newest.Seq, Slots) {
		seq := newest.Seq - n
		if !seen[seq] {
			return newest, fmt.Errorf("record %d is there but %d before it is not: %w", newest.Seq, seq, ErrTorn)
		}
		if _, err := last.ReadAt(page, PageOffset+int64(seq%Slots)*pageSize); err != nil && !errors.Is(err, io.EOF) {
			return newest, fmt.Errorf("read page: %w", err)
		}
		got := binary.LittleEndian.Uint64(page)
		if crc32.ChecksumIEEE(page[:pageSize-4]) != binary.LittleEndian.Uint32(page[pageSize-4:]) ||
			binary.LittleEndian.Uint64(page[8:]) != newest.Machine {
			return newest, fmt.Errorf("page of transaction %d is torn: %w", seq, ErrTorn)
		}
		// The page of the transaction that is just being done may be there
		// before its record, in the place of the oldest one.
		if got != seq && (got != newest.Seq+1 || got%Slots != seq%Slots) {
			return newest, fmt.Errorf("record %d is there but its page is of %d: %w", seq, got, ErrTorn)
		}
	}
	return newest, nil
}

func parse(b []byte) (Record, error) {
	if string(b[:8]) != magic || crc32.ChecksumIEEE(b[:recordSize-4]) != binary.LittleEndian.Uint32(b[recordSize-4:]) {
		return Record{}, ErrTorn
	}
	u := func(i int) uint64 { return binary.LittleEndian.Uint64(b[8+8*i:]) }
	return Record{Machine: u(0), Seq: u(1), At: time.Unix(0, int64(u(2))), Peer: u(3), PeerSeq: u(4), Cursor: u(5)}, nil
}

// Together checks machines captured at one instant against each other: no
// record may depend on one that is not there.
func Together(rs []Record) error {
	by := map[uint64]Record{}
	for _, r := range rs {
		by[r.Machine] = r
	}
	for _, r := range rs {
		if p, ok := by[r.Peer]; ok && r.PeerSeq > p.Seq {
			return fmt.Errorf("transaction %d rests on %d of its peer, which is only at %d: %w", r.Seq, r.PeerSeq, p.Seq, ErrTorn)
		}
	}
	return nil
}

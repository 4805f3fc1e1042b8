package points

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"golang.org/x/crypto/argon2"

	"kestrel/internal/files"
)

// Secret opens an encrypted store: either the content of a key file, or a
// passphrase. The zero Secret is none.
type Secret struct {
	Key        []byte // 32 bytes or more, as random as can be
	Passphrase []byte
}

func (s Secret) given() bool { return len(s.Key) > 0 || len(s.Passphrase) > 0 }

// Errors about keys.
var (
	// ErrKeyNeeded says that a store is encrypted and no secret was given.
	ErrKeyNeeded = errors.New("the point store is encrypted: give its key file or passphrase")
	// ErrWrongKey says that a secret does not open a store.
	ErrWrongKey = errors.New("this key file or passphrase does not open the point store")
)

// keyRing is keys.json: the keys under which records are encrypted, themselves
// encrypted under the secret. A new secret needs only this file written anew.
type keyRing struct {
	Format  string       `json:"format"`
	Version int          `json:"version"`
	Argon2  *argonParams `json:"argon2id,omitempty"` // nil: a key file
	Keys    []wrappedKey `json:"keys"`
}

// argonParams are of Argon2id (RFC 9106).
type argonParams struct {
	Salt      []byte `json:"salt"`
	Time      uint32 `json:"time"`
	MemoryKiB uint32 `json:"memoryKiB"`
	Threads   uint8  `json:"threads"`
}

type wrappedKey struct {
	Number  uint16    `json:"number"`
	Created time.Time `json:"created"`
	Wrapped []byte    `json:"wrapped"` // nonce, and the key under AES-256-GCM
}

const (
	ringFormat = "kestrel tide key ring"
	nonceSize  = 12
	sealedMore = nonceSize + 16 // what encryption adds
	boxMagic   = "KTBOX\x00\x00\x01"
)

// dataKey encrypts records, names and small files. A nonce is random, which is
// good for 2^32 records under one key (NIST SP 800-38D, 8.3): 256 TiB.
type dataKey struct {
	number  uint16
	created time.Time
	raw     []byte
	content cipher.AEAD
	names   cipher.Block
}

func newDataKey(number uint16, created time.Time, raw []byte) (*dataKey, error) {
	part := func(info string) []byte {
		b, err := hkdf.Key(sha256.New, raw, nil, "kestrel tide 2026 "+info, 32)
		if err != nil {
			panic(err) // only for lengths beyond what the hash allows
		}
		return b
	}
	block, err := aes.NewCipher(part("content"))
	if err != nil {
		return nil, err
	}
	k := &dataKey{number: number, created: created, raw: raw}
	if k.content, err = cipher.NewGCM(block); err != nil {
		return nil, err
	}
	k.names, err = aes.NewCipher(part("names"))
	return k, err
}

// veil hides a name: each half is one block of AES. Names are hashes, so that
// no half comes twice but with its whole.
func (k *dataKey) veil(n Name) (out Name) {
	k.names.Encrypt(out[:16], n[:16])
	k.names.Encrypt(out[16:], n[16:])
	return out
}

func (k *dataKey) unveil(n Name) (out Name) {
	k.names.Decrypt(out[:16], n[:16])
	k.names.Decrypt(out[16:], n[16:])
	return out
}

// seal appends nonce and ciphertext to dst.
func (k *dataKey) seal(dst, plain, with []byte) []byte {
	at := len(dst)
	dst = append(dst, make([]byte, nonceSize)...)
	_, _ = rand.Read(dst[at:]) // never fails since Go 1.24
	return k.content.Seal(dst, dst[at:at+nonceSize], plain, with)
}

func (k *dataKey) open(dst, sealed, with []byte) ([]byte, error) {
	if len(sealed) < sealedMore {
		return nil, fmt.Errorf("encrypted bytes cut short: %w", ErrDamaged)
	}
	out, err := k.content.Open(dst, sealed[:nonceSize], sealed[nonceSize:], with)
	if err != nil {
		return nil, fmt.Errorf("encrypted bytes do not match their key: %w", ErrDamaged)
	}
	return out, nil
}

// wrapping derives the key that encrypts the data keys.
func (r *keyRing) wrapping(s Secret) (cipher.AEAD, error) {
	var raw []byte
	if r.Argon2 != nil {
		if len(s.Passphrase) == 0 {
			return nil, fmt.Errorf("%w: it was closed with a passphrase", ErrKeyNeeded)
		}
		p := r.Argon2
		if p.Time == 0 || p.Threads == 0 || p.MemoryKiB > 4<<20 {
			return nil, fmt.Errorf("keys.json: %w", ErrDamaged)
		}
		raw = argon2.IDKey(s.Passphrase, p.Salt, p.Time, p.MemoryKiB, p.Threads, 32)
	} else {
		if len(s.Key) == 0 {
			return nil, fmt.Errorf("%w: it was closed with a key file", ErrKeyNeeded)
		}
		var err error
		if raw, err = hkdf.Key(sha256.New, s.Key, nil, "kestrel tide 2026 key file", 32); err != nil {
			return nil, err
		}
	}
	block, err := aes.NewCipher(raw)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// ring is the opened keys of a store; nil for a store in the clear.
type ring struct {
	keys   map[uint16]*dataKey
	active *dataKey
}

// closeUnder writes the keys encrypted under a secret.
func (r *ring) closeUnder(s Secret) ([]byte, error) {
	file := keyRing{Format: ringFormat, Version: 1}
	switch {
	case len(s.Key) > 0 && len(s.Passphrase) > 0:
		return nil, errors.New("give a key file or a passphrase, not both")
	case len(s.Passphrase) > 0:
		file.Argon2 = &argonParams{Salt: make([]byte, 16), Time: 3, MemoryKiB: 64 << 10, Threads: 4}
		_, _ = rand.Read(file.Argon2.Salt)
	case len(s.Key) < 32:
		return nil, fmt.Errorf("a key file of %d bytes is too short: it takes 32 random bytes or more", len(s.Key))
	}
	w, err := file.wrapping(s)
	if err != nil {
		return nil, err
	}
	for n := uint16(1); r.keys[n] != nil; n++ {
		k := r.keys[n]
		nonce := make([]byte, nonceSize)
		_, _ = rand.Read(nonce)
		file.Keys = append(file.Keys, wrappedKey{n, k.created, w.Seal(nonce, nonce, k.raw, binary.LittleEndian.AppendUint16(nil, n))})
	}
	return json.MarshalIndent(file, "", " ")
}

func openRing(b []byte, s Secret) (*ring, error) {
	var file keyRing
	if err := json.Unmarshal(b, &file); err != nil || file.Format != ringFormat || file.Version != 1 || len(file.Keys) == 0 {
		return nil, fmt.Errorf("keys.json is not a key ring of version 1: %w", ErrDamaged)
	}
	if !s.given() {
		return nil, ErrKeyNeeded
	}
	w, err := file.wrapping(s)
	if err != nil {
		return nil, err
	}
	r := &ring{keys: map[uint16]*dataKey{}}
	for i, k := range file.Keys {
		if int(k.Number) != i+1 || len(k.Wrapped) < sealedMore {
			return nil, fmt.Errorf("keys.json: %w", ErrDamaged)
		}
		raw, err := w.Open(nil, k.Wrapped[:nonceSize], k.Wrapped[nonceSize:], binary.LittleEndian.AppendUint16(nil, k.Number))
		if err != nil {
			return nil, ErrWrongKey
		}
		if r.active, err = newDataKey(k.Number, k.Created, raw); err != nil {
			return nil, err
		}
		r.keys[k.Number] = r.active
	}
	return r, nil
}

// add makes a further key, under which all is encrypted from then on.
func (r *ring) add(now time.Time) error {
	number := uint16(1)
	if r.active != nil {
		number = r.active.number + 1
	}
	if number > 1<<15-1 {
		return errors.New("no more keys are possible")
	}
	raw := make([]byte, 32)
	_, _ = rand.Read(raw)
	k, err := newDataKey(number, now.UTC(), raw)
	if err != nil {
		return err
	}
	if r.keys == nil {
		r.keys = map[uint16]*dataKey{}
	}
	r.keys[number], r.active = k, k
	return nil
}

func (r *ring) key(number uint16) (*dataKey, error) {
	if r != nil && r.keys[number] != nil {
		return r.keys[number], nil
	}
	return nil, fmt.Errorf("key %d is not in keys.json: %w", number, ErrDamaged)
}

func (s *Store) ringPath() string { return filepath.Join(s.dir, "keys.json") }

// loadRing opens the keys, or makes the first one where a secret is given for a
// store that was in the clear.
func (s *Store) loadRing(secret Secret) error {
	b, err := s.fs.ReadFile(s.ringPath())
	switch {
	case errors.Is(err, fs.ErrNotExist) && !secret.given():
		return nil
	case errors.Is(err, fs.ErrNotExist) && s.lock == nil:
		return nil // nothing to open, and not ours to close
	case errors.Is(err, fs.ErrNotExist):
		r := &ring{}
		if err := r.add(s.now()); err != nil {
			return err
		}
		b, err := r.closeUnder(secret)
		if err != nil {
			return err
		}
		s.ring = r
		return files.WriteWhole(s.fs, s.ringPath(), b)
	case err != nil:
		return fmt.Errorf("read keys: %w", err)
	}
	s.ring, err = openRing(b, secret)
	return err
}

// Rekey closes an encrypted store's keys under another secret. With fresh, a
// further key is made, under which all is encrypted from then on; Rewrite then
// brings over what is there. The store must not be in use.
func Rekey(dir string, o Options, to Secret, fresh bool) error {
	s := newStore(dir, o)
	if _, err := s.fs.ReadFile(s.ringPath()); err != nil {
		return fmt.Errorf("%s has no keys: it is not an encrypted point store: %w", dir, err)
	}
	lock, err := s.fs.Lock(filepath.Join(dir, "lock"))
	if errors.Is(err, files.ErrLocked) {
		return fmt.Errorf("point store %s is used by another process: stop that one first", dir)
	}
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	s.lock = lock
	if err := s.loadRing(o.Secret); err != nil {
		return err
	}
	if fresh {
		if err := s.ring.add(s.now()); err != nil {
			return err
		}
	}
	if !to.given() {
		to = o.Secret
	}
	b, err := s.ring.closeUnder(to)
	if err != nil {
		return err
	}
	return files.WriteWhole(s.fs, s.ringPath(), b)
}

// KeyState tells how a store is encrypted.
type KeyState struct {
	Number     uint16    // of the key that is used; 0 if the store is in the clear
	Created    time.Time // of that key
	StaleBytes int64     // of packs that are in the clear or under an older key
}

// Keys tells how the store is encrypted.
func (s *Store) Keys() KeyState {
	var out KeyState
	if s.ring != nil {
		out.Number, out.Created = s.ring.active.number, s.ring.active.created
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, p := range s.packs {
		if p.stale {
			out.StaleBytes += p.size
		}
	}
	return out
}

func (s *Store) activeKey() uint16 {
	if s.ring == nil {
		return 0
	}
	return s.ring.active.number
}

// encode gives a record as it is stored: header and payload.
func (s *Store) encode(dst []byte, r record, payload []byte) []byte {
	if s.ring == nil {
		return append(r.append(dst), payload...)
	}
	k := s.ring.active
	r.key, r.name, r.stored = k.number, k.veil(r.name), r.stored+sealedMore
	// The checksum is of what is on the disk, so that a pass over the packs
	// needs no key to find what the disk has spoiled.
	at := len(dst)
	dst = append(dst, make([]byte, recordHeader)...)
	dst = k.seal(dst, payload, r.bound(nil))
	r.sum = checksum(dst[at+recordHeader:])
	r.append(dst[at:at])
	return dst
}

// decrypt gives name and payload of a stored record as they were before encode;
// dst is room for the payload.
func (s *Store) decrypt(dst []byte, r record, payload []byte) (record, []byte, error) {
	if r.key == 0 {
		return r, payload, nil
	}
	k, err := s.ring.key(r.key)
	if err != nil {
		return r, nil, err
	}
	plain, err := k.open(dst[:0], payload, r.bound(nil))
	if err != nil {
		return r, nil, err
	}
	r.name, r.stored, r.key = k.unveil(r.name), uint32(len(plain)), 0
	return r, plain, nil
}

// plainName gives the name of a record, which is veiled on the disk.
func (s *Store) plainName(key uint16, name Name) (Name, error) {
	if key == 0 {
		return name, nil
	}
	k, err := s.ring.key(key)
	if err != nil {
		return Name{}, err
	}
	return k.unveil(name), nil
}

// box encrypts a small file as a whole: magic, number of the key (2), nonce,
// ciphertext. Unbox undoes it, and gives what is not boxed as it is.
func (s *Store) box(b []byte) []byte {
	if s.ring == nil {
		return b
	}
	head := binary.LittleEndian.AppendUint16([]byte(boxMagic), s.ring.active.number)
	return s.ring.active.seal(bytes.Clone(head), b, head)
}

func (s *Store) unbox(b []byte) ([]byte, error) {
	head := len(boxMagic) + 2
	if !bytes.HasPrefix(b, []byte(boxMagic)) {
		return b, nil
	}
	if len(b) < head {
		return nil, fmt.Errorf("encrypted file cut short: %w", ErrDamaged)
	}
	k, err := s.ring.key(binary.LittleEndian.Uint16(b[len(boxMagic):]))
	if err != nil {
		return nil, err
	}
	return k.open(nil, b[head:], b[:head])
}

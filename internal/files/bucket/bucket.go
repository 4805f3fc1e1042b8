// Package bucket is a file system for a point store whose files are objects of
// an S3-compatible store, with a local cache. Files that are written once and
// synced are objects; what is only of use while a cycle arrives stays local.
package bucket

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"kestrel/internal/files"
	"kestrel/internal/reach"
)

// Config says where the objects are.
type Config struct {
	// URL is ENDPOINT/BUCKET or ENDPOINT/BUCKET/PREFIX, http or https, with
	// ?region=NAME where the service wants one.
	URL       string
	AccessKey string
	SecretKey string
	// Cache is how many bytes of what is stored may be kept here besides.
	Cache int64
	// Take takes the objects over from another host that used them.
	Take bool
}

const (
	piece    = 1 << 20 // bytes that are fetched and kept together
	headLen  = 4096    // a shorter piece: the header of a pack
	deadline = 2 * time.Minute
)

// FS implements files.System below one folder: root/packs/1.pack is the object
// prefix/packs/1.pack. Files in intakes and other local names are files of the
// host alone.
type FS struct {
	files.OS
	// Raised is how many objects were brought back at the start that somebody had removed
	// or written over though they were retained.
	Raised               int
	root, prefix, bucket string
	client               *minio.Client
	http                 *http.Client
	limit                int64
	locking              bool // the bucket has Object Lock

	mu      sync.Mutex
	objects map[string]int64   // sizes, by path below the root
	cached  map[string]*cached // by path below the root
	used    int64
	// retained is until when, by path below the root, as far as it is known.
	retained map[string]time.Time
	tick     int64 // grows with every read, for what was used longest ago
}

// cached is what is kept here of an object.
type cached struct {
	file   files.File
	have   map[int64]bool // pieces
	bytes  int64
	last   int64
	refs   int
	whole  bool // all of it is here, and not to be let go before it is stored
	stored bool
}

// Open connects to the objects, within some networks only, and takes them for the store
// in the folder root.
func Open(ctx context.Context, root string, c Config, within reach.Networks) (*FS, error) {
	u, err := url.Parse(c.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not a URL such as https://objects.skerry.example/bucket/prefix", c.URL)
	}
	name, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if name == "" {
		return nil, fmt.Errorf("%q names no bucket", c.URL)
	}
	transport, err := minio.DefaultTransport(u.Scheme == "https")
	if err != nil {
		return nil, fmt.Errorf("object store: %w", err)
	}
	transport.DialContext = within.Dialer(10 * time.Second).DialContext
	client, err := minio.New(u.Host, &minio.Options{Transport: transport, Creds: credentials.NewStaticV4(c.AccessKey, c.SecretKey, ""), Secure: u.Scheme == "https", Region: u.Query().Get("region"), MaxRetries: 4})
	if err != nil {
		return nil, fmt.Errorf("object store: %w", err)
	}
	s := &FS{root: filepath.Clean(root), prefix: prefix, bucket: name, client: client, http: &http.Client{Transport: transport, Timeout: deadline}, limit: c.Cache, objects: map[string]int64{}, cached: map[string]*cached{}, retained: map[string]time.Time{}}
	if err := s.OS.MkdirAll(s.root); err != nil {
		return nil, err
	}
	ok, err := client.BucketExists(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("object store %s: %w", u.Host, err)
	}
	if !ok {
		return nil, fmt.Errorf("object store %s has no bucket %q; make it first", u.Host, name)
	}
	if s.locking = s.lockable(ctx); s.locking {
		if s.Raised, err = s.raise(ctx); err != nil {
			return nil, err
		}
	}
	for o := range client.ListObjects(ctx, name, minio.ListObjectsOptions{Prefix: s.key(""), Recursive: true}) {
		if o.Err != nil {
			return nil, fmt.Errorf("list objects: %w", o.Err)
		}
		s.objects[s.rel(o.Key)] = o.Size
	}
	if err := s.take(ctx, c.Take); err != nil {
		return nil, err
	}
	return s, s.clean()
}

// take notes in the objects which host uses them, and refuses another's.
func (s *FS) take(ctx context.Context, force bool) error {
	const name = "in-use"
	local := filepath.Join(s.root, "instance")
	mine, err := s.OS.ReadFile(local)
	if errors.Is(err, fs.ErrNotExist) {
		mine = []byte(uuid.NewString())
		err = files.WriteWhole(s.OS, local, mine)
	}
	if err != nil {
		return fmt.Errorf("take the objects: %w", err)
	}
	if _, there := s.objects[name]; there && !force {
		theirs, err := s.get(ctx, name, 0, -1)
		if err != nil {
			return err
		}
		if !bytes.Equal(theirs, mine) {
			return errors.New("these objects are used by another host; two would destroy them. If that one is gone for good, take them over (--take-objects)")
		}
		return nil
	}
	return s.put(ctx, name, bytes.NewReader(mine), int64(len(mine)))
}

// clean removes cached pieces of an earlier run: which they are is not known any
// more. Packs that were not stored yet stay.
func (s *FS) clean() error {
	found, err := s.OS.List(filepath.Join(s.root, "packs"))
	if err != nil {
		return nil // none yet
	}
	for _, e := range found {
		rel := "packs/" + e.Name
		if _, stored := s.objects[rel]; stored {
			if err := s.OS.Remove(filepath.Join(s.root, rel)); err != nil {
				return err
			}
		}
	}
	return nil
}

// RefuseCache fails if a folder is the cache of a store whose points are objects:
// as a store of its own it would look empty.
func RefuseCache(root string) error {
	if _, err := (files.OS{}).ReadFile(filepath.Join(root, "instance")); err == nil {
		return fmt.Errorf("%s is the cache of a point store that is in an object store: say which (--store-objects)", root)
	}
	return nil
}

// WriteOnce says that a file cannot be added to once it is synced.
func (s *FS) WriteOnce() {}

func (s *FS) key(rel string) string { return path.Join(s.prefix, rel) }

// object gives the path below the root, and whether it is an object's.
func (s *FS) object(p string) (string, bool) {
	rel, err := filepath.Rel(s.root, filepath.Clean(p))
	if err != nil || strings.HasPrefix(rel, "..") {
		return "", false
	}
	rel = filepath.ToSlash(rel)
	switch {
	case strings.HasSuffix(rel, ".part"):
		return rel, false
	case strings.HasPrefix(rel, "packs/"), strings.HasPrefix(rel, "seals/"):
		return rel, true
	case rel == "store.json", rel == "keys.json", rel == "owner.json":
		return rel, true
	}
	return rel, false
}

func within() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), deadline)
}

func missing(p string) error { return &fs.PathError{Op: "open", Path: p, Err: fs.ErrNotExist} }

func (s *FS) put(ctx context.Context, rel string, r io.Reader, size int64) error {
	_, err := s.client.PutObject(ctx, s.bucket, s.key(rel), r, size, minio.PutObjectOptions{ContentType: "application/octet-stream", PartSize: 32 << 20})
	if err != nil {
		return fmt.Errorf("store object %s: %w", rel, err)
	}
	s.mu.Lock()
	s.objects[rel] = size
	delete(s.retained, rel) // of the version before
	s.mu.Unlock()
	return nil
}

// get reads a stretch of an object; all of it if n is negative.
func (s *FS) get(ctx context.Context, rel string, off, n int64) ([]byte, error) {
	var o minio.GetObjectOptions
	if n >= 0 {
		if err := o.SetRange(off, off+n-1); err != nil {
			return nil, err
		}
	}
	r, err := s.client.GetObject(ctx, s.bucket, s.key(rel), o)
	if err == nil {
		defer func() { _ = r.Close() }()
		var b []byte
		if b, err = io.ReadAll(r); err == nil {
			return b, nil
		}
	}
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return nil, missing(rel)
	}
	return nil, fmt.Errorf("read object %s: %w", rel, err)
}

// Create implements files.System.
func (s *FS) Create(p string) (files.File, error) {
	if rel, ok := s.object(p); ok {
		return nil, fmt.Errorf("object %s cannot be written in place", rel)
	}
	if err := s.OS.MkdirAll(filepath.Dir(p)); err != nil {
		return nil, err
	}
	return s.OS.Create(p)
}

// CreateNew implements files.System: the file becomes an object when it is
// synced.
func (s *FS) CreateNew(p string) (files.File, error) {
	rel, ok := s.object(p)
	if !ok {
		return s.OS.CreateNew(p)
	}
	s.mu.Lock()
	_, there := s.objects[rel]
	s.mu.Unlock()
	if there {
		return nil, &fs.PathError{Op: "create", Path: p, Err: fs.ErrExist}
	}
	f, err := s.OS.CreateNew(p)
	if err != nil {
		return nil, err
	}
	return s.keep(rel, &cached{file: f, whole: true}), nil
}

func (s *FS) keep(rel string, c *cached) *file {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cached[rel] = c
	c.refs++
	return &file{fs: s, rel: rel, c: c}
}

// Open implements files.System.
func (s *FS) Open(p string) (files.File, error) {
	rel, ok := s.object(p)
	if !ok {
		return s.OS.Open(p)
	}
	s.mu.Lock()
	if c := s.cached[rel]; c != nil {
		c.refs++
		s.mu.Unlock()
		return &file{fs: s, rel: rel, c: c}, nil
	}
	_, stored := s.objects[rel]
	s.mu.Unlock()
	if stored {
		return s.keep(rel, &cached{have: map[int64]bool{}, stored: true}), nil
	}
	// Of an earlier run, and not stored before it ended.
	f, err := s.OS.Edit(p)
	if err == nil {
		if n, serr := f.Size(); serr == nil && n == 0 {
			_ = f.Close()
			_ = s.OS.Remove(p)
			return nil, missing(p)
		}
	}
	if err != nil {
		return nil, err
	}
	return s.keep(rel, &cached{file: f, whole: true}), nil
}

// ReadFile implements files.System.
func (s *FS) ReadFile(p string) ([]byte, error) {
	rel, ok := s.object(p)
	if !ok {
		return s.OS.ReadFile(p)
	}
	s.mu.Lock()
	size, there := s.objects[rel]
	s.mu.Unlock()
	if !there {
		return nil, missing(p)
	}
	// A copy that is as long as the object is the object: none changes but by
	// being written whole.
	if b, err := s.OS.ReadFile(s.copyOf(rel)); err == nil && int64(len(b)) == size {
		return b, nil
	}
	ctx, cancel := within()
	defer cancel()
	b, err := s.get(ctx, rel, 0, -1)
	if err == nil && strings.HasSuffix(rel, ".index") {
		if s.OS.MkdirAll(filepath.Dir(s.copyOf(rel))) == nil {
			_ = files.WriteWhole(s.OS, s.copyOf(rel), b)
		}
	}
	return b, err
}

// copyOf is where a small object is kept here as well.
func (s *FS) copyOf(rel string) string { return filepath.Join(s.root, "copies", rel) }

// Rename implements files.System: an object is stored when it gets its name.
func (s *FS) Rename(from, to string) error {
	rel, ok := s.object(to)
	if !ok {
		return s.OS.Rename(from, to)
	}
	b, err := s.OS.ReadFile(from)
	if err != nil {
		return err
	}
	ctx, cancel := within()
	defer cancel()
	if err := s.put(ctx, rel, bytes.NewReader(b), int64(len(b))); err != nil {
		return err
	}
	_ = s.OS.Remove(s.copyOf(rel))
	return s.OS.Remove(from)
}

// Remove implements files.System.
func (s *FS) Remove(p string) error {
	rel, ok := s.object(p)
	if !ok {
		return s.OS.Remove(p)
	}
	s.mu.Lock()
	_, stored := s.objects[rel]
	c := s.cached[rel]
	s.mu.Unlock()
	if !stored && c == nil {
		return missing(p)
	}
	if stored {
		ctx, cancel := within()
		defer cancel()
		remove := func() error {
			return s.client.RemoveObject(ctx, s.bucket, s.key(rel), minio.RemoveObjectOptions{})
		}
		if s.locking {
			remove = func() error { return s.purge(ctx, rel) }
		}
		if err := remove(); err != nil {
			return fmt.Errorf("remove object %s: %w", rel, err)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.objects, rel)
	delete(s.cached, rel)
	delete(s.retained, rel)
	if c != nil {
		s.used -= c.bytes
		c.bytes = 0
	}
	for _, local := range []string{p, s.copyOf(rel)} {
		if err := s.OS.Remove(local); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// SyncDir implements files.System: a name of an object is there for good at once.
func (s *FS) SyncDir(dir string) error {
	if _, ok := s.object(filepath.Join(dir, "x")); ok {
		return nil
	}
	return s.OS.SyncDir(dir)
}

// CacheBytes is how much of what is stored is kept here besides.
func (s *FS) CacheBytes() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.used
}

// List implements files.System.
func (s *FS) List(dir string) ([]files.Entry, error) {
	rel, err := filepath.Rel(s.root, filepath.Clean(dir))
	if err != nil {
		return nil, err
	}
	local, lerr := s.OS.List(dir)
	if _, ok := s.object(filepath.Join(dir, "x")); !ok {
		return local, lerr
	}
	found := map[string]bool{} // name → folder
	for _, e := range local {
		found[e.Name] = e.Dir
	}
	s.mu.Lock()
	for name := range s.objects {
		if below, ok := strings.CutPrefix(name, filepath.ToSlash(rel)+"/"); ok {
			first, _, deeper := strings.Cut(below, "/")
			found[first] = deeper
		}
	}
	s.mu.Unlock()
	if lerr != nil && len(found) == 0 {
		return nil, lerr
	}
	var out []files.Entry
	for name, folder := range found {
		out = append(out, files.Entry{Name: name, Dir: folder})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

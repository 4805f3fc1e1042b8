package lab

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"kestrel/internal/lab/wire"
)

// ledger keeps checkpoints, a file each, and the sums of what disks held, a line each: what a
// cycle costs must not grow with the machines that it is not about.
type ledger struct {
	dir, sums string
	lines     int // of sums
}

const keptDigests = 4000

// newest are the sums that are kept of some, the newest last.
func newest(all []wire.Digest) []wire.Digest { return all[max(0, len(all)-keptDigests):] }

// openLedger reads one.
func openLedger(dir string) (*ledger, map[string]*checkpoint, []wire.Digest, error) {
	g := &ledger{dir: filepath.Join(dir, "checkpoints"), sums: filepath.Join(dir, "digests")}
	if err := os.MkdirAll(g.dir, 0o700); err != nil {
		return nil, nil, nil, fmt.Errorf("open the checkpoints of a lab: %w", err)
	}
	files, err := filepath.Glob(filepath.Join(g.dir, "*.json"))
	if err != nil {
		return nil, nil, nil, err
	}
	cps := map[string]*checkpoint{}
	for _, f := range files {
		cp := &checkpoint{}
		b, err := os.ReadFile(f)
		if err == nil {
			err = json.Unmarshal(b, cp)
		}
		if err != nil {
			return nil, nil, nil, fmt.Errorf("read checkpoint %s: %w", filepath.Base(f), err)
		}
		cps[cp.Name] = cp
	}
	b, err := os.ReadFile(g.sums)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, nil, nil, fmt.Errorf("read the sums of a lab: %w", err)
	}
	var digests []wire.Digest
	for line := range bytes.Lines(b) {
		var d wire.Digest
		if json.Unmarshal(line, &d) == nil { // the last one may have been cut off
			digests = append(digests, d)
		}
	}
	g.lines = keptDigests * 2 // so that the first to come writes them anew, whole
	return g, cps, newest(digests), nil
}

// put keeps a checkpoint as it is now.
func (g *ledger) put(cp *checkpoint) error { return write(g.file(cp.Name), cp) }

// drop forgets one.
func (g *ledger) drop(name string) error { return os.Remove(g.file(name)) }

func (g *ledger) file(name string) string { return filepath.Join(g.dir, name+".json") }

// add keeps sums that have come, of all that are kept with them.
func (g *ledger) add(all, come []wire.Digest) error {
	if len(come) == 0 {
		return nil
	}
	anew := g.lines+len(come) > keptDigests*2
	if anew {
		come = all
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	for _, d := range come {
		if err := enc.Encode(d); err != nil {
			return err
		}
	}
	if anew {
		g.lines = len(come)
		return whole(g.sums, out.Bytes())
	}
	g.lines += len(come)
	f, err := os.OpenFile(g.sums, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("save lab state: %w", err)
	}
	_, err = f.Write(out.Bytes())
	return errors.Join(err, f.Close())
}

// write writes a value to a file so that it is whole or as it was.
func write(path string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return whole(path, b)
}

func whole(path string, b []byte) error {
	tmp := path + ".part"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return fmt.Errorf("save lab state: %w", err)
	}
	return os.Rename(tmp, path)
}

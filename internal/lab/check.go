package lab

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"text/tabwriter"

	"kestrel/internal/lab/wire"
	"kestrel/internal/lab/witness"
)

// Source is the lab whose own record of an instant exported disks are compared
// with; the zero value compares with none.
type Source struct{ URL, User, Password, Checkpoint string }

// Report is what CheckExport found.
type Report struct {
	OK       bool            `json:"ok"`
	Machines []MachineReport `json:"machines"`
	Together string          `json:"together"` // whether the machines agree
	Compared bool            `json:"compared"` // with the source
}

// MachineReport is about one machine's disks.
type MachineReport struct {
	Name   string       `json:"name"`
	Record string       `json:"record"` // what its guest's record says
	OK     bool         `json:"ok"`
	Disks  []DiskReport `json:"disks"`
}

// DiskReport compares one disk with the source.
type DiskReport struct {
	Disk   string `json:"disk"`
	SHA256 string `json:"sha256"` // as in wire.Digest
	Source string `json:"source"` // equal, differs, or why it was not compared
}

// Table prints the report for people.
func (r Report) Table(w *tabwriter.Writer) {
	_, _ = fmt.Fprintln(w, "MACHINE\tDISK\tAGAINST THE SOURCE\tGUEST'S RECORD")
	for _, m := range r.Machines {
		for i, d := range m.Disks {
			name, rec := m.Name, m.Record
			if i > 0 {
				name, rec = "", ""
			}
			_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", name, d.Disk, d.Source, rec)
		}
	}
	_, _ = fmt.Fprintf(w, "\nTogether: %s\n", r.Together)
}

// CheckExport checks raw files named MACHINE.DISK.raw.
func CheckExport(ctx context.Context, files []string, src Source) (Report, error) {
	rep := Report{OK: true, Together: "no record depends on one that is missing", Compared: src.URL != ""}
	want := map[string]string{}
	if src.URL != "" {
		ds, err := fetchDigests(ctx, src)
		if err != nil {
			return rep, err
		}
		for _, d := range ds {
			want[d.Name+"."+d.Disk] = d.SHA256
		}
		if len(ds) == 0 {
			return rep, fmt.Errorf("the lab has no record of checkpoint %q (it keeps the newest few thousand)", src.Checkpoint)
		}
	}
	byMachine := map[string][]string{}
	for _, f := range files {
		base := strings.TrimSuffix(filepath.Base(f), ".raw")
		machine, _, ok := strings.Cut(base, ".")
		if !ok {
			return rep, fmt.Errorf("%s is not named MACHINE.DISK.raw", f)
		}
		byMachine[machine] = append(byMachine[machine], f)
	}
	var names []string
	for n := range byMachine {
		names = append(names, n)
	}
	sort.Strings(names)
	var records []witness.Record
	for _, n := range names {
		m, rec, err := checkMachine(n, byMachine[n], want, src.URL != "")
		if err != nil {
			return rep, err
		}
		rep.OK = rep.OK && m.OK
		rep.Machines = append(rep.Machines, m)
		records = append(records, rec)
	}
	if err := witness.Together(records); err != nil {
		rep.OK, rep.Together = false, err.Error()
	}
	return rep, nil
}

func checkMachine(name string, files []string, want map[string]string, compare bool) (MachineReport, witness.Record, error) {
	m := MachineReport{Name: name, OK: true}
	sort.Strings(files)
	var open []*os.File
	defer func() {
		for _, f := range open {
			_ = f.Close()
		}
	}()
	for _, p := range files {
		f, err := os.Open(p)
		if err != nil {
			return m, witness.Record{}, err
		}
		open = append(open, f)
		sum, err := DigestOf(f)
		if err != nil {
			return m, witness.Record{}, err
		}
		key := strings.TrimPrefix(strings.TrimSuffix(filepath.Base(p), ".raw"), name+".")
		d := DiskReport{Disk: key, SHA256: sum, Source: "not compared"}
		if compare {
			switch w, ok := want[name+"."+key]; {
			case !ok:
				d.Source, m.OK = "not in the checkpoint", false
			case w != sum:
				d.Source, m.OK = "differs", false
			default:
				d.Source = "equal"
			}
		}
		m.Disks = append(m.Disks, d)
	}
	rec, err := witness.Read(open[0], open[len(open)-1])
	switch {
	case err != nil:
		m.Record, m.OK = err.Error(), false
	case rec.Seq == 0:
		m.Record = "none written yet"
	default:
		m.Record = fmt.Sprintf("consistent up to transaction %d of %s", rec.Seq, rec.At.Local().Format("15:04:05.000"))
	}
	return m, rec, nil
}

// DigestOf computes the digest of a disk as in wire.Digest.
func DigestOf(r io.Reader) (string, error) {
	h := sha256.New()
	buf, index := make([]byte, blockSize), make([]byte, 8)
	for b := uint64(0); ; b++ {
		clear(buf)
		n, err := io.ReadFull(r, buf)
		if n > 0 && [blockSize]byte(buf) != [blockSize]byte{} {
			sum := sha256.Sum256(buf)
			binary.LittleEndian.PutUint64(index, b)
			h.Write(index)
			h.Write(sum[:])
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return hex.EncodeToString(h.Sum(nil)), nil
		}
		if err != nil {
			return "", err
		}
	}
}

func fetchDigests(ctx context.Context, src Source) ([]wire.Digest, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(src.URL, "/")+"/v1/checkpoints/"+url.PathEscape(src.Checkpoint)+"/digests", nil)
	if err != nil {
		return nil, err
	}
	req.SetBasicAuth(src.User, src.Password)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, fmt.Errorf("ask the lab: %w", err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the lab answers %s", res.Status)
	}
	var out []wire.Digest
	return out, json.NewDecoder(res.Body).Decode(&out)
}

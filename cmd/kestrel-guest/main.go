// Kestrel-guest runs inside the small Linux guests of the demo, the tests and
// the benches. It writes transactions to two file systems, each made durable
// before the next begins, tells the other guests of the network how far it is,
// and prints to the console what it finds at its start and what it does.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"kestrel/internal/lab/witness"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var g guest
	flag.StringVar(&g.name, "name", "", "the guest's name")
	flag.StringVar(&g.after, "after", "", "the guest whose transactions ours depend on")
	flag.DurationVar(&g.every, "every", 100*time.Millisecond, "time between transactions")
	flag.IntVar(&g.bulk, "records", 4, "pages of 4 KiB that each transaction appends beside its record")
	flag.StringVar(&g.tell, "tell", "", "the broadcast address of the network, to say how far we are")
	flag.Parse()
	if flag.NArg() != 2 {
		fmt.Println("GUEST two folders are needed")
		os.Exit(2)
	}
	if err := g.run(ctx, flag.Arg(0), flag.Arg(1)); err != nil {
		fmt.Printf("GUEST %s stops: %v\n", g.name, err)
		os.Exit(1)
	}
}

type guest struct {
	name, after string
	tell        string
	every       time.Duration
	bulk        int

	mu    sync.Mutex
	peers map[string]uint64
}

// logBytes is where the appended pages start over.
const logBytes = 24 << 20

func (g *guest) run(ctx context.Context, first, last string) error {
	a, err := open(filepath.Join(first, "records"))
	if err != nil {
		return err
	}
	b, err := open(filepath.Join(last, "pages"))
	if err != nil {
		return err
	}
	log, err := open(filepath.Join(first, "log"))
	if err != nil {
		return err
	}
	rec, err := witness.Read(a, b)
	if err != nil {
		fmt.Printf("FOUND %s torn: %v\n", g.name, err)
		return err
	}
	fmt.Printf("FOUND %s seq=%d peer=%d\n", g.name, rec.Seq, rec.PeerSeq)
	g.peers = map[string]uint64{g.after: rec.PeerSeq}
	conn, err := net.ListenPacket("udp4", ":7400")
	if err != nil {
		return err
	}
	go g.listen(conn)
	everybody := &net.UDPAddr{IP: net.ParseIP(g.tell), Port: 7400}
	var took []time.Duration
	tick := time.NewTicker(g.every)
	page := make([]byte, 4096)
	for report := time.Now().Add(time.Second); ; {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		g.mu.Lock()
		peer := g.peers[g.after]
		g.mu.Unlock()
		rec = witness.Record{Machine: witness.KeyOf(g.name), Seq: rec.Seq + 1, At: time.Now(), Cursor: rec.Cursor}
		if g.after != "" {
			rec.Peer, rec.PeerSeq = witness.KeyOf(g.after), peer
		}
		began := time.Now()
		for range g.bulk {
			for i := range page {
				page[i] = byte(rec.Cursor>>(i%5)) ^ byte(i*7)
			}
			if _, err := log.WriteAt(page, int64(rec.Cursor)*4096%logBytes); err != nil {
				return err
			}
			rec.Cursor++
		}
		if err := rec.Write(a, durable{b}); err != nil {
			return err
		}
		if err := errors.Join(a.Sync(), log.Sync()); err != nil {
			return err
		}
		took = append(took, time.Since(began))
		// Not before it is durable: whoever hears of it may build on it.
		if g.tell != "" {
			_, _ = conn.WriteTo(fmt.Appendf(nil, "%s %d", g.name, rec.Seq), everybody)
		}
		if now := time.Now(); now.After(report) {
			report = now.Add(time.Second)
			var each []string
			for _, t := range took {
				each = append(each, fmt.Sprint(t.Microseconds()))
			}
			fmt.Printf("TX %s seq=%d peer=%d us=%s max=%dus\n", g.name, rec.Seq, rec.PeerSeq, strings.Join(each, ","), slices.Max(took).Microseconds())
			took = took[:0]
		}
	}
}

func (g *guest) listen(conn net.PacketConn) {
	buf := make([]byte, 200)
	for {
		n, _, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		var seq uint64
		name, text, _ := strings.Cut(string(buf[:n]), " ")
		if _, err := fmt.Sscan(text, &seq); err == nil {
			g.mu.Lock()
			g.peers[name] = max(seq, g.peers[name])
			g.mu.Unlock()
		}
	}
}

// durable makes each write last before it returns: the page has to be on its
// disk before the record that names it.
type durable struct{ f *os.File }

func (d durable) WriteAt(b []byte, off int64) (int, error) {
	n, err := d.f.WriteAt(b, off)
	return n, errors.Join(err, d.f.Sync())
}

func open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err == nil && st.Size() < 4<<20 {
		err = f.Truncate(4 << 20)
		return f, err
	}
	return f, nil
}

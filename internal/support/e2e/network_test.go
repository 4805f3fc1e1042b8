package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
	"kestrel/internal/platform"
)

// relayOrder is what the process in the other namespace is told: to pass on what
// arrives, so much later, and to stand still while its input says so.
type relayOrder struct {
	Listen, To string
	Delay      time.Duration
}

const relayEnv = "KESTREL_TEST_RELAY"

// runRelay is the process in the other namespace.
func runRelay(order string) error {
	var o relayOrder
	if err := json.Unmarshal([]byte(order), &o); err != nil {
		return err
	}
	var still sync.RWMutex
	go func() {
		b := make([]byte, 1)
		for {
			if _, err := os.Stdin.Read(b); err != nil {
				os.Exit(0) // the test is over
			}
			if b[0] == 's' {
				still.Lock()
			} else {
				still.Unlock()
			}
		}
	}()
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return err
	}
	fmt.Println("ready")
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		// Little is taken in while it stands still.
		_ = c.(*net.TCPConn).SetReadBuffer(1 << 20)
		go func() {
			d, err := net.Dial("tcp", o.To)
			if err != nil {
				_ = c.Close()
				return
			}
			go late(d, c, o.Delay, &still)
			late(c, d, o.Delay, &still)
		}()
	}
}

// late copies what it reads, each piece when its delay is over.
func late(to, from net.Conn, delay time.Duration, still *sync.RWMutex) {
	type piece struct {
		due time.Time
		b   []byte
	}
	pieces := make(chan piece, 1024) // up to 32 MiB on the way
	wait := func() {
		still.RLock()
		defer still.RUnlock()
	}
	go func() {
		defer close(pieces)
		for {
			b := make([]byte, 32<<10)
			wait()
			n, err := from.Read(b)
			if n > 0 {
				pieces <- piece{time.Now().Add(delay), b[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range pieces {
		time.Sleep(time.Until(p.due))
		wait()
		_, err := to.Write(p.b)
		if err != nil {
			break
		}
	}
	_, _ = to.Close(), from.Close()
	for range pieces { // lets the reader end
	}
}

var networks atomic.Int32

// slowWorld is two sites whose link leads through a network of its own: veth
// shaped by tbf to so many bits a second each way, and a relay on the other side
// that delays each way.
func slowWorld(t *testing.T, bits int64, delay time.Duration) (w *world, stall func(bool)) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	n := int(networks.Add(1))
	ns, here, there := fmt.Sprintf("ktn%d-%d", os.Getpid(), n), fmt.Sprintf("kta%d-%d", os.Getpid()%10000, n), fmt.Sprintf("ktb%d-%d", os.Getpid()%10000, n)
	base := fmt.Sprintf("10.%d.%d.", 64+os.Getpid()%64, n+os.Getpid()/64%200)
	ip := func(args ...string) error {
		out, err := exec.Command("ip", args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	if err := ip("netns", "add", ns); err != nil {
		t.Skipf("no network namespaces here: %v", err)
	}
	t.Cleanup(func() { _ = ip("netns", "del", ns) })
	in := func(args ...string) []string { return append([]string{"netns", "exec", ns}, args...) }
	rate := []string{"tc", "qdisc", "add", "dev", "", "root", "tbf", "rate", strconv.FormatInt(bits, 10) + "bit", "burst", "128kb", "latency", "100ms"}
	shape := func(dev string) []string { return append(append(append([]string(nil), rate[:4]...), dev), rate[5:]...) }
	for _, step := range [][]string{
		{"link", "add", here, "type", "veth", "peer", "name", there, "netns", ns},
		{"addr", "add", base + "1/24", "dev", here}, {"link", "set", here, "up"},
		in("ip", "addr", "add", base+"2/24", "dev", there), in("ip", "link", "set", there, "up"), in("ip", "link", "set", "lo", "up"),
		in(shape(there)...),
	} {
		require.NoError(t, ip(step...))
	}
	out, err := exec.Command("tc", shape(here)[1:]...).CombinedOutput()
	require.NoError(t, err, "%s", out)

	listen := fmt.Sprintf("%s1:%s", base, portOf(t, freeAddr(t)))
	order, err := json.Marshal(relayOrder{Listen: base + "2:7443", To: listen, Delay: delay})
	require.NoError(t, err)
	cmd := exec.Command("ip", in(os.Args[0])...)
	cmd.Env = append(os.Environ(), relayEnv+"="+string(order))
	cmd.Stderr = os.Stderr
	input, err := cmd.StdinPipe()
	require.NoError(t, err)
	output, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = input.Close(); _ = cmd.Wait() })
	_, err = io.ReadFull(output, make([]byte, len("ready")))
	require.NoError(t, err)

	bulk := lab.ScenarioMachine{Name: "bulk", Folder: "/test", Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "lan",
		Disks: []lab.ScenarioDisk{{Label: "data", SizeMiB: math.Ceil(float64(bits) / 8 * 20 / (1 << 20)), UsedMiB: 1}}, Workload: lab.Workload{Seed: 90}}
	w = &world{t: t, lab: newLab(t, "lab-password", bulk)}
	w.home, w.recovery = newSite(t, "Norhaven"), newSite(t, "Eastmole", "--link-listen", listen, "--link-address", base+"2:7443")
	w.pair()
	return w, func(on bool) {
		_, err := input.Write([]byte(map[bool]string{true: "s", false: "g"}[on]))
		require.NoError(t, err)
	}
}

func portOf(t *testing.T, addr string) string {
	_, port, err := net.SplitHostPort(addr)
	require.NoError(t, err)
	return port
}

// seconds is how long a phase of a cycle took.
func seconds(c api.Cycle, phase string) float64 {
	for _, p := range c.Phases {
		if p.Name == phase && p.To != nil {
			return p.To.Sub(p.From).Seconds()
		}
	}
	return 0
}

// networkTest is something that a copy over a slow link shows, long enough to
// send for so many seconds.
type networkTest struct {
	name           string
	seconds, brief float64
	// before is called when the copy is about to begin.
	before func(w *world, stall func(bool), link float64)
	// least is how long sending so much has to take, whatever the machine does.
	least func(sent, link float64) float64
	// most is how long it may take on a machine that does nothing else.
	most func(sent, link float64) float64
}

const pause = 4 * time.Second

// burst is what a shaped link lets pass at once, and what is on its way.
const burst = 1 << 20

var networkTests = []networkTest{
	{"plain", 18, 3, func(*world, func(bool), float64) {},
		func(sent, link float64) float64 { return (sent - burst) / link },
		func(sent, link float64) float64 { return sent / (0.85 * link) }},
	// A pause costs its own length, less what was in flight, and little more.
	{"paused", 8, 4, func(_ *world, stall func(bool), _ float64) {
		go func() {
			time.Sleep(2 * time.Second)
			stall(true)
			time.Sleep(pause)
			stall(false)
		}()
	},
		func(sent, link float64) float64 { return (sent-burst)/link + pause.Seconds()/2 },
		func(sent, link float64) float64 { return sent/(0.85*link) + pause.Seconds() + 2 }},
	{"limited", 6, 3, func(w *world, _ func(bool), link float64) {
		half := int64(link / 2)
		must[api.Link](w.home, http.MethodPatch, "/links/Eastmole", api.EditLink{LimitBytesPerSecond: &half})
	},
		func(sent, link float64) float64 { return (sent - burst) / (link / 2) / 1.05 },
		func(sent, link float64) float64 { return sent / (link / 2) / 0.95 }},
}

// stillness measures for how long nobody on this machine got a processor, as
// happens where it shares them with others: so long it was not the link's fault.
func stillness() (stop func() time.Duration) {
	const beat, late = 10 * time.Millisecond, 50 * time.Millisecond
	end, lost := make(chan struct{}), make(chan time.Duration)
	go func() {
		var sum time.Duration
		for at := time.Now(); ; at = time.Now() {
			select {
			case <-end:
				lost <- sum
				return
			case <-time.After(beat):
				if d := time.Since(at) - beat; d > late {
					sum += d
				}
			}
		}
	}()
	return func() time.Duration { close(end); return <-lost }
}

var full = flag.Bool("e2e.full", false, "hold copies over slow networks to the most that they may take, too; the machine has to be free for it")

// Over slow networks, near and far, nothing is sent faster than the link or the
// limit allows, a pause of the network neither ends the cycle nor has it send twice,
// and the copy is sealed. In full, with nothing else on the machine, cycles use what
// the link gives and a pause costs little more than its own length; what was
// measured while the machine stood still does not count then.
func TestSlowNetworks(t *testing.T) {
	t.Parallel()
	for _, net := range []struct {
		mbit  int64
		delay time.Duration
	}{{40, 20 * time.Millisecond}, {200, 80 * time.Millisecond}} {
		if !*full && net.mbit > 100 {
			continue // this fast, a busy machine is slower than the link
		}
		t.Run(fmt.Sprintf("%d Mb/s, %v", net.mbit, net.delay), func(t *testing.T) { slowNetwork(t, net.mbit, net.delay) })
	}
}

func slowNetwork(t *testing.T, mbit int64, delay time.Duration) {
	w, stall := slowWorld(t, mbit*1_000_000, delay)
	link := float64(mbit) * 1e6 / 8
	must[api.Link](w.home, http.MethodPatch, "/links/Eastmole", api.EditLink{Compression: new("off")})
	g := w.protect("Bulk", promise(3600, 0), "bulk")
	inventory := w.lab.Inventory().Machines
	machine := inventory[slices.IndexFunc(inventory, func(m platform.Machine) bool { return m.Name == "bulk" })]
	fresh := rand.NewChaCha8([32]byte{byte(mbit)})
	// copied is how many bytes crossed the link, and how long that took.
	copied := func(x networkTest) (float64, float64) {
		p := make([]byte, int(map[bool]float64{true: x.seconds, false: x.brief}[*full]*link))
		_, _ = fresh.Read(p)
		require.NoError(t, w.lab.Write(machine.ID, machine.Disks[0].Key, p, 0))
		x.before(w, stall, link)
		before := len(must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil))
		must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
		var c api.Cycle
		w.eventually("the cycle has ended", func() bool {
			all := must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)
			c = all[0]
			return len(all) > before && c.EndedAt != nil
		})
		require.Equal(t, "sealed", string(c.State), "%s: in one go", x.name)
		require.GreaterOrEqual(t, float64(c.WireBytes), float64(len(p)), "%s: what does not shrink is sent as it is", x.name)
		require.Less(t, float64(c.WireBytes), 1.1*float64(len(p))+burst, "%s: nothing is sent twice", x.name)
		return float64(c.WireBytes), seconds(c, "ship")
	}
	const tries, counted = 5, 3
	for _, x := range networkTests {
		ok := !*full
		for try, fair := 0, 0; try == 0 || !ok && fair < counted; try++ {
			require.Less(t, try, tries, "%s: this machine's processors are busy with something else", x.name)
			stop := stillness()
			sent, took := copied(x)
			lost := stop()
			t.Logf("%s: %.0f bytes in %.2f s, %.0f %% of the link; %v stood still", x.name, sent, took, 100*sent/took/link, lost.Round(time.Millisecond))
			require.GreaterOrEqual(t, took, x.least(sent, link), "%s: faster than it can be", x.name)
			ok = ok || took-lost.Seconds() <= x.most(sent, link)
			if lost.Seconds() < took/20 {
				fair++
			}
		}
		require.True(t, ok, x.name)
	}
}

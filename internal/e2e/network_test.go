package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
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
	go func() {
		defer close(pieces)
		for {
			b := make([]byte, 32<<10)
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
		still.RLock()
		_, err := to.Write(p.b)
		still.RUnlock()
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

	var bulk []lab.ScenarioMachine
	for i, name := range []string{"bulk", "bulk-2", "bulk-3"} {
		used := float64(bits) / 8 * []float64{15, 5, 6}[i] / (1 << 20) // so many seconds' worth
		bulk = append(bulk, lab.ScenarioMachine{Name: name, Folder: "/test", Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "lan",
			Disks: []lab.ScenarioDisk{{Label: "data", SizeMiB: math.Ceil(used) + 4, UsedMiB: used, Noise: 1}}, Workload: lab.Workload{Seed: uint64(90 + i)}})
	}
	w = &world{t: t, lab: newLab(t, "lab-password", bulk...)}
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

// Over slow networks, near and far, cycles use what the link gives; a pause of
// the network costs its own length and little more; and a limit is kept.
func TestSlowNetworks(t *testing.T) {
	if raceEnabled {
		t.Skip("the race detector is slower than the network")
	}
	for _, net := range []struct {
		mbit  int64
		delay time.Duration
	}{{40, 20 * time.Millisecond}, {200, 80 * time.Millisecond}} {
		t.Run(fmt.Sprintf("%d Mb/s, %v", net.mbit, net.delay), func(t *testing.T) {
			w, stall := slowWorld(t, net.mbit*1_000_000, net.delay)
			link := float64(net.mbit) * 1e6 / 8
			must[api.Link](w.home, http.MethodPatch, "/links/Eastmole", api.EditLink{Compression: new("off")})
			run := func(name, machine string) (api.Cycle, float64) {
				g := w.protect(name, promise(3600, 0), machine)
				c := must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)[0]
				took := seconds(c, "ship")
				t.Logf("%s: %d bytes in %.2f s, %.0f %% of the link", name, c.WireBytes, took, 100*float64(c.WireBytes)/took/link)
				return c, took
			}
			c, took := run("Plain", "bulk")
			require.Greater(t, float64(c.WireBytes)/took, 0.85*link)

			pause := 4 * time.Second
			go func() {
				time.Sleep(time.Second)
				stall(true)
				time.Sleep(pause)
				stall(false)
			}()
			c, took = run("Paused", "bulk-2")
			require.Less(t, took, float64(c.WireBytes)/(0.85*link)+pause.Seconds()+2, "it goes on at once")

			limit := int64(link / 2)
			must[api.Link](w.home, http.MethodPatch, "/links/Eastmole", api.EditLink{LimitBytesPerSecond: &limit})
			c, took = run("Limited", "bulk-3")
			require.InEpsilon(t, float64(limit), float64(c.WireBytes)/took, 0.05)
		})
	}
}

package demo_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/demo"
)

// output is a buffer that is written and read at the same time.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// freeRange finds a first port from which enough are free.
func freeRange(t *testing.T) int {
	t.Helper()
next:
	for p := 20000; p < 60000; p += 100 {
		for i := range 20 {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p+i))
			if err != nil {
				continue next
			}
			_ = l.Close()
		}
		return p
	}
	t.Fatal("no free range of ports")
	return 0
}

// start runs the demo until it is ready; stop ends it and waits.
func start(t *testing.T, o demo.Options) (out *output, stop func()) {
	t.Helper()
	out = &output{}
	o.Out = out
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- demo.Run(ctx, o) }()
	require.Eventually(t, func() bool {
		select {
		case err := <-done:
			t.Errorf("the demo ended: %v\n%s", err, out)
			return true
		default:
			return strings.Contains(out.String(), "\nready in ")
		}
	}, 10*time.Minute, 50*time.Millisecond, "%s", out)
	return out, func() { cancel(); require.NoError(t, <-done) }
}

// What a stranger sees: one command, sites with a sign-in, a first page with
// every state on it; it stops all that it started, and the second start takes
// seconds and keeps the data.
func TestDemo(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-demo-test")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	binary := filepath.Join(dir, "kestrel")
	b, err := exec.Command("go", "build", "-o", binary, "kestrel/cmd/kestrel").CombinedOutput()
	require.NoError(t, err, "%s", b)
	o := demo.Options{State: filepath.Join(dir, "state"), Ports: freeRange(t), Binary: binary, Objects: os.Getenv("KESTREL_S3_SERVER")}
	out, stop := start(t, o)
	for _, site := range []string{"Norhaven", "Eastmole", "Skarholt"} {
		require.Contains(t, out.String(), site)
	}
	var secrets struct {
		User, Password, LabPassword string
		Tokens                      map[string]string
	}
	b, err = os.ReadFile(filepath.Join(o.State, "sign-in.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &secrets))
	require.Contains(t, out.String(), secrets.Password)
	url := fmt.Sprintf("http://127.0.0.1:%d/api/v1", o.Ports+1)
	board := func() (b api.Board) {
		req, err := http.NewRequest(http.MethodGet, url+"/board", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+secrets.Tokens["Norhaven"])
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		require.NoError(t, json.NewDecoder(res.Body).Decode(&b))
		return b
	}
	require.Eventually(t, func() bool {
		states := map[string]bool{}
		in := false
		for _, g := range board().Groups {
			states[g.Group.Health] = true
			in = in || g.Group.Direction == api.In
		}
		return in && states["on target"] && states["seeding"] && states["tight"] && states["paused"] && states["over"]
	}, 10*time.Minute, 500*time.Millisecond, "every state shows at once")
	before := board()
	// A second demo on the same ports says what is taken and changes nothing.
	err = demo.Run(context.Background(), demo.Options{State: filepath.Join(dir, "other"), Ports: o.Ports, Binary: binary, Out: &output{}})
	require.ErrorContains(t, err, fmt.Sprint(o.Ports))
	require.ErrorContains(t, err, "--ports")
	stop()
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", o.Ports+1))
	require.NoError(t, err, "nothing is left running")
	require.NoError(t, l.Close())

	_, stop = start(t, o)
	defer stop()
	after := board()
	require.Equal(t, len(before.Groups), len(after.Groups))
	points := func(b api.Board) (n int) {
		for _, g := range b.Groups {
			n += g.Group.Points
		}
		return n
	}
	require.GreaterOrEqual(t, points(after), points(before)-5, "the data is kept (the ladder may have thinned a few)")
	// The documents' reader has looked round first.
	require.Eventually(t, func() bool {
		for _, g := range board().Groups {
			if g.Group.Name == "Ticketing" {
				return g.Group.Points > 1
			}
		}
		return false
	}, 10*time.Minute, 500*time.Millisecond, "Ticketing has points")
	documented(t, o.Binary, o.State, o.Ports, secrets.LabPassword)
}

// A folder that is not a demo's is never deleted.
func TestFreshDeletesOnlyItsOwn(t *testing.T) {
	dir := t.TempDir()
	precious := filepath.Join(dir, "precious")
	require.NoError(t, os.WriteFile(precious, []byte("keep"), 0o600))
	err := demo.Run(context.Background(), demo.Options{State: dir, Ports: 30000, Fresh: true, Out: &output{}})
	require.ErrorContains(t, err, "nothing was deleted")
	require.FileExists(t, precious)
	require.ErrorContains(t, demo.Run(context.Background(), demo.Options{State: dir, Ports: 80, Out: &output{}}), "--ports")
}

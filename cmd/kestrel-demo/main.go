// Command kestrel-demo runs the demo: a private PostgreSQL cluster, three sites
// of Skerry Line and their labs, on loopback, until Ctrl-C.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"kestrel/internal/support/demo"
)

func main() {
	o := demo.Options{Out: os.Stdout}
	flag.StringVar(&o.State, "state", "", "state folder")
	flag.IntVar(&o.Ports, "ports", 7410, "first port of the range")
	flag.BoolVar(&o.Fresh, "fresh", false, "start over: delete what an earlier demo left in the state folder")
	flag.BoolVar(&o.Real, "real", false, "add real guests under libvirt to two of the sites")
	flag.StringVar(&o.Binary, "binary", "", "the kestrel binary")
	flag.StringVar(&o.Objects, "s3-server", "", "program of an S3 server, for a long-term store in a bucket")
	flag.Parse()
	if flag.NArg() > 0 {
		fmt.Fprintf(os.Stderr, "demo: %q is not understood; the options are --state DIR, --ports N, --real and --fresh\n", flag.Arg(0))
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if abs, err := filepath.Abs(o.State); err == nil {
		o.State = abs
	}
	if err := demo.Run(ctx, o); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

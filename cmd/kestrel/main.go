// Command kestrel is Kestrel Tide in one binary: the service of a site, the lab
// that stands in for a hypervisor manager, and the client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"kestrel/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	stop()
	os.Exit(code)
}

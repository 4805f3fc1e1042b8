// Command kestrel-bench measures: it starts two sites and a lab on loopback and
// takes the figures of docs/benchmarks.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"syscall"

	"kestrel/internal/support/bench"
)

func main() {
	o := bench.Options{Out: os.Stdout}
	flag.StringVar(&o.Binary, "binary", "bin/kestrel", "the kestrel binary")
	flag.BoolVar(&o.JSON, "json", false, "one JSON object a line")
	flag.BoolVar(&o.Quick, "quick", false, "smaller disks and fewer runs")
	flag.IntVar(&o.Groups, "groups", 0, "how many groups the bench large has; 200, 1,000 and 2,000 in turn if left out")
	flag.IntVar(&o.Cycles, "cycles", 0, "how many cycles a site of the bench large runs at once")
	flag.DurationVar(&o.Watch, "watch", 0, "how long the bench large watches")
	// The name may stand before the flags: ./dev bench seed --json.
	args := os.Args[1:]
	var names []string
	var rest []string
	for i := 0; i < len(args); i++ {
		if slices.Contains([]string{"--binary", "--groups", "--cycles", "--watch"}, args[i]) && i+1 < len(args) {
			rest = append(rest, args[i], args[i+1])
			i++
		} else if args[i] != "" && args[i][0] != '-' {
			names = append(names, args[i])
		} else {
			rest = append(rest, args[i])
		}
	}
	if err := flag.CommandLine.Parse(rest); err != nil {
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := bench.Run(ctx, o, names); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

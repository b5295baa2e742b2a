// Lantern writes, checks, deploys and looks after stacks of containers.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	_ "time/tzdata"

	"proudlantern.example/lantern/cli"
)

// version is set by scripts/build.
var version = "from source"

func main() {
	os.Exit(run())
}

func run() int {
	// A command lives for moments and keeps nearly all that it reads: collecting garbage less often saves a fifth of its time.
	debug.SetGCPercent(400)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		cancel() // a deploy puts back now
		<-signals
		fmt.Fprintln(os.Stderr, "lantern: stopped in the middle; the next deploy, or retire, of this stack brings back what ran before")
		os.Exit(130)
	}()
	return cli.Run(ctx, os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, version)
}

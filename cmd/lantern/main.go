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
	"proudlantern.example/lantern/gate"
	"proudlantern.example/lantern/helper"
)

// version is set by scripts/build.
var version = "from source"

func main() {
	if helper.Asked(os.Args[1:]) {
		if err := helper.Serve(os.Stdin, os.Stdout, version); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if gate.Asked(os.Args[1:]) {
		if err := gate.Main(os.Args[1:], os.Stdin, os.Stdout, version); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	// A command lives for moments and keeps nearly all that it reads: collecting garbage less often saves a
	// fifth of its time.
	debug.SetGCPercent(400)
	// A closed terminal or connection (SIGHUP) is as good as Ctrl-C. A reader that has left must
	// not kill us in the middle of something.
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	signal.Ignore(syscall.SIGPIPE)
	os.Exit(cli.Run(context.Background(), os.Args[1:],
		cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Signals: signals, Kill: os.Exit}, version))
}

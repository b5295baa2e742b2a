//go:build linux

package cli_test

import (
	"context"
	"flag"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"proudlantern.example/lantern/cli"
	"proudlantern.example/lantern/engine/enginetest"
)

// TestMain lets the test binary be the program: scripts run it as a process of its own.
func TestMain(m *testing.M) {
	// What runs side by side waits for engines, and not for processors.
	if err := flag.Set("test.parallel", "6"); err != nil {
		panic(err)
	}
	testscript.Main(m, map[string]func(){
		"lantern": func() {
			os.Exit(cli.Run(context.Background(), os.Args[1:],
				cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, "test"))
		},
	})
}

func TestScripts(t *testing.T) {
	enginetest.SkipTwice(t)
	testscript.Run(t, testscript.Params{
		Dir: "testdata", RequireExplicitExec: true, RequireUniqueNames: true,
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			// exits CODE COMMAND…: the exit code is a promise, so "not 0" is not enough.
			"exits": func(ts *testscript.TestScript, neg bool, args []string) {
				if neg || len(args) < 2 {
					ts.Fatalf("usage: exits CODE COMMAND…")
				}
				want, err := strconv.Atoi(args[0])
				ts.Check(err)
				err = ts.Exec(args[1], args[2:]...)
				got := 0
				if err != nil {
					coded, ok := err.(interface{ ExitCode() int })
					if !ok {
						ts.Fatalf("%v", err)
					}
					got = coded.ExitCode()
				}
				if got != want {
					ts.Fatalf("exit code %d, want %d", got, want)
				}
			},
		},
		Setup: func(e *testscript.Env) error {
			base, err := filepath.Abs(filepath.Join("..", "core", "check", "testdata", "base", "lamp-room.json"))
			e.Setenv("SURVEY", base)
			return err
		},
	})
}

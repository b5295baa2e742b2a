package cli

import "github.com/urfave/cli/v3"

func (a *app) demoCommand() *cli.Command { return &cli.Command{Name: "demo"} }

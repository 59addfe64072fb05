// Command yarnpost administers a Yarn Post server.
package main

import (
	"context"
	"os"
	"os/signal"
	_ "time/tzdata" // hosts without a zone database know every site's time, too

	"yarnpost/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	os.Exit(cli.Run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

// Command fitcheck tells whether a firmware package fits a network device.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"fitcheck/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Run(ctx, os.Args[1:], cli.Terminal())
	stop()
	os.Exit(status)
}

// Command inkret is the service, its client and the offline check in one program.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"inkret/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second signal ends the program at once
	status := cli.Run(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(status)
}

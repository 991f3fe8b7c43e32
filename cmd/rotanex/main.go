// Command rotanex is the command line.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"rotanex.example/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Main(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(status)
}

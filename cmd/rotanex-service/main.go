// Command rotanex-service is the long-running service.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"rotanex.example/service/serve"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := serve.New().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "rotanex-service:", err)
		os.Exit(1)
	}
}

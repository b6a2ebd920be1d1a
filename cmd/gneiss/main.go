// Command gneiss is the service and its command-line client in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"gneiss/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := cli.New(os.Stdin, os.Stdout, os.Stderr)
	root.AddCommand(serveCommand(), demoCommand())
	os.Exit(cli.Run(ctx, root, os.Args[1:], os.Stderr))
}

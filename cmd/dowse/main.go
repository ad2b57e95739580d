// Command dowse is Dowsing Rod: the service, the demo, and the command line that asks it.
package main

import (
	"context"
	"os"

	"dowsingrod/console"
	"dowsingrod/internal/cli"
)

func main() {
	app := &cli.App{Console: console.Files(), Out: os.Stdout, Err: os.Stderr}
	os.Exit(app.Run(context.Background(), os.Args))
}

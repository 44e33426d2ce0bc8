// Command heron is Patient Heron: the service, its console and its command
// line in one binary.
package main

import (
	"context"
	"fmt"
	"os"

	"patientheron/cli"
)

func main() {
	if err := cli.Root().ExecuteContext(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "heron:", err)
		os.Exit(1)
	}
}

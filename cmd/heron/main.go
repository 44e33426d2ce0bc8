// Command heron is Patient Heron: the service, its console and its command
// line in one binary.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"

	"patientheron/cli"
)

func main() {
	if err := cli.Root().ExecuteContext(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "heron:", err)
		code := 1
		var coded interface{ ExitCode() int }
		if errors.As(err, &coded) {
			code = coded.ExitCode()
		}
		os.Exit(code)
	}
}

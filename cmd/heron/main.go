// Command heron is Patient Heron: the service, its console and its command
// line in one binary.
package main

import (
	"context"
	"errors"
	"os"

	"patientheron/cli"
)

func main() {
	if err := cli.Run(context.Background(), os.Args[1:]); err != nil {
		code := 1
		var coded interface{ ExitCode() int }
		if errors.As(err, &coded) {
			code = coded.ExitCode()
		}
		os.Exit(code)
	}
}

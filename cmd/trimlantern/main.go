// Command trimlantern takes a content-managed website from HTTP to HTTPS.
package main

import (
	"os"

	"trimlantern/cli"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], os.Stdout, os.Stderr))
}

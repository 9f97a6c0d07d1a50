// Command rillmark is the service, its client and its demo in one binary.
package main

import (
	"os"

	"rillmark/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

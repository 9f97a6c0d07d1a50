// Command rillmark is the service, its client and its demo in one binary.
package main

import (
	"os"

	"rillmark/internal/cli"
	"rillmark/internal/thrift"
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == "serve" {
		thrift.Relax()
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// Command ironledger is the service, its client and the offline tools.
package main

import (
	"os"

	"ironledger.example/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

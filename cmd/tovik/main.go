// Command tovik is the presence service and its command line.
package main

import (
	"os"

	"tovik.example/tovik/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args, os.Stdout, os.Stderr)) }

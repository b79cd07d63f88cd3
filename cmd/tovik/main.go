// Command tovik is the presence service and its command line.
package main

import (
	"os"

	_ "golang.org/x/crypto/x509roots/fallback" // for hooks and key sets where the system has no certificates, as in the image

	"tovik.example/tovik/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args, os.Stdout, os.Stderr)) }

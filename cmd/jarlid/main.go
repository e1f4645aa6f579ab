// Command jarlid puts custom firmware on unlocked phones.
package main

import (
	"os"

	"jarlid/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

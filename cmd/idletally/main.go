// Idletally keeps permissions as they were meant to be: see idletally help.
package main

import (
	"os"

	"idletally/internal/cli"
)

func main() { os.Exit(cli.Main()) }

// Command piston is the service, its runner and its command line in one program.
package main

import (
	"os"

	"gentlepiston.example/piston/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }

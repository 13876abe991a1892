// Yare keeps clusters of hypervisor hosts at the right patch, driver and firmware level.
package main

import (
	"os"

	"yareharbour/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }

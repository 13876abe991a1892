// Yare keeps clusters of hypervisor hosts at the right patch, driver and firmware level.
package main

import (
	"os"
	"runtime/debug"

	"yareharbour/cli"
	"yareharbour/sim/command"
)

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(50) // a large estate fits into less memory for a little more time
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, command.Estate()))
}

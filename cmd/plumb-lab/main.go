// Plumb-lab is simulated gear that speaks the real protocols, and the demo: that
// gear with the service and the console.
package main

import (
	"os"

	"plumbbob/internal/labcli"
)

func main() { os.Exit(labcli.Main(os.Args[1:])) }

// Plumbd is the service: it watches, acts, and serves the API and the console.
package main

import (
	"os"

	"plumbbob/internal/daemon"
)

func main() { os.Exit(daemon.Main(os.Args[1:])) }

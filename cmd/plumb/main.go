// Plumb is the client: it shows what the service knows, and asks it to act.
package main

import (
	"os"

	"plumbbob/internal/client"
)

func main() { os.Exit(client.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

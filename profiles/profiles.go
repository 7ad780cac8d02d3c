// Package profiles holds the built-in profiles: how kinds of gear map onto
// what Plumb Bob reads and switches. internal/profile reads them.
package profiles

import "embed"

// Files are the built-in profiles, NAME.yaml each.
//
//go:embed *.yaml
var Files embed.FS

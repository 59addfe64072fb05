// Package console holds the built web console. Its sources are beside this
// file; make build turns them into dist.
package console

import "embed"

// Dist is the built console, or an empty folder where it was not built.
//
//go:embed all:dist
var Dist embed.FS

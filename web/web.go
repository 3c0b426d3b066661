// Package web holds the built console, so that one binary has everything.
package web

import "embed"

// Dist is what Vite built; without a build it is empty.
//
//go:embed all:dist
var Dist embed.FS

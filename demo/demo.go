// Package demo holds Lock 7, the bench that ships with Gavrix.
package demo

import "embed"

// Files are the bench and its device files.
//
//go:embed lock7.yaml devices
var Files embed.FS

// Bench is the name of the bench file in Files.
const Bench = "lock7.yaml"

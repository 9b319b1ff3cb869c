// Package demo holds Lock 7, the bench that ships with Gavrix.
package demo

import (
	"embed"
)

// Files are the bench and its device files.
//
//go:embed lock7.yaml devices
var Files embed.FS

// Capture is a capture of all five buses of Lock 7, whose lines have no names:
// a value change dump, made by `go run ./bench/makecapture`.
//
//go:embed lock7.vcd
var Capture []byte

// CaptureName is what the capture is called on the screen.
const CaptureName = "lock7.vcd"

// Bench is the name of the bench file in Files.
const Bench = "lock7.yaml"

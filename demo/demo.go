// Package demo holds the benches that ship with Gavrix: Lock 7, and two smaller
// boards beside it with other rate generators.
package demo

import (
	"embed"
)

// Files are the benches and their device files.
//
//go:embed lock7.yaml marlow40.csv culvert.yaml weir.yaml devices
var Files embed.FS

// Template is a bench to start from, with notes: bench.yaml and its device files.
//
//go:embed template
var Template embed.FS

// Capture is a capture of all five buses of Lock 7, whose lines have no names:
// a value change dump, made by `go run ./bench/makecapture`.
//
//go:embed lock7.vcd
var Capture []byte

// CaptureName is what the capture is called on the screen.
const CaptureName = "lock7.vcd"

// Bench is the name of the bench file in Files.
const Bench = "lock7.yaml"

// Others are the bench files of the two smaller boards, by the names by which
// they are opened.
var Others = map[string]string{"culvert": "culvert.yaml", "weir": "weir.yaml"}

package main

import (
	"cmp"
	"fmt"
	"runtime"
	"runtime/debug"
)

// released is the version of a release, which its linker sets.
var released string

// versionText says which build this is: its version, the revision that it was made of, the
// compiler, and for what it was made.
func versionText() string {
	version, revision, modified := "unknown", "", ""
	if info, ok := debug.ReadBuildInfo(); ok {
		version = cmp.Or(released, info.Main.Version, version)
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				revision = ", revision " + s.Value[:min(len(s.Value), 12)]
			case "vcs.modified":
				if s.Value == "true" {
					modified = ", changed since"
				}
			}
		}
	}
	return fmt.Sprintf("%s%s%s (%s, %s/%s)", version, revision, modified, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

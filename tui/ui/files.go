package ui

import (
	"os"
	"path/filepath"
	"strings"
)

// Files are those below the folder that is typed.
func Files(arg string) []string {
	dir := filepath.Dir(arg)
	if strings.HasSuffix(arg, string(filepath.Separator)) {
		dir = filepath.Clean(arg)
	}
	found, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	var out []string
	for _, f := range found {
		if strings.HasPrefix(f.Name(), ".") {
			continue
		}
		name := f.Name()
		if dir != "." || strings.HasPrefix(arg, "."+string(filepath.Separator)) {
			name = filepath.Join(dir, name)
		}
		if f.IsDir() {
			name += string(filepath.Separator)
		}
		out = append(out, name)
	}
	return out
}

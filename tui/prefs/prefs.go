// Package prefs holds what a user prefers: colours, line drawing, keys. It stands in a small
// file in the user's folder for settings.
package prefs

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/regular"
)

// Preferences are what the user prefers; auto leaves it to what the terminal says.
type Preferences struct {
	Theme   string // auto, dark, light
	Colours string // auto, full, 16, none
	Lines   string // auto, unicode, ascii
	// Keys are further keys of commands, by the commands' names.
	Keys map[string]string
}

// Schema lists what can be preferred.
var Schema = doc.Map(
	doc.Key{Name: "theme", Doc: "for a dark or a light background; auto: as the terminal says", Type: doc.Enum("auto", "dark", "light"), Default: "auto"},
	doc.Key{Name: "colours", Doc: "how many; auto: as the terminal says, none with NO_COLOR", Type: doc.Enum("auto", "full", "16", "none"), Default: "auto"},
	doc.Key{Name: "lines", Doc: "what lines and marks are drawn with; auto: ASCII where the locale isn't UTF-8", Type: doc.Enum("auto", "unicode", "ascii"), Default: "auto"},
	doc.Key{Name: "keys", Doc: "further keys of commands: fix: ctrl+f", Type: doc.MapOf(doc.NameType)},
)

// Path is where the file is, or would be.
func Path() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for settings: %w", err)
	}
	return filepath.Join(dir, "gavrix", "preferences.yaml"), nil
}

// Default is what holds where nothing is preferred.
func Default() Preferences {
	return Preferences{Theme: "auto", Colours: "auto", Lines: "auto", Keys: map[string]string{}}
}

// Parse reads preferences. Where there are faults the defaults are given.
func Parse(name string, text []byte) (Preferences, []finding.Finding) {
	if len(bytes.TrimSpace(text)) == 0 {
		return Default(), nil
	}
	file, faults := doc.Parse(name, text)
	if file == nil {
		return Default(), faults
	}
	if faults := Schema.Validate(file.Root); len(faults) > 0 {
		return Default(), faults
	}
	p := Preferences{Theme: doc.Of[string](file.Root, "theme"), Colours: doc.Of[string](file.Root, "colours"), Lines: doc.Of[string](file.Root, "lines"), Keys: map[string]string{}}
	for _, k := range file.Root.Get("keys").All() {
		p.Keys[k.Key] = k.Scalar
	}
	return p, nil
}

// Load reads the user's preferences; without a file the defaults hold.
func Load() (Preferences, []finding.Finding) {
	path, err := Path()
	if err != nil {
		return Default(), nil
	}
	text, err := regular.Read(path, doc.MostText)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return Default(), nil
		}
		return Default(), []finding.Finding{{Severity: finding.Error, Code: "preferences-unreadable", Where: finding.Place{File: path}, Seen: fmt.Sprintf("they can't be read: %v", err), Change: "allow reading the file, or remove it"}}
	}
	return Parse(path, text)
}

// empty is the file with which preferences begin.
const empty = "# What is preferred; `gavrix preferences` lists what there is.\ntheme: auto\n"

// Set writes one preference into the file, as `theme`, or a key as `keys.fix`, and gives what
// holds then. An empty value takes it out.
func Set(name, value string) (Preferences, error) {
	path, err := Path()
	if err != nil {
		return Default(), err
	}
	text, err := regular.Read(path, doc.MostText)
	if errors.Is(err, fs.ErrNotExist) {
		text, err = []byte(empty), nil
	}
	if err != nil {
		return Default(), fmt.Errorf("the preferences can't be read: %w", err)
	}
	file, faults := doc.Parse(path, text)
	if file == nil {
		return Default(), errors.New(faults[0].String())
	}
	edit := finding.Edit{Path: strings.Split(name, "."), Value: value}
	if value == "" {
		edit.Op = finding.Delete
	}
	if err := file.Apply(edit); err != nil {
		return Default(), fmt.Errorf("%s can't be set: %w", name, err)
	}
	p, faults := Parse(path, file.Text())
	if len(faults) > 0 {
		return Default(), errors.New(faults[0].Seen)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return p, fmt.Errorf("the preferences are not written: %w", err)
	}
	if err := regular.Replace(path, file.Text(), 0o644); err != nil {
		return p, err
	}
	return p, nil
}

// UTF8 says whether an environment's locale is of UTF-8; nothing said is taken for one.
func UTF8(getenv func(string) string) bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := getenv(name); v != "" {
			v = strings.ToUpper(v)
			return strings.Contains(v, "UTF-8") || strings.Contains(v, "UTF8")
		}
	}
	return true
}

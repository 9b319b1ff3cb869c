package pcapng

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gavrix.org/gavrix/core/quantity"
)

// Limits say how a recording is cut into files. The zero value cuts nothing.
type Limits struct {
	// Bytes and Time are how large a file becomes, and for how long it records; the next one
	// is begun then. 0: without end.
	Bytes int64
	Time  time.Duration
	// Files is how many are kept; the oldest are removed. 0: all.
	Files int
	// Levels: those of the lines are recorded too.
	Levels bool
}

// cuts says whether there is more than one file.
func (l *Limits) cuts() bool { return l.Bytes > 0 || l.Time > 0 }

// Check says what makes no sense.
func (l *Limits) Check() error {
	switch {
	case l.Files > 0 && !l.cuts():
		return errors.New("a number of files needs a size or a time at which the next one is begun")
	case l.Files == 1:
		return errors.New("keep two files at least: with one, all would be gone each time a new one is begun")
	case l.Files < 0 || l.Bytes < 0 || l.Time < 0:
		return errors.New("sizes, times and numbers of files are not negative")
	case l.Bytes > 0 && l.Bytes < leastFile:
		return fmt.Errorf("a file needs %d kB at least", leastFile>>10)
	}
	return nil
}

// leastFile bounds the size of files into which a recording is cut.
const leastFile = 64 << 10

// Name gives the name of the nth file of a recording that is cut.
func (l *Limits) Name(path string, n int) string {
	if !l.cuts() {
		return path
	}
	ext := filepath.Ext(path)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(path, ext), n, ext)
}

// ParseLimits reads a file's name with limits behind it, as `lock7.pcapng every 100 MB keep 5`,
// `lock7.pcapng every 10 min` or `lock7.pcapng with levels`.
func ParseLimits(text string) (path string, l Limits, err error) {
	words := strings.Fields(text)
	if n := len(words); n > 2 && words[n-2] == "with" && words[n-1] == "levels" {
		words, l.Levels = words[:n-2], true
	}
	at := len(words)
	for i := len(words) - 1; i > 0; i-- {
		if words[i] == "every" || words[i] == "keep" {
			at = i
		}
	}
	path = strings.Join(words[:at], " ")
	for at < len(words) {
		end := at + 1
		for end < len(words) && words[end] != "every" && words[end] != "keep" {
			end++
		}
		value := strings.Join(words[at+1:end], " ")
		n, unit, _ := strings.Cut(value, " ")
		switch {
		case words[at] == "keep":
			if l.Files, err = strconv.Atoi(value); err != nil || l.Files < 1 {
				return "", Limits{}, fmt.Errorf("keep %s: give a number of files", value)
			}
		case unit == "MB":
			mb, err := strconv.Atoi(n)
			if err != nil || mb < 1 || mb > 1<<20 {
				return "", Limits{}, fmt.Errorf("every %s: give 1 to %d MB", value, 1<<20)
			}
			l.Bytes = int64(mb) << 20
		case unit == "min" || unit == "h":
			k, err := strconv.Atoi(n)
			if err != nil || k < 1 || k > 10_000 {
				return "", Limits{}, fmt.Errorf("every %s: give 1 to 10000 %s", value, unit)
			}
			l.Time = time.Duration(k) * map[string]time.Duration{"min": time.Minute, "h": time.Hour}[unit]
		default:
			t, err := quantity.ParseSpan(value)
			if err != nil || t < quantity.Second {
				return "", Limits{}, fmt.Errorf("every %s: give a size as 100 MB, or a time of 1 s or more as 10 min", value)
			}
			l.Time = time.Duration(t / quantity.Nanosecond)
		}
		at = end
	}
	return path, l, l.Check()
}

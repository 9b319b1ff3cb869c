package decode

import (
	"bufio"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire/csv"
	"gavrix.org/gavrix/core/wire/vcd"
)

// vcdSource makes a Reader a Source.
type vcdSource struct{ *vcd.Reader }

// Names implements Source.
func (s vcdSource) Names() []string {
	var out []string
	for _, l := range s.Lines() {
		out = append(out, l.Name)
	}
	return out
}

// Notes says what a source passed over so far, and whether it is cut off.
func Notes(src Source) []string {
	if n, says := src.(interface{ Notes() []string }); says {
		return n.Notes()
	}
	return nil
}

// Open reads a file of levels by the ending of its name: .vcd, or .csv, whose
// samples come at the rate where it has no column of times.
func Open(name string, in io.Reader, rate quantity.Freq) (Source, error) {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".vcd":
		r, err := vcd.NewReader(in)
		if err != nil {
			return nil, err
		}
		return vcdSource{r}, nil
	case ".csv":
		return csv.NewReader(bufio.NewReaderSize(in, 1<<16), rate)
	}
	return nil, fmt.Errorf("%s: levels are read from .vcd and .csv files", filepath.Base(name))
}

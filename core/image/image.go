// Package image reads and writes the contents of memories as files: hex records, S-records
// and raw bytes.
//
// A hex record is a line `:` with, in hex, the number of data bytes, a 16-bit address, a
// type (0 data, 1 end, 2 and 4 the upper part of addresses, 3 and 5 a start address), the
// data, and a byte with which all bytes of the line add up to 0. An S-record is a line
// `S`, its type (0 a head, 1 to 3 data with addresses of 16, 24 and 32 bits, 5 and 6 a
// count, 7 to 9 the end), the number of bytes behind it, the address, the data, and a byte
// with which all of them add up to FF.
package image

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
)

// Chunk is bytes that follow each other.
type Chunk struct {
	At   uint64
	Data []byte
}

// Form is how an image stands in a file.
type Form uint8

// The forms.
const (
	Raw Form = iota
	HexRecords
	SRecords
)

// FormOf gives the form by the ending of a file's name.
func FormOf(name string) (Form, error) {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".hex", ".ihx":
		return HexRecords, nil
	case ".s19", ".s28", ".s37", ".srec":
		return SRecords, nil
	case ".bin":
		return Raw, nil
	}
	return 0, fmt.Errorf("%s: the name must end in .hex (hex records), .s19, .s28, .s37 or .srec (S-records), or .bin (raw bytes)", name)
}

// most is how many bytes an image may have.
const most = 1 << 26

var errTooLarge = fmt.Errorf("the image has more than %d MB", most>>20)

// Read reads an image. The error names the line. Chunks are in order of their addresses;
// those that touch are one. Raw bytes begin at 0.
func Read(in io.Reader, form Form) ([]Chunk, error) {
	if form == Raw {
		data, err := io.ReadAll(io.LimitReader(in, most+1))
		switch {
		case err != nil:
			return nil, err
		case len(data) > most:
			return nil, errTooLarge
		case len(data) == 0:
			return nil, errors.New("the file is empty")
		}
		return []Chunk{{0, data}}, nil
	}
	r := &reader{}
	line := r.hexRecord
	if form == SRecords {
		line = r.sRecord
	}
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 0, 4096), 4096)
	n := 0
	for scan.Scan() {
		n++
		text := strings.TrimSpace(scan.Text())
		if text == "" {
			continue
		}
		if r.ended {
			return nil, fmt.Errorf("line %d: it comes after the record that ends the file", n)
		}
		if err := line(text); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
	}
	if err := scan.Err(); err != nil {
		return nil, fmt.Errorf("line %d: it is longer than a record may be", n+1)
	}
	switch {
	case !r.ended:
		return nil, fmt.Errorf("line %d: the record that ends the file is missing: it is cut off", n+1)
	case len(r.chunks) == 0:
		return nil, errors.New("there are no data in it")
	}
	return joined(r.chunks)
}

type reader struct {
	chunks []Chunk
	size   int
	upper  uint64
	ended  bool
}

func (r *reader) add(at uint64, data []byte) error {
	if r.size += len(data); r.size > most {
		return errTooLarge
	}
	if len(data) > 0 {
		r.chunks = append(r.chunks, Chunk{at, slices.Clone(data)})
	}
	return nil
}

func (r *reader) hexRecord(text string) error {
	rest, ok := strings.CutPrefix(text, ":")
	if !ok {
		return errors.New("a record begins with a colon")
	}
	b, err := hex.DecodeString(rest)
	switch {
	case err != nil:
		return errors.New("it is not pairs of hex digits")
	case len(b) < 5:
		return errors.New("it is too short for a record")
	case int(b[0])+5 != len(b):
		return fmt.Errorf("%d bytes of data are stated, %d are there", b[0], len(b)-5)
	}
	sum := byte(0)
	for _, x := range b {
		sum += x
	}
	if sum != 0 {
		return fmt.Errorf("its check byte is %02X, not %02X: the line was changed or cut", b[len(b)-1], b[len(b)-1]-sum)
	}
	at, data := uint64(b[1])<<8|uint64(b[2]), b[4:len(b)-1]
	number := func() uint64 {
		v := uint64(0)
		for _, x := range data {
			v = v<<8 | uint64(x)
		}
		return v
	}
	switch kind := b[3]; kind {
	case 0:
		return r.add(r.upper+at, data)
	case 1:
		r.ended = true
	case 2, 4:
		if len(data) != 2 {
			return fmt.Errorf("a record of type %d has 2 bytes of data", kind)
		}
		r.upper = number() << map[byte]int{2: 4, 4: 16}[kind]
	case 3, 5: // where a program starts
	default:
		return fmt.Errorf("type %d is none of 0 to 5", kind)
	}
	return nil
}

func (r *reader) sRecord(text string) error {
	if len(text) < 4 || text[0] != 'S' || text[1] < '0' || text[1] > '9' || text[1] == '4' {
		return errors.New("a record begins with S and its type")
	}
	kind := text[1] - '0'
	b, err := hex.DecodeString(text[2:])
	switch {
	case err != nil:
		return errors.New("it is not pairs of hex digits")
	case int(b[0]) != len(b)-1:
		return fmt.Errorf("%d bytes are stated, %d are there", b[0], len(b)-1)
	}
	sum := byte(0)
	for _, x := range b {
		sum += x
	}
	if sum != 0xff {
		return fmt.Errorf("its check byte is %02X, not %02X: the line was changed or cut", b[len(b)-1], b[len(b)-1]+0xff-sum)
	}
	width := map[byte]int{0: 2, 1: 2, 2: 3, 3: 4, 5: 2, 6: 3, 7: 4, 8: 3, 9: 2}[kind]
	if len(b) < 2+width {
		return errors.New("it is too short for its address")
	}
	at := uint64(0)
	for _, x := range b[1 : 1+width] {
		at = at<<8 | uint64(x)
	}
	switch {
	case kind >= 1 && kind <= 3:
		return r.add(at, b[1+width:len(b)-1])
	case kind >= 7:
		r.ended = true
	}
	return nil
}

// joined puts chunks in order and together.
func joined(cs []Chunk) ([]Chunk, error) {
	slices.SortStableFunc(cs, func(a, b Chunk) int {
		switch {
		case a.At < b.At:
			return -1
		case a.At > b.At:
			return 1
		}
		return 0
	})
	var out []Chunk
	for _, c := range cs {
		if n := len(out) - 1; n >= 0 {
			end := out[n].At + uint64(len(out[n].Data))
			if c.At < end {
				return nil, fmt.Errorf("address 0x%X has two contents", c.At)
			}
			if c.At == end {
				out[n].Data = append(out[n].Data, c.Data...)
				continue
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// perRecord is how many bytes of data a written record has.
const perRecord = 16

// Write writes an image. Raw bytes are those of one chunk, without its address.
func Write(out io.Writer, form Form, chunks []Chunk) error {
	w := bufio.NewWriter(out)
	switch {
	case len(chunks) == 0:
		return errors.New("there is nothing to write")
	case form == Raw && len(chunks) > 1:
		return errors.New("raw bytes have no addresses: between these there is a gap")
	case form == Raw:
		_, _ = w.Write(chunks[0].Data)
		return w.Flush()
	}
	upper := uint64(0)
	for _, c := range chunks {
		for from := 0; from < len(c.Data); {
			at := c.At + uint64(from)
			// No record crosses 64 KiB: its address could not say so.
			n := min(perRecord, len(c.Data)-from, 0x10000-int(at&0xffff))
			data := c.Data[from : from+n]
			from += n
			if at>>32 != 0 {
				return fmt.Errorf("address 0x%X has more than 32 bits", at)
			}
			if form == SRecords {
				line(w, "S3", 0xff, append([]byte{byte(n + 5), byte(at >> 24), byte(at >> 16), byte(at >> 8), byte(at)}, data...))
				continue
			}
			if u := at >> 16; u != upper {
				upper = u
				line(w, ":", 0, []byte{2, 0, 0, 4, byte(u >> 8), byte(u)})
			}
			line(w, ":", 0, append([]byte{byte(n), byte(at >> 8), byte(at), 0}, data...))
		}
	}
	if form == SRecords {
		line(w, "S7", 0xff, []byte{5, 0, 0, 0, 0})
	} else {
		line(w, ":", 0, []byte{0, 0, 0, 1})
	}
	return w.Flush()
}

// line writes a record with the byte with which all add up to sum.
func line(w *bufio.Writer, head string, sum byte, b []byte) {
	for _, x := range b {
		sum -= x
	}
	fmt.Fprintf(w, "%s%X%02X\n", head, b, sum)
}

package operation

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/image"
)

// mostBytes bounds what one operation on a memory is about.
const mostBytes = 1 << 20

// bytes reads what is to be done with bytes of a memory.
func (op *Operation) bytes(from uint64, words []string) error {
	m := op.Part.Map.Memory
	if from >= uint64(m.Size) {
		return fmt.Errorf("%s has %d bytes, 0x0 to 0x%X", op.Part.Name, m.Size, m.Size-1)
	}
	op.Bytes, op.At, op.Count = true, int(from), 1
	counted := len(words) >= 2 && words[0] == "count"
	if counted {
		n, err := strconv.ParseInt(words[1], 0, 32)
		if err != nil || n < 1 || n > mostBytes {
			return fmt.Errorf("count %s: write a number from 1 to %d", words[1], mostBytes)
		}
		op.Count, words = int(n), words[2:]
	}
	if op.Verb == Save {
		if op.File = strings.Join(words, " "); op.File == "" || !counted {
			return fmt.Errorf("save: name the bytes and the file, as save %s 0x40 count 16 log.hex", op.Part.Name)
		}
		if _, err := image.FormOf(op.File); err != nil {
			return err
		}
		words = nil
	}
	text := strings.Join(words, "")
	data, err := hex.DecodeString(text)
	if slices.ContainsFunc(words, func(w string) bool { return len(w)%2 == 1 }) {
		err = hex.ErrLength
	}
	switch {
	case op.Verb == Read && text != "":
		return fmt.Errorf("%q: nothing follows what is read", strings.Join(words, " "))
	case op.Verb == Read || op.Verb == Save:
	case err != nil || text == "":
		return fmt.Errorf("%q: write bytes in hex, as DE AD", strings.Join(words, " "))
	case op.Verb == Fill && len(data) != 1:
		return fmt.Errorf("fill takes one byte, as FF")
	case op.Verb == Fill:
		op.Data = make([]byte, op.Count)
		for i := range op.Data {
			op.Data[i] = data[0]
		}
	case counted:
		return fmt.Errorf("count has no meaning beside bytes: as many as are given count")
	default:
		op.Data, op.Count = data, len(data)
	}
	if op.At+op.Count > m.Size {
		return fmt.Errorf("%d bytes from 0x%X on reach beyond the last, 0x%X", op.Count, op.At, m.Size-1)
	}
	return nil
}

// area reads what is to be done with an area of a memory.
func (op *Operation) area(a *device.Area, words []string) error {
	op.Area = a
	if op.Verb == Write && len(words) == 1 && words[0] == "default" {
		if a.Default == nil {
			return fmt.Errorf("%s: its file states no default: write its bytes in hex", a.Name)
		}
		op.Bytes, op.At, op.Count, op.Data = true, a.At, len(a.Default), a.Default
		return nil
	}
	if op.Verb == Read || op.Verb == Fill || op.Verb == Save {
		if len(words) > 0 && words[0] == "count" {
			return fmt.Errorf("%s has %d bytes: leave count out, or name the bytes by their number", a.Name, a.Length)
		}
		words = append([]string{"count", strconv.Itoa(a.Length)}, words...)
	}
	if err := op.bytes(uint64(a.At), words); err != nil {
		return err
	}
	if op.Count > a.Length {
		return fmt.Errorf("%d bytes: %s has %d", op.Count, a.Name, a.Length)
	}
	return nil
}

// load reads which file is to be loaded.
func (op *Operation) load(name string, words []string) error {
	if op.Part.Map.Memory == nil {
		return fmt.Errorf("%s has no memory that a file could be loaded into", op.Part.Name)
	}
	op.Bytes, op.File = true, strings.TrimSpace(strings.Join(append([]string{name}, words...), " "))
	if op.File == "" {
		return fmt.Errorf("load: name a file, as load %s log.hex", op.Part.Name)
	}
	_, err := image.FormOf(op.File)
	return err
}

// mostInOne is how many bytes one transaction reads.
const mostInOne = 256

// ReadBytes gives what reads bytes of the part's memory.
func (p *Part) ReadBytes(from, count int) ([]Step, error) {
	var out []Step
	most, err := p.atOnce(count, func(pat *access.Pattern) bool { return pat.Reads })
	if err != nil {
		return nil, err
	}
	for count > 0 {
		n := min(count, most)
		s, err := p.bytesStep(access.Use{Number: uint64(from), Units: n}, func(pat *access.Pattern) bool { return pat.Reads })
		if err != nil {
			return nil, err
		}
		out = append(out, s)
		from, count = from+n, count-n
	}
	return out, nil
}

// WriteBytes gives what writes bytes of the part's memory: none of it crosses a page.
func (p *Part) WriteBytes(from int, data []byte) ([]Step, error) {
	var out []Step
	writes := func(pat *access.Pattern) bool { return pat.Writes }
	most, err := p.atOnce(len(data), writes)
	if err != nil {
		return nil, err
	}
	for _, page := range p.Map.Memory.Pages(uint64(from), len(data)) {
		for done := 0; done < page.Units; {
			u := access.Use{Number: page.Number + uint64(done), Units: min(page.Units-done, most)}
			at := int(u.Number) - from
			for _, b := range data[at : at+u.Units] {
				u.Values = append(u.Values, uint64(b))
			}
			s, err := p.bytesStep(u, writes)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
			done += u.Units
		}
	}
	return out, nil
}

// atOnce is how many bytes one operation is about at most; an error where so many are refused.
func (p *Part) atOnce(count int, fits func(*access.Pattern) bool) (int, error) {
	for _, pat := range p.Map.Patterns {
		if pat.ValueBits == 8 && pat.NumberBits > 0 && fits(pat) {
			switch {
			case !pat.Repeats():
				return 1, nil
			case pat.Whole && count > pat.Most:
				return 0, fmt.Errorf("%d bytes: %s of %s takes 1 to %d, and its file says that it is not asked more than once for more", count, pat.Name, p.Name, pat.Most)
			case pat.Most > 0:
				return min(pat.Most, mostInOne), nil
			}
		}
	}
	return mostInOne, nil
}

func (p *Part) bytesStep(u access.Use, fits func(*access.Pattern) bool) (Step, error) {
	for _, pat := range p.Map.Patterns {
		if pat.ValueBits == 8 && pat.NumberBits > 0 && fits(pat) {
			if u.Units > 1 && !pat.Repeats() {
				return Step{}, fmt.Errorf("%s reaches one byte at a time", pat.Name)
			}
			return p.step(pat, u, nil, nil)
		}
	}
	return Step{}, fmt.Errorf("no operation of %s does that", p.Name)
}

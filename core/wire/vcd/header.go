package vcd

import (
	"fmt"
	"strconv"
	"strings"
)

// header reads up to $enddefinitions.
func (r *Reader) header() error {
	var scopes []string
	for {
		w, err := r.word()
		if err != nil {
			return err
		}
		if w == nil {
			return r.fault("the file ends before $enddefinitions; it holds no levels")
		}
		if r.total-int64(len(r.buf)-r.at) > maxHeader {
			return r.fault("the header is longer than %d MB", maxHeader>>20)
		}
		switch string(w) {
		case "$timescale":
			s, err := r.section(2)
			if err != nil {
				return err
			}
			if err := r.timescale(strings.Join(s, "")); err != nil {
				return err
			}
		case "$scope":
			s, err := r.section(8)
			if err != nil {
				return err
			}
			if len(s) > 0 {
				scopes = append(scopes, s[len(s)-1])
			}
		case "$upscope":
			if err := r.skip(); err != nil {
				return err
			}
			if len(scopes) > 0 {
				scopes = scopes[:len(scopes)-1]
			}
		case "$var":
			s, err := r.section(64)
			if err != nil {
				return err
			}
			if err := r.variable(scopes, s); err != nil {
				return err
			}
		case "$enddefinitions":
			return r.skip()
		default:
			if w[0] != '$' {
				return r.fault("%q where a section should begin; this is no value change dump", clip(w))
			}
			if err := r.skip(); err != nil {
				return err
			}
		}
	}
}

func clip(w []byte) string { return string(w[:min(len(w), 20)]) }

var unitExp = map[string]int{"s": 12, "ms": 9, "us": 6, "ns": 3, "ps": 0, "fs": -3}

func (r *Reader) timescale(s string) error {
	num := strings.TrimRight(s, "spnumf")
	exp, ok := unitExp[s[len(num):]]
	if !ok || num != "1" && num != "10" && num != "100" {
		return r.fault("timescale %q; expected 1, 10 or 100 of s, ms, us, ns, ps or fs", s)
	}
	exp += len(num) - 1
	r.mul, r.div = 1, 1
	for range exp {
		r.mul *= 10
	}
	for range -exp {
		r.div *= 10
	}
	return nil
}

// variable takes the words of a $var: type, width, code, name, and perhaps a
// range.
func (r *Reader) variable(scopes, s []string) error {
	if len(s) < 4 {
		return r.fault("$var needs a type, a width, a code and a name")
	}
	width, err := strconv.Atoi(s[1])
	if err != nil || width < 0 {
		return r.fault("$var: %q is no width", clip([]byte(s[1])))
	}
	name := strings.Join(append(append([]string(nil), scopes...), strings.Join(s[3:], "")), ".")
	levels := s[0] != "real" && s[0] != "realtime" && s[0] != "string" && s[0] != "event" && width >= 1
	if levels {
		if width > maxWidth {
			return r.fault("%s has %d bits; at most %d become lines", clip([]byte(name)), width, maxWidth)
		}
		if len(r.lines)+width > maxLines {
			return r.fault("the file has more than %d lines", maxLines)
		}
	}
	v, again := r.find([]byte(s[2]))
	switch {
	case !again:
		v = int32(len(r.vars))
		r.vars = append(r.vars, variable{first: -1, width: width})
		r.put(s[2], v+1)
	case levels && r.vars[v].first >= 0 && r.vars[v].width != width:
		return r.fault("code %q stands for %d and for %d bits", clip([]byte(s[2])), r.vars[v].width, width)
	}
	if !levels {
		return nil
	}
	if r.vars[v].first < 0 {
		r.vars[v] = variable{first: r.signals, width: width}
		r.signals += width
	}
	for i, n := range bitNames(name, s[3], width) {
		r.lines = append(r.lines, Line{n, r.vars[v].first + i})
	}
	return nil
}

// bitNames names the bits of a variable, the most significant one first, by the range
// that was declared with it. In an escaped name, brackets are part of the name.
func bitNames(name, word string, width int) []string {
	if width == 1 {
		var l, r int
		i := strings.LastIndexByte(name, '[')
		if i <= 0 || strings.HasPrefix(word, `\`) {
			return []string{name}
		}
		if n, err := fmt.Sscanf(name[i:], "[%d:%d]", &l, &r); n == 2 && err == nil && l == r {
			if name = name[:i]; l != 0 {
				name = fmt.Sprintf("%s[%d]", name, l)
			}
		}
		return []string{name}
	}
	base, left, right := name, width-1, 0
	if i := strings.LastIndexByte(name, '['); i > 0 && !(strings.HasPrefix(word, `\`) && strings.HasSuffix(word, "]")) {
		var l, r int
		if n, err := fmt.Sscanf(name[i:], "[%d:%d]", &l, &r); n == 2 && err == nil {
			base = name[:i]
			if max(l, r)-min(l, r)+1 == width {
				left, right = l, r
			}
		}
	}
	step := 1
	if left > right {
		step = -1
	}
	var out []string
	for b := left; len(out) < width; b += step {
		out = append(out, fmt.Sprintf("%s[%d]", base, b))
	}
	return out
}

// number gives a code of up to three characters as an index; -1 for others.
func number(code []byte) int {
	n := 0
	if len(code) > 3 || len(code) == 0 {
		return -1
	}
	for _, c := range code {
		if c < '!' || c > '~' {
			return -1
		}
		n = n*95 + int(c-'!') + 1
	}
	return n
}

func (r *Reader) put(code string, v int32) {
	if n := number([]byte(code)); n >= 0 {
		for len(r.short) <= n {
			r.short = append(r.short, make([]int32, n+1-len(r.short))...)
		}
		r.short[n] = v
		return
	}
	r.long[code] = v
}

func (r *Reader) find(code []byte) (int32, bool) {
	n := number(code)
	switch {
	case n >= len(r.short):
		return 0, false
	case n >= 0:
		return r.short[n] - 1, r.short[n] != 0
	}
	v, ok := r.long[string(code)]
	return v - 1, ok
}

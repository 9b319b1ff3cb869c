package device

import (
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/register"
)

// Text implements access.Asked.
func (p *Part) Text(name string, number uint64) []byte {
	if t := p.textOf(name, number); t != nil && t.Access != register.WriteOnly {
		return []byte(p.texts[t])
	}
	return nil
}

// WriteText implements access.Asked.
func (p *Part) WriteText(name string, number uint64, chars []byte) {
	if t := p.textOf(name, number); t != nil {
		p.texts[t] = string(chars)
	}
}

func (p *Part) textOf(name string, number uint64) *Text {
	if name == "" {
		return p.m.TextAt(number)
	}
	return p.m.TextNamed(name)
}

// Fits implements access.Asked.
func (p *Part) Fits(pat *access.Pattern, number uint64) bool { return p.m.Fits(pat, number) }

// Grants implements access.Asked.
func (p *Part) Grants(pat *access.Pattern, u *access.Use) access.Reason {
	if pat.Most > 0 && u.Units > pat.Most {
		return access.OutOfRange
	}
	if pat.Text != nil {
		return p.grantsText(p.textOf(pat.Text.Name, u.Number), pat.Text.Writes, len(u.Chars))
	}
	for name, v := range u.Held {
		if why := p.grantsWrite(p.m.Named(name), v); why != access.Granted {
			return why
		}
	}
	number := u.Number
	for i := range max(u.Units, 1) {
		if pat.NumberBits == 0 {
			break
		}
		if i > 0 {
			number = p.Next(number, pat.Writes)
		}
		r := p.at(number, pat.Writes)
		switch {
		case r == nil && p.Size(number) == 0:
			return access.NoSuch
		case r == nil:
		case pat.Writes && r.Turn > 0:
			if !r.some(func(a register.Access) bool { return a != register.ReadOnly }) {
				return access.Unwritable
			}
		case pat.Writes:
			if why := p.grantsWrite(r, u.Values[i]); why != access.Granted {
				return why
			}
		case !r.some(func(a register.Access) bool { return a != register.WriteOnly }):
			return access.Unreadable
		}
	}
	return access.Granted
}

// some says whether some bits of the register have an access.
func (r *Register) some(fits func(register.Access) bool) bool {
	found := false
	r.Each(func(_ uint64, a register.Access) { found = found || fits(a) })
	return found
}

// grantsWrite says why a content can't be written to a register.
func (p *Part) grantsWrite(r *Register, content uint64) access.Reason {
	if !r.Writable() {
		return access.Unwritable
	}
	for _, v := range p.m.Values {
		if v.From != nil || len(v.Pieces) != 1 || v.Pieces[0].Register != r {
			continue
		}
		d := v.Decode(func(*Register) uint64 { return content })
		if d.Fault != "" || d.Number != nil && (v.Least != nil && d.Number.Cmp(v.Least) < 0 || v.Most != nil && d.Number.Cmp(v.Most) > 0) {
			return access.OutOfRange
		}
		if p.barred(v.Name) {
			return access.NotNow
		}
	}
	return access.Granted
}

func (p *Part) grantsText(t *Text, writes bool, size int) access.Reason {
	switch {
	case !writes && t.Access == register.WriteOnly:
		return access.Unreadable
	case !writes:
	case t.Access == register.ReadOnly:
		return access.Unwritable
	case size > t.Most:
		return access.BadLength
	case p.barred(t.Name):
		return access.NotNow
	}
	return access.Granted
}

// Grant implements access.Granting: what a bus part takes without a word.
func (p *Part) Grant(number uint64) bool {
	r := p.register(number, true)
	return r == nil || p.barredBits(r) != r.Mask()
}

// barredBits gives the bits of a register that can't be written now.
func (p *Part) barredBits(r *Register) uint64 {
	out := uint64(0)
	for _, b := range p.acts.Bars {
		v := p.m.Value(b.Name)
		if v == nil || v.From != nil || !p.barred(b.Name) {
			continue
		}
		_, mask := v.Into(r, 0, 0)
		out |= mask
	}
	return out
}

// barred says whether a condition keeps something from being written now.
func (p *Part) barred(name string) bool {
	for _, b := range p.acts.Bars {
		if !strings.EqualFold(b.Name, name) {
			continue
		}
		var in []float64
		for _, v := range b.Inputs {
			in = append(in, p.number(v))
		}
		if v := b.While.Value(in...); v != 0 {
			return true
		}
	}
	return false
}

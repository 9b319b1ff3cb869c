package operate

import (
	"strings"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/register"
)

// masks are the bits of a register by what reading and writing do, while a value that it
// holds is written.
type masks struct {
	value   uint64 // the bits of the value
	plain   uint64 // hold what is written
	other   uint64 // of them those that do not belong to the value
	locked  uint64 // of the value, can't be written
	flags   uint64 // writing 1 clears them
	starts  uint64 // writing 1 starts something
	clears  uint64 // reading clears them
	secret  uint64 // can't be read
	reading uint64 // reading tells them and does no harm
}

func masksOf(v *device.Value, reg *device.Register) masks {
	_, value := v.Into(reg, 0, 0)
	m := masks{value: value}
	reg.Each(func(mask uint64, a register.Access) {
		switch a {
		case register.ReadWrite:
			m.plain |= mask
			m.reading |= mask
		case register.ReadOnly:
			m.locked |= mask & value
			m.reading |= mask
		case register.WriteOnly:
			m.secret |= mask
		case register.WriteOne:
			m.flags |= mask
			m.reading |= mask
		case register.WriteStarts:
			m.starts |= mask
			m.reading |= mask
		case register.ReadClears:
			m.clears |= mask
			m.locked |= mask & value
		}
	})
	m.other = m.plain &^ value
	return m
}

// named gives the fields that a mask touches.
func named(reg *device.Register, mask uint64) string {
	var out []string
	for i := range reg.Fields {
		if reg.Fields[i].Mask()&mask != 0 {
			out = append(out, reg.Fields[i].Name)
		}
	}
	if len(out) == 0 {
		return "bits " + register.Bits(mask)
	}
	return strings.Join(out, ", ")
}

// write writes a value, reads its registers before and behind that where it does no
// harm, and compares: the other bits stay as they are, flags that writing 1 clears get 0.
// It is false where that failed.
func (x *run) write(v *device.Value, text string) bool {
	w, err := v.Encode(text)
	if err != nil {
		x.r.say(Refused, "%s: %v", v.Name, err)
		return false
	}
	if x.op.Rounded != "" {
		x.r.say(Warn, "%s", x.op.Rounded)
	}
	if w.Rounded {
		x.r.say(Warn, "%s can't be %s exactly: %s is written", v.Name, v.Quantity(w.Asked), w.Meaning())
	}
	regs := v.Registers()
	for _, reg := range regs {
		if !x.may(v, reg, w.Raw) {
			return false
		}
	}
	for _, reg := range regs {
		if n := x.pending(reg); n > 0 && !x.op.Force {
			x.r.say(Refused, "%s is half written, %d of %d pieces: the next one would be taken for the rest; write the rest with raw, or force", reg.Name, n, reg.Turns())
			return false
		}
	}
	// Before.
	var ask []*device.Register
	for _, reg := range regs {
		if m := masksOf(v, reg); x.op.Part.Readable(reg) && (m.clears == 0 && m.reading != 0 || m.other != 0) {
			ask = append(ask, reg)
		}
	}
	before, ok := x.contents(ask)
	if !ok {
		return false
	}
	changes := make([]Change, len(regs))
	wrote := map[*device.Register]int{}
	for _, reg := range regs {
		wrote[reg] = x.writings(reg)
	}
	fresh := map[*device.Register]uint64{}
	for i, reg := range regs {
		m := masksOf(v, reg)
		base, known := x.content(reg)
		if !known {
			base = reg.Reset
		}
		fresh[reg], _ = v.Into(reg, base&^(m.flags|m.starts)&(m.plain|m.secret)|reg.Reset&reg.Reserved()&^(m.plain|m.flags|m.starts), w.Raw)
		changes[i] = Change{Register: reg.Name, Bits: reg.Bits, Wrote: fresh[reg]}
		changes[i].Before, changes[i].KnowsBefore = before[reg], has(before, reg)
	}
	defer func() { x.r.Changes = append(x.r.Changes, changes...) }()
	steps, err := x.op.Part.WriteSteps(regs, fresh, x.content)
	if err != nil {
		x.r.say(Refused, "%v", err)
		changes = nil
		return false
	}
	if !x.sends(steps) {
		changes = nil
		return false
	}
	for _, s := range steps {
		if _, ok := x.do(s); !ok {
			return false
		}
	}
	// Behind.
	ask = ask[:0]
	for _, reg := range regs {
		if m := masksOf(v, reg); x.op.Part.Readable(reg) && m.clears == 0 && m.reading != 0 {
			ask = append(ask, reg)
		}
	}
	after, ok := x.contents(ask)
	if !ok {
		return false
	}
	for i := range changes {
		changes[i].After, changes[i].KnowsAfter = after[regs[i]], has(after, regs[i])
	}
	good := true
	same := len(ask) > 0
	for i, reg := range regs {
		arrived, already := x.compare(v, reg, &changes[i])
		if n := x.writings(reg) - wrote[reg]; !arrived && n > 1 {
			x.r.say(Fault, "somebody else wrote %s meanwhile, as the firmware may: look in Traffic", reg.Name)
		}
		good = good && arrived
		same = same && already
	}
	switch {
	case !good:
	case same:
		x.r.say(Warn, "%s was there already: reading it back proves nothing", v.Name)
	default:
		now, all := fresh, true
		for _, reg := range regs {
			all = all && has(after, reg)
		}
		how := "written: "
		if all {
			now, how = after, "is "
		}
		// Without the unit where another register says that.
		d := v.Format.Decode(v.Of(func(r *device.Register) uint64 { return now[r] }))
		x.r.say(OK, "%s %s%s", v.Name, how, d.Meaning())
	}
	return good
}

// knows says whether what a register holds is known without reading it.
func (x *run) knows(reg *device.Register) bool {
	_, known := x.content(reg)
	return known
}

// writings is how often a register was written, by anybody.
func (x *run) writings(reg *device.Register) int {
	x.ledger.Update(x.Session.Store().Snapshot())
	if k := x.ledger.Part(x.Link.Index, x.op.Part.Index); k != nil && k.Entries[reg] != nil {
		return k.Entries[reg].Writes
	}
	return 0
}

// pending is how many pieces of a register were written that is not written as a whole.
func (x *run) pending(reg *device.Register) int {
	x.ledger.Update(x.Session.Store().Snapshot())
	if k := x.ledger.Part(x.Link.Index, x.op.Part.Index); k != nil {
		return k.Pending[reg].N
	}
	return 0
}

func has(m map[*device.Register]uint64, r *device.Register) bool {
	_, known := m[r]
	return known
}

// compare says what writing made of one register: whether it arrived, and whether it was
// there before.
func (x *run) compare(v *device.Value, reg *device.Register, ch *Change) (arrived, already bool) {
	m := masksOf(v, reg)
	if flags := ch.Wrote & m.flags; flags != 0 {
		cleared := flags
		if ch.KnowsBefore {
			cleared &= ch.Before
		}
		verdict := OK
		if m.value&^m.flags != 0 {
			verdict = Warn // it was not the flags that were meant
		}
		switch {
		case cleared != 0 && ch.KnowsAfter && ch.After&cleared != 0:
			x.r.say(Warn, "writing 1 should clear %s: it is set again, or still", named(reg, ch.After&cleared))
		case cleared != 0:
			x.r.say(verdict, "writing 1 cleared %s", named(reg, cleared))
		default:
			x.r.say(verdict, "%s was clear already", named(reg, flags))
		}
	}
	if starts := ch.Wrote & m.starts; starts != 0 && v.Bits > 1 {
		ran := uint64(0)
		if ch.KnowsBefore {
			ran = starts & ch.Before // it goes back to 0 when what it starts is over
		}
		if starts&^ran != 0 {
			x.r.say(OK, "writing 1 started %s", named(reg, starts&^ran))
		}
		if ran != 0 {
			x.r.say(Warn, "%s was 1 already: what it starts was running, and is not started again", named(reg, ran))
		}
	}
	if !ch.KnowsAfter {
		if x.op.Part.Asked() {
			x.r.say(OK, "%s can't be read back; %s answered that it is done", reg.Name, x.op.Part.Name)
		} else {
			x.r.say(OK, "%s can't be read back: nothing proves that it arrived", reg.Name)
		}
		return true, false
	}
	for _, j := range x.op.Part.Map.Jobs {
		if j.Clash == nil || j.Start.Pieces[0].Register != reg {
			continue
		}
		clash, _ := j.Clash.Into(reg, 0, 1)
		if start, _ := j.Start.Into(reg, 0, 1); ch.Wrote&start != 0 && ch.After&clash != 0 && !(ch.KnowsBefore && ch.Before&clash != 0) {
			x.r.say(Fault, "%s did not start: it was running, and %s came up", j.Name, j.Clash.Name)
			return false, false
		}
	}
	wrong := (ch.After ^ ch.Wrote) & m.plain
	switch {
	case wrong != 0 && ch.KnowsBefore && ch.After == ch.Before:
		x.r.say(Fault, "%s did not take it: it is still %s where %s was written%s", reg.Name, reg.Hex(ch.After), reg.Hex(ch.Wrote), x.barred(reg))
		return false, false
	case wrong != 0:
		x.r.say(Fault, "%s reads %s where %s was written: bits %s differ", reg.Name, reg.Hex(ch.After), reg.Hex(ch.Wrote), register.Bits(wrong))
		return false, false
	}
	return true, ch.KnowsBefore && (ch.Before^ch.Wrote)&m.plain == 0 && ch.Wrote&(m.flags|m.starts) == 0
}

// may refuses what does harm or has no effect.
func (x *run) may(v *device.Value, reg *device.Register, raw uint64) bool {
	if x.op.Force {
		return true
	}
	m := masksOf(v, reg)
	fresh, _ := v.Into(reg, 0, raw)
	reserved := uint64(0)
	if len(reg.Fields) > 0 {
		reserved = (fresh ^ reg.Reset) & reg.Reserved() & m.value
	}
	switch {
	case m.locked != 0 && m.locked == m.value:
		x.r.say(Refused, "%s can't be written: it is read-only", v.Name)
	case m.value != reg.Mask() && m.clears != 0 && m.other != 0:
		x.r.say(Refused, "to keep the other bits of %s it must be read first, and that clears %s; force does it", reg.Name, named(reg, m.clears))
	case m.value != reg.Mask() && m.secret&^m.value != 0 && !x.knows(reg):
		x.r.say(Refused, "%s of %s can't be read and would be overwritten: write the whole register", named(reg, m.secret&^m.value), reg.Name)
	case reserved != 0:
		x.r.say(Refused, "reserved bits %s of %s would be written unlike their reset value; force does it", register.Bits(reserved), reg.Name)
	default:
		return true
	}
	return false
}

package firmware

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/register"
)

const devicesHeader = `/* Access to the registers of the devices, over two small functions of yours. */
#ifndef DEVICES_H
#define DEVICES_H

#include <stddef.h>
#include <stdint.h>

struct device_bus {
    void *user;
    /* Full duplex: sends bytes to a device while its select is held, and takes as many.
       Devices are counted in the order of the bench. The first bit is the top one. */
    int (*exchange)(void *user, unsigned device, const uint8_t *out, uint8_t *in, size_t count);
    /* Addressed: writes bytes, then reads some behind a repeated start; either may be none. */
    int (*transact)(void *user, unsigned address, const uint8_t *out, size_t out_count, uint8_t *in, size_t in_count);
};

/* All functions give 0, or what yours gave when that was not 0. An identity that is another
   part's gives DEVICE_OTHER. */
#define DEVICE_OTHER 1000

`

const devicesHead = `#include "devices.h"

static uint32_t get_bits(const uint8_t *bytes, size_t at, size_t bits)
{
    uint32_t v = 0u;
    size_t i;
    for (i = at; i < at + bits; i++) {
        v = (v << 1) | ((uint32_t)(bytes[i / 8u] >> (7u - i % 8u)) & 1u);
    }
    return v;
}

static void put_bits(uint8_t *bytes, size_t at, size_t bits, uint32_t value)
{
    size_t i;
    for (i = 0; i < bits; i++) {
        size_t place = at + i;
        uint8_t mask = (uint8_t)(1u << (7u - place % 8u));
        if (((value >> (bits - 1u - i)) & 1u) != 0u) {
            bytes[place / 8u] = (uint8_t)(bytes[place / 8u] | mask);
        } else {
            bytes[place / 8u] = (uint8_t)(bytes[place / 8u] & (uint8_t)~mask);
        }
    }
}
`

// devices gives the access to all registers that single transactions of bytes reach; left are
// the parts that have none, with the reason.
func devices(b *bench.Bench) (header, source string, some bool) {
	var h, s strings.Builder
	h.WriteString(devicesHeader)
	s.WriteString(devicesHead)
	usesGet, usesPut := false, false
	called := newNames()
	for _, l := range b.Links {
		for _, p := range l.Parts() {
			part, registers := strings.ToLower(called.name(l.Name+"\x00"+p.Name, p.Name)), newNames()
			if p.Map == nil || !operation.Known(l.Kind.Name) {
				continue
			}
			if p.Asked() {
				fmt.Fprintf(&h, "/* %s on %s is asked and answers in messages: it is not exported. */\n\n", remark(p.Name), remark(l.Name))
				continue
			}
			var left []string
			n := 0
			for _, r := range p.Map.Registers {
				read, write := (*sequence)(nil), (*sequence)(nil)
				if steps, err := p.ReadSteps([]*device.Register{r}, nil); err == nil && r.Access != register.WriteOnly {
					read = sequenceOf(steps, access.In)
				}
				if steps, err := p.WriteSteps([]*device.Register{r}, map[*device.Register]uint64{r: 0}, nil); err == nil && r.Access != register.ReadOnly {
					write = sequenceOf(steps, access.Out)
				}
				if r.Bits > 32 || read == nil && write == nil {
					left = append(left, r.Name)
					continue
				}
				if n++; n == 1 {
					fmt.Fprintf(&h, "/* %s on %s: %s */\n", remark(p.Name), remark(l.Name), remark(p.About))
				}
				name := part + "_%s_" + strings.ToLower(registers.name(r.Name, r.Name))
				if read != nil {
					usesGet = true
					proto := fmt.Sprintf("int "+name+"(const struct device_bus *bus, uint32_t *value)", "read")
					fmt.Fprintf(&h, "%s; /* %s */\n", proto, remark(read.text))
					fmt.Fprintf(&s, "\n%s\n{\n%s}\n", proto, read.body(p, true))
				}
				if write != nil {
					usesPut = true
					proto := fmt.Sprintf("int "+name+"(const struct device_bus *bus, uint32_t value)", "write")
					fmt.Fprintf(&h, "%s; /* %s */\n", proto, remark(write.text))
					fmt.Fprintf(&s, "\n%s\n{\n%s}\n", proto, write.body(p, false))
				}
			}
			if id := p.Map.Identity; id != nil && n > 0 && len(id.Value.Pieces) == 1 && id.Value.Pieces[0].Register.Bits <= 32 && readable(p, id.Value.Pieces[0].Register) {
				x := id.Value.Pieces[0]
				reg := strings.ToLower(registers.name(x.Register.Name, x.Register.Name))
				fmt.Fprintf(&h, "int %s_identify(const struct device_bus *bus); /* %s must be 0x%X */\n", part, remark(id.Value.Name), id.Expect)
				fmt.Fprintf(&s, `
int %s_identify(const struct device_bus *bus)
{
    uint32_t value = 0u;
    int failed = %s_read_%s(bus, &value);
    if (failed != 0) {
        return failed;
    }
    return ((value >> %du) & 0x%Xu) == 0x%Xu ? 0 : DEVICE_OTHER;
}
`, part, part, reg, x.Low, uint64(1)<<x.Bits-1, id.Expect)
			}
			if len(left) > 0 {
				fmt.Fprintf(&h, "/* %s: not by one transaction of whole bytes: %s */\n", remark(p.Name), remark(strings.Join(left, ", ")))
			}
			if n > 0 {
				some = true
				h.WriteByte('\n')
			}
		}
	}
	source = s.String()
	if !usesGet {
		source = strings.Replace(source, devicesHead[strings.Index(devicesHead, "static uint32_t"):strings.Index(devicesHead, "static void")], "", 1)
	}
	if !usesPut {
		source = strings.Replace(source, devicesHead[strings.Index(devicesHead, "static void"):], "", 1)
	}
	h.WriteString("#endif\n")
	return h.String(), source, some
}

func readable(p *operation.Part, r *device.Register) bool {
	steps, err := p.ReadSteps([]*device.Register{r}, nil)
	return err == nil && sequenceOf(steps, access.In) != nil
}

// field is where bits of the value stand in bytes.
type field struct{ at, bits, low int }

// sequence is one transaction: bytes that go out and come in, and where the value stands.
type sequence struct {
	text    string
	out     []byte
	in      int // bytes that are read behind the bytes out; -1: as many as go out, at once
	fields  []field
	address int
}

// sequenceOf gives the transaction of steps; nil where it is not one, or not of whole bytes.
func sequenceOf(steps []operation.Step, line access.Line) *sequence {
	if len(steps) != 1 || steps[0].Plan == nil || len(steps[0].Texts) != 1 {
		return nil
	}
	x := &sequence{text: steps[0].Texts[0], in: -1}
	w := strings.Fields(x.text)
	if len(w) > 1 && w[0] == "start" {
		a, err := strconv.ParseUint(w[1], 16, 8)
		if err != nil || a>>3 == 0x1E { // an address of ten bits
			return nil
		}
		x.address, x.in = int(a>>1), 0
	}
	for k, span := range steps[0].Plan.Spans {
		if len(span.Out)%8 != 0 || k > 1 || k == 1 && !span.Reads {
			return nil
		}
		if span.Reads {
			x.in = len(span.Out) / 8
		} else {
			for i := 0; i < len(span.Out); i += 8 {
				v := byte(0)
				for b := range 8 {
					v <<= 1
					if span.Out[i+b] {
						v |= 1
					}
				}
				x.out = append(x.out, v)
			}
		}
		for _, it := range span.Items {
			switch {
			case it.What == access.Check, it.What == access.Chars:
				return nil
			case it.What == access.Value && it.Line == line, it.What == access.Held && it.Line == line && len(steps[0].Registers) == 1 && it.Name == steps[0].Registers[0].Name:
				x.fields = append(x.fields, field{it.At, it.Bits, it.Low})
			}
		}
	}
	if len(x.fields) == 0 {
		return nil
	}
	return x
}

// body is a function that reads or writes.
func (x *sequence) body(p *operation.Part, reads bool) string {
	var s strings.Builder
	bytes := make([]string, 0, len(x.out))
	for _, b := range x.out {
		bytes = append(bytes, fmt.Sprintf("0x%02Xu", b))
	}
	out := "out"
	if len(bytes) == 0 {
		out = "NULL"
	} else {
		kind := "static const uint8_t"
		if !reads {
			kind = "uint8_t"
		}
		fmt.Fprintf(&s, "    %s out[] = {%s};\n", kind, strings.Join(bytes, ", "))
	}
	duplex := x.in < 0
	switch {
	case duplex:
		fmt.Fprintf(&s, "    uint8_t in[%d] = {0};\n", len(x.out))
	case reads:
		fmt.Fprintf(&s, "    uint8_t in[%d] = {0};\n", x.in)
	}
	s.WriteString("    int failed;\n")
	if !reads {
		for _, f := range x.fields {
			shift := "value"
			if f.low > 0 {
				shift = fmt.Sprintf("value >> %du", f.low)
			}
			fmt.Fprintf(&s, "    put_bits(out, %du, %du, %s);\n", f.at, f.bits, shift)
		}
	}
	switch {
	case duplex:
		fmt.Fprintf(&s, "    failed = bus->exchange(bus->user, %du, out, in, sizeof out);\n", p.Index)
	case reads:
		fmt.Fprintf(&s, "    failed = bus->transact(bus->user, 0x%02Xu, %s, %du, in, sizeof in);\n", x.address, out, len(x.out))
	default:
		fmt.Fprintf(&s, "    failed = bus->transact(bus->user, 0x%02Xu, out, sizeof out, NULL, 0u);\n", x.address)
	}
	s.WriteString("    if (failed != 0) {\n        return failed;\n    }\n")
	if reads {
		var terms []string
		for _, f := range x.fields {
			term := fmt.Sprintf("get_bits(in, %du, %du)", f.at, f.bits)
			if f.low > 0 {
				term += fmt.Sprintf(" << %du", f.low)
			}
			terms = append(terms, term)
		}
		fmt.Fprintf(&s, "    *value = %s;\n", strings.Join(terms, " | "))
	}
	s.WriteString("    return 0;\n")
	return s.String()
}

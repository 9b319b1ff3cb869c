// Package firmware writes what a bench has worked out as C sources of their own: register
// values in startup order, the settings of transfers, and a consumer for rings. They are
// portable C99, call no library of anybody's, and are whole files, never parts of others.
package firmware

import (
	"fmt"
	"strings"
	"unicode"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/constants"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/transfer"
)

// File is one source file.
type File struct {
	Name string
	Text string
}

// Files gives the sources of a bench. A bench without registers has no setup, one without
// transfers no settings of them; the ring's consumer depends on nothing.
func Files(b *bench.Bench) ([]File, error) {
	var out []File
	if b.MCU.Registers != nil {
		text, err := setup(b)
		if err != nil {
			return nil, err
		}
		out = append(out, File{"setup.h", setupHeader}, File{"setup.c", text})
	}
	if len(b.Transfers.Plans) > 0 {
		out = append(out, File{"transfers.h", transfers(b)})
	}
	if header, source, some := devices(b); some {
		out = append(out, File{"devices.h", header}, File{"devices.c", source})
	}
	return append(out, File{"ring.h", ringHeader}, File{"ring.c", ringSource}), nil
}

// Name makes a C name of a text, in upper case.
func Name(text string) string {
	s := constants.Name(text)
	if s == "" || unicode.IsDigit(rune(s[0])) {
		s = "X" + s
	}
	return s
}

// names gives each of several things a C name of its own.
type names struct {
	of    map[string]string
	taken map[string]bool
}

func newNames() *names { return &names{map[string]string{}, map[string]bool{}} }

// name gives the name of a thing that key tells from all others; one that is taken gets a
// number behind it.
func (n *names) name(key, text string) string {
	if name, has := n.of[key]; has {
		return name
	}
	name := Name(text)
	for k := 2; n.taken[name]; k++ {
		name = fmt.Sprintf("%s_%d", Name(text), k)
	}
	n.of[key], n.taken[name] = name, true
	return name
}

// remark makes a text safe inside of a comment: nothing in it ends that, nor shows the code
// otherwise than it reads.
func remark(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(safe.Text(text), "*/", "* /"), "/*", "/ *")
}

const setupHeader = `/* The writes that bring the units of the board to life, in their order. */
#ifndef SETUP_H
#define SETUP_H

#include <stddef.h>
#include <stdint.h>

/* One write: the bits of mask at an address take those of value. */
struct setup_write {
    uintptr_t address;
    uint32_t mask;
    uint32_t value;
    uint8_t bits; /* of the register: 8, 16 or 32 */
};

extern const struct setup_write setup_writes[];
extern const size_t setup_count;

typedef uint32_t (*setup_load)(uintptr_t address, uint8_t bits);
typedef void (*setup_store)(uintptr_t address, uint8_t bits, uint32_t value);

/* Does the writes; load and store are yours. */
void setup_apply(const struct setup_write *writes, size_t count, setup_load load, setup_store store);

#endif
`

// setup is the table of writes.
func setup(b *bench.Bench) (string, error) {
	var s strings.Builder
	s.WriteString("#include \"setup.h\"\n\nconst struct setup_write setup_writes[] = {\n")
	n := 0
	for _, l := range b.Links {
		c, err := l.Chain()
		if err != nil {
			return "", fmt.Errorf("link %s: %w", l.Name, err)
		}
		fmt.Fprintf(&s, "    /* %s, unit %s: %s */\n", remark(l.Name), remark(l.Unit.Name), remark(l.Model.Short()))
		for _, held := range l.Unheld() {
			fmt.Fprintf(&s, "    /*   no register takes %s: set it up by hand */\n", remark(held))
		}
		for _, d := range l.Model.Derivations(0) {
			fmt.Fprintf(&s, "    /*   %s = %s, as %s = %s */\n", remark(d.Name), remark(d.Result), remark(d.Formula), remark(d.Worked))
		}
		for _, st := range c.Steps {
			for _, w := range st.Writes {
				value := w.Value
				if w.Clears() {
					value = w.Mask // writing ones clears
				}
				row := fmt.Sprintf("{0x%08Xu, 0x%08Xu, 0x%08Xu, %du},", w.Address, w.Mask, value, w.Bits)
				about := fmt.Sprintf("%s: %s %s", st.Title, w.Name, w.Text)
				if st.AtReset {
					fmt.Fprintf(&s, "    /* as after reset: %s %s */\n", row, remark(about))
					continue
				}
				n++
				fmt.Fprintf(&s, "    %s /* %s */\n", row, remark(about))
			}
		}
	}
	if n == 0 {
		s.WriteString("    {0u, 0u, 0u, 32u} /* nothing differs from reset */\n")
	}
	s.WriteString("};\n\n")
	if n == 0 {
		s.WriteString("const size_t setup_count = 0;\n")
	} else {
		s.WriteString("const size_t setup_count = sizeof setup_writes / sizeof setup_writes[0];\n")
	}
	s.WriteString(`
void setup_apply(const struct setup_write *writes, size_t count, setup_load load, setup_store store)
{
    size_t i;
    for (i = 0; i < count; i++) {
        const struct setup_write *w = &writes[i];
        store(w->address, w->bits, (load(w->address, w->bits) & ~w->mask) | (w->value & w->mask));
    }
}
`)
	return s.String(), nil
}

// transfers are the settings of transfers as constants, each with its reason.
func transfers(b *bench.Bench) string {
	var s strings.Builder
	s.WriteString("/* The settings of transfers. */\n#ifndef TRANSFERS_H\n#define TRANSFERS_H\n")
	called := newNames()
	for _, p := range b.Transfers.Plans {
		fmt.Fprintf(&s, "\n/* %s */\n", remark(p.Sentence()))
		name := called.name(p.Name, p.Name)
		for i := range transfer.Slots {
			sl := &transfer.Slots[i]
			text, ok := constant(sl, p)
			if !ok || !sl.For(p) {
				continue
			}
			why := p.Why[sl.Key]
			if p.Given[sl.Key] {
				why = "given"
			}
			fmt.Fprintf(&s, "#define %s_%s %s /* %s */\n", name, Name(sl.Key), text, remark(why))
		}
	}
	s.WriteString("\n#endif\n")
	return s.String()
}

// constant gives a slot as a number; false of those that mean nothing to the firmware's
// registers.
func constant(s *transfer.Slot, p *transfer.Plan) (string, bool) {
	text := s.Get(p)
	switch s.Key {
	case "length", "buffer", "channel", "unit-width", "memory-width", "count", "channel-priority", "burst", "level", "urgency":
		return text + "u", true
	case "address":
		return text + "u", true
	case "unit-step", "memory-step", "tell-half", "tell-full", "word-interrupt", "idle-interrupt", "unit-request", "line":
		if text == "yes" || text == "on" {
			return "1", true
		}
		return "0", true
	case "flow":
		return map[string]string{"to-memory": "1", "to-unit": "0"}[text], true
	case "mode":
		return map[bool]string{true: "0", false: "1"}[text == "one-shot"], true
	case "time-out":
		return fmt.Sprintf("%du", int64(p.Timeout/1_000_000)), true
	}
	return "", false
}

const ringHeader = `/* A consumer for a ring that DMA fills: right for each order of its events. */
#ifndef RING_H
#define RING_H

#include <stddef.h>
#include <stdint.h>

/* The events that stand when the handler runs. */
#define RING_HALF 1u
#define RING_FULL 2u
#define RING_IDLE 4u

struct ring {
    const volatile uint8_t *bytes;
    size_t size;
    size_t last;       /* the next byte is taken from here */
    uint32_t overruns; /* turns that went by before anybody looked */
};

/* Takes bytes, in order; it is called once, or twice across the end of the ring. */
typedef void (*ring_take)(void *user, const volatile uint8_t *bytes, size_t count);

/* Begins with an empty ring. */
void ring_start(struct ring *r, const volatile uint8_t *bytes, size_t size);

/* A run of the handler: position is the place that is written next (the size of the ring less
   what the channel still counts), events those whose flags stood. Clear the flags before the
   position is read. Returns how many bytes are new. */
size_t ring_run(struct ring *r, size_t position, unsigned events, ring_take take, void *user);

#endif
`

const ringSource = `#include "ring.h"

/* Whether the way between two places, less than a turn, comes to a place. */
static int passes(const struct ring *r, size_t from, size_t to, size_t place)
{
    size_t way = (to + r->size - from) % r->size;
    size_t there = (place + r->size - from) % r->size;
    return there > 0 && there <= way;
}

void ring_start(struct ring *r, const volatile uint8_t *bytes, size_t size)
{
    r->bytes = bytes;
    r->size = size;
    r->last = 0;
    r->overruns = 0;
}

size_t ring_run(struct ring *r, size_t position, unsigned events, ring_take take, void *user)
{
    size_t from = r->last;
    size_t to = position % r->size;
    size_t count = (to + r->size - from) % r->size;
    int half = (events & RING_HALF) == 0u || passes(r, from, to, r->size / 2u);
    int full = (events & RING_FULL) == 0u || passes(r, from, to, 0u);

    if (!half || !full) {
        /* An event that the way does not explain: a whole turn went by. */
        if (count > 0u) {
            r->overruns++;
        }
        count = r->size;
        from = to;
    }
    r->last = to;
    if (from + count > r->size) {
        take(user, r->bytes + from, r->size - from);
        take(user, r->bytes, count - (r->size - from));
    } else if (count > 0u) {
        take(user, r->bytes + from, count);
    }
    return count;
}
`

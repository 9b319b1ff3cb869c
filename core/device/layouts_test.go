package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const canPart = `device: d
kind: can
end:
  clock: 16 MHz
  rate: 250 kbit/s
  timing: 4, 1+13+2, 1
  messages: {status: {identifier: 0x1A5, data: 00 00 00, every: 10 ms}}
layouts:
`

const uartPart = `device: d
kind: uart
end: {rate: 9600}
layouts:
`

// Each bad layout gets one message, at the line that is wrong.
func TestBadLayouts(t *testing.T) {
	for i, c := range []struct {
		head, text string
		code       string
		line       int // behind the head
	}{
		{canPart, "  a: {identifier: 0x1A5, rows: {0: aaaa}, legend: {a: {name: x}}}", "bad-layout", 1},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows:\n      0: aaaaaaaa\n      1: aaaabbbb\n    legend: {a: {name: x}}", "bad-layout", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows:\n      0-2: aaaaaaaa\n      1: bbbbbbbb\n    legend: {a: {name: x}, b: {name: y}}", "bad-layout", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x}\n      b: {name: y}", "bad-layout", 4},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0-8: aaaaaaaa}\n    legend: {a: {name: x}}", "bad-layout", 4},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {x: aaaaaaaa}\n    legend: {a: {name: x}}", "bad-row", 3},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {3-1: aaaaaaaa}\n    legend: {a: {name: x}}", "bad-row", 3},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      ab: {name: x}", "bad-legend", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {scale: 2 V}", "bad-legend", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaabbbb}\n    legend:\n      a: {name: x}\n      b: {name: x}", "name-twice", 6},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x, coding: float}", "bad-coding", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x, codes: {256: much}}", "bad-code", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x, scale: 0 V}", "bad-scale", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend: {a: {name: x}}\n    when: {y: 1}", "bad-condition", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend: {a: {name: x}}\n    when: {x: 300}", "bad-condition", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend: {a: {name: x}}\n  b:\n    identifier: 0x1A5\n    rows: {1: aaaaaaaa}\n    legend: {a: {name: x}}", "layouts-overlap", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    legend: {a: {name: x}}", "layout-of-nothing", 1},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: ........, 3: aaaaaaaa}\n    length: 3\n    legend: {a: {name: x}}", "bad-layout", 4},
		{uartPart, "  a:\n    text: \"{x}\"\n    length: 3\n    legend: {x: {}}", "bad-layout", 3},
		{uartPart, "  a:\n    text: \"{x}\"\n    legend: {x: {warn: {1: high}}}", "bad-layout", 3},
		{canPart, "  a:\n    rows: {0: aaaaaaaa}\n    legend: {a: {name: x}}", "key-missing", 1},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x, holds: 3 +}", "bad-expression", 5},
		{canPart, "  a:\n    identifier: 0x1A6\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: x, holds: t}", "holds-without-message", 5},
		{canPart, "  a:\n    identifier: 0x1A5\n    rows: {0: aaaaaaaa}\n    text: hello\n    legend: {a: {name: x}}", "unknown-key", 4},
		{uartPart, "  a:\n    text: \"{x}{y}\"\n    legend: {x: {}, y: {}}", "bad-layout", 2},
		{uartPart, "  a:\n    text: \"{x\"\n    legend: {x: {}}", "bad-layout", 2},
		{uartPart, "  a:\n    text: \"{z}\"\n    legend: {x: {}}", "bad-layout", 2},
		{uartPart, "  a:\n    text: \"{x}\"\n    legend: {x: {}, y: {}}", "bad-layout", 3},
		{uartPart, "  a:\n    text: \"{x}\"\n    rows: {0: aaaaaaaa}\n    legend: {x: {}}", "layout-of-nothing", 1},
		{uartPart, "  a:\n    text: \"{x}\"\n    legend:\n      x: {first: low}", "bad-legend", 4},
		{uartPart, "  a:\n    text: \"{x}\"\n    legend:\n      x: {name: y}", "bad-legend", 4},
		{uartPart, "  a:\n    rows: {0: aaaaaaaa}\n    legend:\n      a: {name: y, form: hex}", "bad-legend", 4},
		{uartPart, "  a:\n    text: \"{x}\"\n    from: nobody\n    legend: {x: {}}", "unknown-word", 3},
	} {
		_, faults := Parse("d.yaml", []byte(c.head+c.text+"\n"))
		if !assert.Len(t, faults, 1, "%d: %s", i, c.text) {
			continue
		}
		f := faults[0]
		assert.Equal(t, c.code, f.Code, "%d: %s", i, f)
		assert.Equal(t, strings.Count(c.head, "\n")+c.line, f.Where.Line, "%d: %s", i, f)
		assert.NotEmpty(t, f.Change, "%d: %s", i, f)
	}
}

// Several layouts of one identifier are told apart by a value.
func TestMultiplexedLayouts(t *testing.T) {
	var text strings.Builder
	for page := range 3 {
		fmt.Fprintf(&text, "  page %d:\n    identifier: 0x1A5\n    rows: {0: pppp...., 1: vvvvvvvv}\n    legend: {p: {name: page}, v: {name: value%d}}\n    when: {page: %d}\n", page, page, page)
	}
	d, faults := Parse("d.yaml", []byte(canPart+text.String()))
	require.Empty(t, faults)
	require.Len(t, d.Layouts, 3)
	for first := range uint64(256) {
		n := 0
		for _, l := range d.Layouts {
			if l.Fits([]uint64{first, 7}) {
				n++
				assert.Equal(t, fmt.Sprintf("value%d", first>>4), l.Fields[1].Name)
			}
		}
		assert.Equal(t, map[bool]int{true: 1, false: 0}[first>>4 < 3], n)
	}
}

package firmware

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
	"gavrix.org/gavrix/demo"
)

func load(t testing.TB, name string) *bench.Bench {
	b, faults := bench.Load(demo.Files, name)
	require.Empty(t, faults)
	return b
}

// compiled builds a program of the exported files and a main, and gives its path.
func compiled(t *testing.T, files []File, main string) string {
	t.Helper()
	cc, err := exec.LookPath("cc")
	if err != nil {
		t.Skip("this machine has no C compiler")
	}
	dir := t.TempDir()
	args := []string{"-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic", "-o", filepath.Join(dir, "program")}
	for _, f := range append(files, File{"main.c", main}) {
		path := filepath.Join(dir, f.Name)
		require.NoError(t, os.WriteFile(path, []byte(f.Text), 0o600))
		if strings.HasSuffix(f.Name, ".c") {
			args = append(args, path)
		}
	}
	out, err := exec.Command(cc, args...).CombinedOutput() //nolint:gosec // the compiler of the machine
	require.NoError(t, err, "%s", out)
	return filepath.Join(dir, "program")
}

// ringMain is firmware around the ring: what the DMA engine would write, and the runs of the
// handler, come over a pipe; what the consumer takes goes back.
const ringMain = `#include "ring.h"
#include "transfers.h"
#include <stdio.h>

static uint8_t memory[4096];

static void take(void *user, const volatile uint8_t *bytes, size_t count)
{
    size_t i;
    (void)user;
    for (i = 0; i < count; i++) {
        putchar(bytes[i]);
    }
}

int main(void)
{
    struct ring r;
    size_t size = 0, at = 0;
    int op;
    while ((op = getchar()) != EOF) {
        int low = getchar(), high = getchar();
        size_t n = (size_t)low | (size_t)high << 8;
        if (op == 'N') {
            size = n;
            at = 0;
            ring_start(&r, memory, size);
        } else if (op == 'W') {
            while (n-- > 0) {
                memory[at] = (uint8_t)getchar();
                at = (at + 1) % size;
            }
        } else {
            (void)ring_run(&r, at, (unsigned)n, take, NULL);
        }
    }
    return r.overruns == 0u ? 0 : 1;
}
`

// The exported ring takes a megabyte through rings of several sizes, in bursts and with late
// handlers, over a pipe: nothing is lost or doubled.
func TestTheRingInC(t *testing.T) {
	files, err := Files(load(t, demo.Bench))
	require.NoError(t, err)
	program := compiled(t, files, ringMain)
	rng := rand.New(rand.NewPCG(7, 7))
	for _, size := range []int{2, 16, 100, 256} {
		var in, want bytes.Buffer
		op := func(what byte, n int, data ...byte) {
			in.WriteByte(what)
			_ = binary.Write(&in, binary.LittleEndian, uint16(n))
			in.Write(data)
		}
		op('N', size)
		bit := quantity.PeriodOf(quantity.FromBd(115200))
		ring := transfer.Ring{Size: size, Bit: bit, ByteBits: 10, IdleChars: 1, Events: transfer.HalfEvent | transfer.FullEvent | transfer.IdleEvent, Latency: bit.Times(3)}
		at := quantity.Time(0)
		var bursts []transfer.Burst
		total := 0
		for total < 1<<18 {
			n := 1 + rng.IntN(3*size)
			bursts = append(bursts, transfer.Burst{Start: at, Bytes: n})
			total += n
			at += bit.Times(int64(10 * (n + rng.IntN(4))))
		}
		written := 0
		for _, s := range ring.Services(bursts) {
			var data []byte
			for written < s.Written {
				data = append(data, byte(written*31+written>>8))
				written++
			}
			require.LessOrEqual(t, len(data), size)
			op('W', len(data), data...)
			op('R', int(s.Events))
			want.Write(data)
		}
		cmd := exec.Command(program) //nolint:gosec // just built
		cmd.Stdin = &in
		got, err := cmd.Output()
		require.NoError(t, err)
		require.Equal(t, want.Len(), len(got), "size %d", size)
		require.True(t, bytes.Equal(want.Bytes(), got), "size %d", size)
	}
}

// setupMain applies the writes to registers as they are after reset, and prints them.
const setupMain = `#include "setup.h"
#include <stdio.h>

static struct { uintptr_t address; uint32_t value; } seen[256];
static size_t count;

static uint32_t load(uintptr_t address, uint8_t bits)
{
    size_t i;
    (void)bits;
    for (i = 0; i < count; i++) {
        if (seen[i].address == address) {
            return seen[i].value;
        }
    }
    return 0;
}

static void store(uintptr_t address, uint8_t bits, uint32_t value)
{
    size_t i;
    (void)bits;
    for (i = 0; i < count && seen[i].address != address; i++) {
    }
    if (i == count) {
        count++;
    }
    seen[i].address = address;
    seen[i].value = value;
}

int main(void)
{
    unsigned long a, v;
    size_t i;
    while (scanf("%lx %lx", &a, &v) == 2) {
        store((uintptr_t)a, 32, (uint32_t)v);
    }
    setup_apply(setup_writes, setup_count, load, store);
    for (i = 0; i < count; i++) {
        printf("%lx %lx\n", (unsigned long)seen[i].address, (unsigned long)seen[i].value);
    }
    return 0;
}
`

// The writes, done by the exported C from reset on, leave in every register what the bench's
// settings want there.
func TestTheSetupInC(t *testing.T) {
	b := load(t, demo.Bench)
	files, err := Files(b)
	require.NoError(t, err)
	program := compiled(t, files, setupMain)
	wanted, err := b.Wanted()
	require.NoError(t, err)
	var in bytes.Buffer
	for i := range b.MCU.Registers.Registers {
		r := &b.MCU.Registers.Registers[i]
		fmt.Fprintf(&in, "%x %x\n", r.Address, r.Reset)
	}
	cmd := exec.Command(program) //nolint:gosec // just built
	cmd.Stdin = &in
	out, err := cmd.Output()
	require.NoError(t, err)
	got := map[uint64]uint64{}
	for line := range strings.Lines(string(out)) {
		w := strings.Fields(line)
		a, _ := strconv.ParseUint(w[0], 16, 64)
		got[a], _ = strconv.ParseUint(w[1], 16, 64)
	}
	require.NotEmpty(t, wanted)
	for name, w := range wanted {
		assert.False(t, w.Differs(got[w.Address]), "%s is %X, wanted is %X", name, got[w.Address], w.Value)
	}
}

// A changed choice changes its own lines only, and remarks can't end a comment.
func TestOnlyItsLinesChange(t *testing.T) {
	b := load(t, demo.Bench)
	before, err := Files(b)
	require.NoError(t, err)
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "upper-gauge", "transfers", "readings", "length"}, Value: "128"}))
	after, err := Files(b)
	require.NoError(t, err)
	for i := range before {
		x, y := strings.Split(before[i].Text, "\n"), strings.Split(after[i].Text, "\n")
		require.Len(t, y, len(x), before[i].Name)
		for k := range x {
			if x[k] != y[k] {
				assert.Regexp(t, `UPPER_GAUGE_READINGS_(LENGTH|BUFFER|COUNT|WORK)|upper-gauge.readings, by DMA|_ADDRESS `, y[k])
			}
		}
	}
	assert.Equal(t, "a * / b / * c", remark("a */ b /* c"))
	assert.Equal(t, "X7_SEG", Name("7-seg"))
	for _, f := range after {
		for line := range strings.Lines(f.Text) {
			assert.LessOrEqual(t, strings.Count(line, "/*"), 1, line)
		}
		assert.NotRegexp(t, regexp.MustCompile(`(?m)[ \t]+$`), f.Text, f.Name)
	}
	// Boards with other counters and latches have their files too.
	for _, name := range demo.Others {
		files, err := Files(load(t, name))
		require.NoError(t, err)
		compiled(t, files, "int main(void) { return 0; }\n")
	}
}

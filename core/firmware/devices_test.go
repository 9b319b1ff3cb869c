package firmware

import (
	"bufio"
	"context"
	"encoding/hex"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// devicesMain does operations that are named on its input, and asks for each transaction over
// its output; answers come back on its input.
const devicesMain = `#include "devices.h"
#include <stdio.h>
#include <string.h>

static int answer(uint8_t *in, size_t count)
{
    size_t i;
    unsigned v;
    for (i = 0; i < count; i++) {
        if (scanf("%2x", &v) != 1) {
            return 1;
        }
        in[i] = (uint8_t)v;
    }
    return 0;
}

static void bytes(const uint8_t *out, size_t count)
{
    size_t i;
    for (i = 0; i < count; i++) {
        printf(" %02X", out[i]);
    }
}

static int exchange(void *user, unsigned device, const uint8_t *out, uint8_t *in, size_t count)
{
    (void)user;
    printf("gate select %u out", device + 1u);
    bytes(out, count);
    printf("\n");
    fflush(stdout);
    return answer(in, count);
}

static int transact(void *user, unsigned address, const uint8_t *out, size_t out_count, uint8_t *in, size_t in_count)
{
    size_t i;
    (void)user;
    printf("hull start");
    if (out_count > 0u || in_count == 0u) {
        printf(" %02X ack", address << 1);
        for (i = 0; i < out_count; i++) {
            printf(" %02X ack", out[i]);
        }
    }
    if (in_count > 0u) {
        if (out_count > 0u) {
            printf(" restart");
        }
        printf(" %02X ack", address << 1 | 1u);
        for (i = 0; i < in_count; i++) {
            printf(" .. %s", i + 1u < in_count ? "ack" : "nack");
        }
    }
    printf(" stop\n");
    fflush(stdout);
    return answer(in, in_count);
}

int main(void)
{
    struct device_bus bus = {NULL, exchange, transact};
    uint32_t v = 0;
    int failed;
    failed = leaf_angle_identify(&bus);
    printf("= identity %d\n", failed);
    failed |= leaf_angle_read_mode(&bus, &v);
    printf("= mode %X\n", (unsigned)v);
    failed |= leaf_angle_write_mode(&bus, v ^ 1u);
    failed |= leaf_angle_read_mode(&bus, &v);
    printf("= mode %X\n", (unsigned)v);
    failed |= leaf_tilt_identify(&bus);
    printf("= identity %d\n", failed);
    failed |= leaf_tilt_read_ctrl(&bus, &v);
    printf("= ctrl %X\n", (unsigned)v);
    failed |= leaf_tilt_write_ctrl(&bus, v ^ 8u);
    failed |= leaf_tilt_read_ctrl(&bus, &v);
    printf("= ctrl %X\n", (unsigned)v);
    return failed;
}
`

// The exported C reads the identity of simulated parts, writes a register and reads it back,
// over SPI and over I2C; each transaction that it asks for goes over the simulated wires.
func TestTheDevicesInC(t *testing.T) {
	b := load(t, demo.Bench)
	files, err := Files(b)
	require.NoError(t, err)
	program := compiled(t, files, devicesMain)
	world := sim.NewHeadless(b)
	world.World.RunTo(100 * quantity.Millisecond) // the parts have started
	cmd := exec.Command(program)                  //nolint:gosec // just built
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	var said []string
	lines := bufio.NewScanner(out)
	transactions := 0
	for lines.Scan() {
		line := lines.Text()
		if strings.HasPrefix(line, "=") {
			said = append(said, strings.TrimPrefix(line, "= "))
			continue
		}
		name, text, _ := strings.Cut(line, " ")
		o, err := world.Do(context.Background(), b.Link(name).Index, link.Transact{Text: text})
		require.NoError(t, err, line)
		require.True(t, o.OK, "%s: %s", line, o.Text)
		transactions++
		r := o.Record
		require.NotNil(t, r, line)
		back := r.Back // of an exchange; of the addressed bus the bytes behind the address to read
		if name == "hull" {
			back = nil
			if i := strings.Index(text, ".."); i >= 0 {
				back = r.Data[len(r.Data)-strings.Count(text, ".."):]
			}
		}
		fmt.Fprintln(in, hex.EncodeToString(back))
	}
	require.NoError(t, in.Close())
	require.NoError(t, cmd.Wait(), "%v", said)
	require.Len(t, said, 6)
	assert.Equal(t, "identity 0", said[0])
	assert.Equal(t, "identity 0", said[3])
	assert.NotEqual(t, said[1], said[2], "what was written is read back")
	assert.NotEqual(t, said[4], said[5])
	assert.Equal(t, 8, transactions)
}

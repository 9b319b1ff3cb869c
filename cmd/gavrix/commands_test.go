package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/vcd"
	"gavrix.org/gavrix/demo"
)

// run calls the program in this process and gives its output and status.
func run(t *testing.T, args ...string) (string, int) {
	t.Helper()
	r, w, err := os.Pipe()
	require.NoError(t, err)
	stdout, stderr := os.Stdout, os.Stderr
	os.Stdout, os.Stderr = w, w
	done := make(chan []byte)
	go func() {
		b, _ := io.ReadAll(r)
		done <- b
	}()
	root := newRoot(&logging{})
	root.SetArgs(args)
	err = root.Execute()
	sayDamage()
	os.Stdout, os.Stderr = stdout, stderr
	w.Close()
	out := string(<-done)
	var status exitStatus
	switch {
	case err == nil:
		return out, fine
	case errors.As(err, &status):
		return out, int(status)
	}
	return out + err.Error(), cannot
}

const wrong = "links.lower-gauge.mcu.frame=8N1"

func TestStatuses(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("bench: 5\nmcu: 3\n"), 0o600))
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"lint demo", fine, "Lock 7: 7 links, no problems found"},
		{"lint " + bad, cannot, "bad.yaml:2:6: error: mcu is a value"},
		{"lint nowhere.yaml", cannot, "can't be read"},
		{"prove demo", fine, "8 checks, 0 failed"},
		{"prove demo --set " + wrong, found, "first difference at byte 2: expected 34 '4', seen B4 '·'"},
		{"prove demo --link upper-gauge", fine, "1 check, 0 failed"},
		{"draw frame --frame 7E1 --rate 9600 --value FF", cannot, "FF has more than the 7 data bits of 7E1"},
		{"draw frame demo --link lower-gauge --value FF", cannot, "FF has more than the 7 data bits of 7E1"},
		{"calc frame uart --data 41FF --frame 7E1 --rate 9600", cannot, "FF has more than the 7 data bits"},
		{"calc frame spi --data 010203 --word 12 --rate 1M", cannot, "3 bytes are no whole number of words of 12 bits"},
		{"prove demo --set " + wrong, found, "1 error in the description"},
		{"lint demo --set " + wrong, found, "frames disagree"},
		{"prove demo --link uper-gauge", cannot, "did you mean upper-gauge?"},
		{"prove demo --set nonsense", cannot, "write PATH=VALUE"},
		{"watch demo --for 1s --fast --link lower-gauge", fine, "lower-gauge → MCU      33 2E 34 31 37 0A  3.417↵"},
		{"watch demo --for 1s --fast --tap", fine, "(tap)"},
		{"watch demo --fast", cannot, "--fast needs --for"},
		{"watch", cannot, "name a bench"},
		{"watch --port x", cannot, "needs --rate"},
		{"calc baud --clock 20MHz --rate 57600 --oversampling 16,8", fine, "×8   43              0x002B"},
		{"calc baud --clock 2MHz --rate 115200", found, "refused: the best is +8.51 % off"},
		{"calc baud --clock 2MHz --rate 9600 --oversampling 1", cannot, "×1 can't be used"},
		{"calc baud --clock 1.5MHz --register 5 --rate 14400", found, "meant for 1.152 MHz; with 1.5 MHz it gives 18 750.0 Bd, +30.21 %"},
		{"calc baud --clock 8 --rate 9600", cannot, "did you mean 8 MHz?"},
		{"calc uart-margin --mcu 1.4% --device -1%", fine, "+2.42 %   53 % of the limit used"},
		{"calc uart-margin --mcu 3% --device -2.5%", found, "stop is the first bit sampled after its end"},
		{"calc uart-margin --frame 8E1 --explain", fine, "+4.2 / -4.8 %"},
		{"calc uart-margin --oversampling 0", fine, "+5.3 / -5.3 %"},
		{"calc frame can --id 2A5 --data 3C81 --rate 250k", fine, "check sequence 1772"},
		{"calc frame i2c --data 961281 --rate 400k", fine, "72.500 µs"},
		{"calc frame uart --data 5A --frame 8E1 --rate 57600", fine, "190.97 µs"},
		{"calc frame spi --data 0102 --rate 1M", fine, "16 bits, 16.500 µs"},
		{"calc frame can --id 800 --rate 250k", cannot, "does not fit"},
		{"calc frame uart --data 1A --frame 5N1.5 --rate 1000", fine, "7.5 bits, 7.5"},
		{"calc frame can --id 1 --fd --data 000102030405060708 --rate 250k", fine, "padded with 3 bytes of 00 to a length of 12"},
		{"calc frame i2c --data 313233343536373839 --rate 100k", fine, "packet error code over these bytes: F4"},
		{"calc frame can --id 1", cannot, "--rate"},
		{"calc frame pulse --data 00", cannot, "--settings"},
		{"calc ends uart rate=9600 rate=9600", fine, "both ends agree"},
		{"calc ends uart rate=9600 rate=9800", fine, "differs, harmless: rate"},
		{"calc ends uart rate=9600 rate=19200", found, "too late"},
		{"calc ends spi mode=0 mode=1", found, "as D6 or D7 if not"},
		{"calc ends can rate=250k rate=500k", found, "stuff errors, and error flags"},
		{"calc ends i2c error-code=yes error-code=no", found, "one more byte"},
		{"calc ends smoke a=b a=b", cannot, "known are uart, spi, i2c, can, pulse"},
		{"calc ends uart rate=9600 rate", cannot, "no key=value"},
		{"calc ends uart rate=9600 frame=8N1", cannot, "rate"},
		{"draw frame --frame 7E1 --rate 28800 --other 8N1 --value 34", fine, "receiver stores B4, no error flag."},
		{"draw frame demo --link lower-gauge --value 34", fine, "MCU stores 34, as sent."},
		{"draw frame demo --value zz", cannot, "in hex"},
		{"draw frame demo --out x.png", cannot, ".svg or .pdf"},
		{"draw wave demo --only lower-gauge --from 250ms --to 256ms", fine, "MCU sent"},
		{"draw wave demo --only lower-gauge --from 250ms --to 256ms --set " + wrong, fine, "≠"},
		{"draw wave demo", cannot, "give --to"},
		{"draw wave demo --from 5ms --to 5ms", cannot, "is not after"},
		{"draw wave demo --to 5ms --only pump", fine, "pump, levels"},
		{"draw wave demo --to 20ms --only gate", fine, "select-leaf"},
		{"draw wave demo --to 5ms --only pumpe", cannot, "no such link"},
		{"draw wave demo --to 5ms --out x.png", cannot, ".svg or .pdf"},
		{"schema", fine, "json-schema.org"},
		{"decode nowhere.vcd", cannot, "can't be read"},
		{"open " + bad, cannot, "no pcapng file"},
	} {
		out, status := run(t, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, "%s\n%s", c.args, out)
		assert.Contains(t, out, c.says, c.args)
	}
}

func TestJSONOutputs(t *testing.T) {
	for _, args := range []string{
		"lint demo --json", "prove demo --json", "calc baud --clock 40MHz --rate 28800 --json --explain", "calc uart-margin --json --explain",
		"calc frame can --id 1 --rate 1M --json", "schema", "schema --device", "ports --json",
	} {
		out, _ := run(t, strings.Fields(args)...)
		assert.True(t, json.Valid([]byte(out)), "%s\n%s", args, out)
	}
	out, _ := run(t, "watch", "demo", "--for", "1s", "--fast", "--json")
	for line := range strings.Lines(out) {
		assert.True(t, json.Valid([]byte(line)), line)
	}
}

// TestTheSameCaptureEachTime: bench, seed and inputs give the same file, byte
// for byte.
func TestTheSameCaptureEachTime(t *testing.T) {
	dir := t.TempDir()
	var files [][]byte
	for _, name := range []string{"a.pcapng", "b.pcapng"} {
		path := filepath.Join(dir, name)
		out, status := run(t, "watch", "demo", "--for", "3s", "--fast", "--link", "lower-gauge", "--send", `TEMP\n`, "--save", path)
		require.Equal(t, fine, status, out)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, b)
	}
	assert.True(t, bytes.Equal(files[0], files[1]))
	assert.Greater(t, len(files[0]), 1000)
}

func TestNewBenchAndConversions(t *testing.T) {
	dir := t.TempDir()
	out, status := run(t, "new", filepath.Join(dir, "lock"))
	require.Equal(t, fine, status, out)
	out, status = run(t, "lint", filepath.Join(dir, "lock", "lock7.yaml"))
	assert.Equal(t, fine, status, out)
	_, status = run(t, "new", dir)
	assert.Equal(t, cannot, status, "an existing folder is left alone")

	csvFile, vcdFile := filepath.Join(dir, "a.csv"), filepath.Join(dir, "a.vcd")
	require.NoError(t, os.WriteFile(csvFile, []byte("time [us],rx\n0,1\n100,0\n204.1666,1\n"), 0o600))
	out, status = run(t, "convert", csvFile, vcdFile)
	require.Equal(t, fine, status, out)
	out, status = run(t, "decode", vcdFile)
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "rx")
	out, status = run(t, "open", vcdFile, "--link", "g uart device=ry rate=9600")
	assert.Equal(t, cannot, status)
	assert.Contains(t, out, "no line")
	_, status = run(t, "convert", csvFile, vcdFile)
	assert.Equal(t, cannot, status, "nothing is overwritten")
	out, status = run(t, "decode", vcdFile, "--link", "g uart device=rx rate=9600 frame=8N1", "--csv")
	assert.Equal(t, fine, status, out)
	assert.Contains(t, out, "start_ps,end_ps,link")
}

// TestLevelsThatCantBeWritten: a name that can't be is refused before anything runs, and leaves
// nothing behind.
func TestLevelsThatCantBeWritten(t *testing.T) {
	folder := t.TempDir()
	there := filepath.Join(folder, "there.vcd")
	require.NoError(t, os.WriteFile(there, []byte("kept"), 0o600))
	for _, c := range [][2]string{{filepath.Join(folder, "x.txt"), ".vcd and .csv"}, {filepath.Join(folder, "none", "x.vcd"), "can't be written"}, {there, "can't be written"}} {
		out, status := run(t, "watch", "demo", "--for", "1s", "--fast", "--levels", c[0])
		assert.Equal(t, cannot, status)
		assert.Contains(t, out, c[1])
		assert.NotContains(t, out, "opened", "nothing ran")
	}
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, files, 1)
	kept, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(kept))
}

// TestLevelsOut: the levels of the simulated bench, written to a file, decode
// with the bench's links to what was watched.
func TestLevelsOut(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock.vcd")
	watched, status := run(t, "watch", "demo", "--for", "3s", "--fast", "--json", "--levels", path)
	require.Equal(t, fine, status, watched)
	decoded, status := run(t, "decode", path, "--bench", "demo", "--json")
	require.Equal(t, fine, status, decoded)
	texts := func(out string) map[string]string {
		all := map[string]string{}
		for line := range strings.Lines(out) {
			if strings.HasPrefix(line, "left out: gate") {
				continue // its lines are not in the file: it is not simulated
			}
			var r struct{ Link, From, Kind, Data string }
			require.NoError(t, json.Unmarshal([]byte(line), &r))
			if r.Kind == "chars" {
				all[r.Link+" "+r.From] += r.Data
			}
		}
		return all
	}
	want, got := texts(watched), texts(decoded)
	require.Len(t, want, 3)
	for k, text := range want {
		link, from, _ := strings.Cut(k, " ")
		for other, data := range got {
			l, f, _ := strings.Cut(other, " ")
			if l == link && (f == "MCU") == (from == "MCU") {
				// The last run may be cut off.
				assert.True(t, strings.HasPrefix(text, data) || strings.HasPrefix(data, text), k)
				assert.GreaterOrEqual(t, len(data), 10)
			}
		}
	}
	require.Len(t, got, 3)
	svg := filepath.Join(filepath.Dir(path), "wave.svg")
	text, status := run(t, "draw", "wave", path, "--bench", "demo", "--from", "250ms", "--to", "256ms", "--out", svg)
	require.Equal(t, fine, status, text)
	raw, err := os.ReadFile(svg)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "lower-gauge")
	text, status = run(t, "draw", "wave", path)
	assert.Equal(t, cannot, status)
	assert.Contains(t, text, "say with --link or --bench")
	_, status = run(t, "watch", "demo", "--for", "1s", "--fast", "--levels", path)
	assert.Equal(t, cannot, status, "nothing is overwritten")
}

// TestSyncCharacter: from 55 at seven rates the divider is the one that the
// rate itself would get.
func TestSyncCharacter(t *testing.T) {
	for _, rate := range []float64{1200, 9600, 19200, 38400, 57600, 115200, 230400} {
		path := filepath.Join(t.TempDir(), "sync.vcd")
		out, err := os.Create(path)
		require.NoError(t, err)
		w, err := vcd.NewWriter(out, []string{"rx"})
		require.NoError(t, err)
		tog, end := uart.Encode(nil, uart.Frame{Data: 8, Stop: 1}, quantity.PeriodOf(quantity.FromBd(rate)), quantity.Millisecond, 0x55, 'o', 'k')
		require.NoError(t, w.Write([]wire.Window{{To: end + quantity.Millisecond, High: true, Toggles: tog}}))
		require.NoError(t, w.Close(end+quantity.Millisecond))
		require.NoError(t, out.Close())
		text, status := run(t, "calc", "sync", path, "--line", "rx", "--clock", "40MHz", "--rate", fmt.Sprintf("%.0f", rate), "--json")
		require.Equal(t, fine, status, text)
		var got struct {
			Rate     float64 `json:"rate_baud"`
			Error    float64 `json:"error_percent"`
			Settings []baudRow
		}
		require.NoError(t, json.Unmarshal([]byte(text), &got))
		assert.InEpsilon(t, rate, got.Rate, 1e-4)
		assert.Less(t, math.Abs(got.Error), 0.01)
		want, err := clock.Divider{Oversampling: []int{16}, Least: 1, Most: 65536}.Solve(40*quantity.Megahertz, quantity.FromBd(rate))
		require.NoError(t, err)
		assert.Equal(t, want[0].N, got.Settings[0].Divider, rate)
	}
	path := filepath.Join(t.TempDir(), "flat.csv")
	require.NoError(t, os.WriteFile(path, []byte("time [us],rx\n0,1\n100,1\n"), 0o600))
	text, status := run(t, "calc", "sync", path, "--line", "rx")
	assert.Equal(t, cannot, status)
	assert.Contains(t, text, "the line is silent")
}

func TestPulsePatterns(t *testing.T) {
	args := []string{"calc", "pulse", "--zero-pattern", "100", "--one-pattern", "110", "--clock", "2.5MHz", "--data", "A0", "--settings", `zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us`}
	out, status := run(t, args...)
	assert.Equal(t, fine, status, out)
	assert.Contains(t, out, "D3 49 24")
	assert.Contains(t, out, "a bit takes 1.2 µs")
	out, status = run(t, "calc", "frame", "pulse", "--data", "A0", "--settings", args[len(args)-1])
	assert.Equal(t, fine, status, out)
	assert.Contains(t, out, "8 bits")
	out, status = run(t, append(args, "--pause", "60us")...)
	assert.Equal(t, found, status)
	assert.Contains(t, out, "latches")
	out, status = run(t, append(args, "--one-pattern", "101")...)
	assert.Equal(t, cannot, status)
	assert.Contains(t, out, "end with 0")
}

// TestGuess: the demo's capture, whose lines have no names, is recognised and
// decoded without a word about it.
func TestGuess(t *testing.T) {
	out, status := run(t, "decode", "demo", "--guess")
	require.Equal(t, fine, status, out)
	for _, want := range []string{"--link 'spi spi clock=in1 out=in6 in=in3 select=in8 mode=1'", "clock=in9 data=in0", "rate=250kbit/s", "frame=7E1", "in5 is not recognised: idle low",
		"start 3A ack 07 ack 01 ack stop", "L=4.8", "2A0  8 bytes"} {
		assert.Contains(t, out, want)
	}
	out, status = run(t, "decode", "demo", "--guess", "--json", "--link", "gauge uart device=in4 rate=28.8k frame=7E1")
	require.Equal(t, fine, status)
	first, proposals := 0, 0
	for line := range strings.Lines(out) {
		var p struct {
			Proposal string
			First    bool
		}
		require.NoError(t, json.Unmarshal([]byte(line), &p), line)
		if p.Proposal != "" {
			proposals++
			assert.NotContains(t, p.Proposal, "in4")
		}
		if p.First {
			first++
		}
	}
	assert.Equal(t, 4, first, "the line that has a link is left alone")
	// A file that breaks off is recognised and decoded up to there.
	dir := t.TempDir()
	half := append(append([]byte(nil), demo.Capture[:len(demo.Capture)/2]...), "\nxx\n"...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "half.vcd"), half, 0o600))
	out, status = run(t, "decode", filepath.Join(dir, "half.vcd"), "--guess")
	assert.Equal(t, cannot, status)
	for _, want := range []string{"what comes before it is looked at", "clock=in1 out=in6", "out 83 00 00 00", "what comes before it was decoded"} {
		assert.Contains(t, out, want)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "none.vcd"), []byte("$timescale 1 ns $end\n$enddefinitions $end\n#0\n"), 0o600))
	out, status = run(t, "decode", filepath.Join(dir, "none.vcd"), "--guess")
	assert.Equal(t, cannot, status)
	assert.Contains(t, out, "there are no lines in the file")
	assert.Greater(t, proposals, first)
}

// TestPlans: what should be on a link is compared bit by bit, and drawn alone.
func TestPlans(t *testing.T) {
	link := "tilt i2c clock=in9 data=in0"
	out, status := run(t, "decode", "demo", "--link", link, "--plan", "tilt: start 3A ack 07 ack 01 ack stop", "--plan", "tilt: start 3A ack 08 ack restart 3B ack .. ack .. ack .. nack stop")
	require.Equal(t, fine, status, out)
	assert.Equal(t, "tilt: 9 as planned, 0 not\ntilt: 9 as planned, 0 not\n", out)
	out, status = run(t, "decode", "demo", "--link", link, "--plan", "tilt: start 3A ack 07 ack 03 ack stop")
	require.Equal(t, found, status)
	assert.Contains(t, out, "data: bit 25, b1 of 03, is 0 instead of 1")
	assert.Contains(t, out, "0 as planned, 9 not")
	out, status = run(t, "decode", "demo", "--link", link, "--plan", "tilt: start 3A ack 07 ack 03 ack stop", "--json")
	require.Equal(t, found, status)
	var d struct {
		Bit  int
		Line string
	}
	require.NoError(t, json.Unmarshal([]byte(strings.SplitN(out, "\n", 2)[0]), &d))
	assert.Equal(t, 25, d.Bit)
	assert.Equal(t, "data", d.Line)
	out, status = run(t, "decode", "demo", "--link", link, "--plan", "tilt: start 3A ack stop", "--csv")
	assert.Equal(t, cannot, status)
	assert.Contains(t, out, "no form for differences")
	for args, want := range map[string]string{
		"pump: 2A0":  "no link",
		"tilt start": "a colon",
		"tilt: ack":  "before any byte",
	} {
		out, status = run(t, "decode", "demo", "--link", link, "--plan", args)
		assert.Equal(t, cannot, status)
		assert.Contains(t, out, want)
	}
	for _, ext := range []string{".svg", ".pdf"} {
		path := filepath.Join(t.TempDir(), "p"+ext)
		out, status = run(t, "draw", "plan", "can", "2A0 10 00", "--settings", "rate=250k", "--out", path)
		require.Equal(t, fine, status, out)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Greater(t, info.Size(), int64(1000))
	}
	out, status = run(t, "draw", "plan", "uart", `mcu "S"`, "--settings", "rate=28.8k frame=7E1", "--columns", "160")
	require.Equal(t, fine, status)
	assert.Contains(t, out, "parity")
	assert.Contains(t, out, "53")
	out, status = run(t, "draw", "plan", "uart", "mcu S", "--settings", "rate=28.8k")
	assert.Equal(t, cannot, status)
	assert.Contains(t, out, "texts stand in quotes")
}

func TestReading(t *testing.T) {
	out, status := run(t, "calc", "reading", "CC BD B4 2E B8 B2 A0 ED 8D 0A C5 50 D2 4B 53")
	require.Equal(t, fine, status, out)
	assert.True(t, strings.HasPrefix(out, "1. 7E1"), out)
	for args, want := range map[string]string{"1 2": "too few", "123 1 1 1": "8 bits", "31? 32 33 34": "marks no parity"} {
		out, status = run(t, "calc", "reading", args)
		assert.Equal(t, cannot, status)
		assert.Contains(t, out, want)
	}
	out, status = run(t, "calc", "reading", "--frame", "7E1", "--json", "31? 32? 33 34 35 36? 37 38?")
	require.Equal(t, fine, status)
	assert.Contains(t, out, `"frames"`)
}

// TestWorkedCalculations: what practitioners work out by hand, as the commands
// print it.
func TestWorkedCalculations(t *testing.T) {
	for _, c := range []struct {
		args   string
		status int
		want   []string
	}{
		{"baud --clock 20MHz --rate 57600 --oversampling 16,8", fine, []string{"×8   43", "+0.94 %", "×16  22", "-1.36 %"}},
		{"baud --clock 20MHz --rate 57600 --fraction-bits 5", fine, []string{"21 + 22/32", "57 636.9", "+0.06 %", "of a bit off"}},
		{"baud --clock 14.7456MHz --rate 9600 --reload-width 8 --before 12 --factors 32", fine, []string{"0xFC", "+0.00 %"}},
		{"baud --clock 3.9MHz --plus-minus 0.01MHz --rate 14400 --factors 1,8,32", fine, []string{"* ×8   34", "-0.43 %", "± 0.26 %", "×1 can't be used", "not within 2.5 %; exact with 3.6864"}},
		{"baud --clock 2MHz --rate 115200", found, []string{"refused: the best is +8.51 %", "nearest workable rates"}},
		{"baud --clock 1.5MHz --register 5 --rate 14400", found, []string{"meant for 1.152 MHz", "18 750.0 Bd, +30.21 %"}},
		{"baud --clock 22MHz --register 23,28 --fraction-bits 5 --rate 57600 --explain", fine, []string{"57 591.6", "23 + 28/32", "fractional divider"}},
		{"baud --clock 16MHz --reaches", fine, []string{"9.6 kBd", "500 kBd"}},
		{"baud --clock 16MHz", cannot, []string{"give --rate"}},
		{"baud --clock 16MHz --rate 9600 --fraction-bits 4 --reload-width 8", cannot, []string{"two kinds"}},
		{"baud --clock 16MHz --rate 9600 --formula clock/(16*(n+1)) --range n=0..255", fine, []string{"n = 103", "0x67", "+0.16 %"}},
		{"baud --clock 16MHz --rate 9600 --formula clock/(16*(n+1)) --range n", cannot, []string{"n=0..255"}},
		{"infer --clock 20MHz --rate 57600 --register 22 --bit 22us", fine, []string{"1. the clock at the unit is 16 MHz, not 20 MHz"}},
		{"infer --clock 20MHz --rate 57600 --measured 1775.6", fine, []string{"divides by 32"}},
		{"infer --clock 20MHz --rate 57600", cannot, []string{"give --bit"}},
		{"can-timing --clock 24MHz --rate 250k --sample 87.5% --jump 1 --error 0.5% --error 0.01%", found, []string{"6     1+13+2", "0.312 %", "0.485 %", "0.5% does not conform", "0.510 % of 0.625 %, decodes"}},
		{"can-timing --clock 24MHz --rate 250k --sample 81.25% --explain", fine, []string{"1+12+3", "docs/formulas.md, CAN bit timing"}},
		{"can-timing --clock 40MHz --rate 500k --data-rate 2M --loop 400ns", fine, []string{"change to the data rate", "compensation needed"}},
		{"can-timing --clock 24MHz --rate 250k --jump 9", cannot, []string{"no more than the shorter phase segment"}},
		{"frame uart --length 48 --rate 57.6k --every 10ms", fine, []string{"83.3 % of the link", "5760 bytes a second"}},
		{"frame uart --length 64 --rate 19.2k --within 25ms", found, []string{"33.333 ms", "too short", "wait at least 33.85 ms"}},
		{"frame uart --length 64 --rate 19.2k --within 40ms --every 30ms", found, []string{"leaves the other end 6.146 ms", "more than there is"}},
		{"frame can --id 2A5 --data 3C81 --rate 250k --every 1ms", fine, []string{"26 % of the link", "3846.2 such"}},
		{"frame i2c --length 3 --rate 400k", fine, []string{"72.500 µs"}},
		{"frame can --length 3 --rate 250k", cannot, []string{"--length"}},
		{"frame uart --length 3 --data 00 --rate 9600", cannot, []string{"--data"}},
		{"spi-clock --clock 48MHz --powers 64 --part a:5MHz", cannot, []string{"write a name"}},
		{"can-filters --ids 2A1,2A6,3C0 --elements 2", fine, []string{"id 2A0  mask 7F8", "6 unwanted pass: 2A0 2A2 2A3 2A4 2A5 2A7"}},
		{"can-filters --ids 2A1,xyz", cannot, []string{"is no identifier"}},
		{"i2c --rate 400k --supply 3.3V --load 200pF --pull-up 3.9k", found, []string{"967 to 1770", "too slow", "72.5 µs"}},
		{"i2c --rate 400k --supply 3.3V --load 100pF --pull-up 2.2k --clock 16MHz", fine, []string{"* low 21, high 10", "-1.92 %"}},
		{"i2c --rate 400k --load 5kg", cannot, []string{"200 pF"}},
		{"counter --clock 2.6MHz --width 10 --up --toggles --frequency 1.9kHz", fine, []string{"684 counts, reload 0x154", "1.90058 kHz, +0.03 %"}},
		{"counter --clock 1MHz --frequency 50Hz --duty 7.5% --width 16 --json", fine, []string{`"compare": 1500`}},
	} {
		out, status := run(t, append([]string{"calc"}, strings.Fields(c.args)...)...)
		assert.Equal(t, c.status, status, "%s\n%s", c.args, out)
		for _, w := range c.want {
			assert.Contains(t, out, w, c.args)
		}
	}
	out, status := run(t, "calc", "i2c", "--rate", "400k", "--device", "slow 100k")
	assert.Equal(t, found, status)
	assert.Contains(t, out, "slow stands 100 kbit/s")
	out, status = run(t, "calc", "spi-clock", "--clock", "48MHz", "--powers", "64", "--part", "encoder 5MHz", "--part", "valves 10MHz")
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "✗ ÷8      6.000 MHz  6 MHz is above the 5 MHz of encoder")
	assert.Contains(t, out, "* ÷16     3.000 MHz")
	assert.Contains(t, out, "one divider for all: ÷16, 3.000 MHz, 8 bits in 2.667 µs")
	_, status = run(t, "calc", "spi-clock", "--clock", "48MHz", "--part", "x")
	assert.Equal(t, cannot, status)
	args := []string{"calc", "can-load", "--rate", "250k"}
	for i := range 12 {
		args = append(args, "--message", fmt.Sprintf("m%d %03X 8 10ms", i, 0x100+i))
	}
	out, status = run(t, args...)
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "load 53.3 % without stuff bits, at most 64.8 %")
	_, status = run(t, "calc", "can-load", "--rate", "250k", "--message", "m 100 9 10ms")
	assert.Equal(t, cannot, status)
	for _, a := range []string{"can-timing --clock 24MHz --rate 250k --json", "can-filters --ids 1 --json", "i2c --rate 100k --json", "baud --clock 8MHz --rate 9600 --json", "infer --clock 20MHz --rate 57600 --bit 22us --json"} {
		out, status := run(t, append([]string{"calc"}, strings.Fields(a)...)...)
		assert.Equal(t, fine, status, out)
		assert.True(t, json.Valid([]byte(out)), a)
	}
}

// TestRegisters: values for the firmware, values taken apart and compared, dumps.
func TestRegisters(t *testing.T) {
	out, status := run(t, "export", "registers", "demo")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "0x5A001A00  S1RATE     0x0056   # DIV 86 (rate, derived)")
	other, status := run(t, "export", "registers", "demo", "--set", "links.upper-gauge.mcu.frame=7E1")
	require.Equal(t, fine, status)
	a, b := strings.Split(out, "\n"), strings.Split(other, "\n")
	require.Len(t, b, len(a))
	for i := range a {
		if strings.Contains(a[i], "S1CTL") || strings.HasPrefix(a[i], "# upper-gauge") {
			assert.NotEqual(t, a[i], b[i])
		} else {
			assert.Equal(t, a[i], b[i], "only the lines of what was changed change")
		}
	}
	out, status = run(t, "export", "registers", "demo", "--json")
	require.Equal(t, fine, status)
	var words []struct{ Register, Value string }
	require.NoError(t, json.Unmarshal([]byte(out), &words))
	require.Len(t, words, 21, "registers of clocks, interrupt lines and ports are shared")
	out, status = run(t, "export", "registers", "demo", "--steps")
	require.Equal(t, fine, status)
	assert.Contains(t, out, "0x5A00001C  0x00000008  0x00000008  # clock of the unit: CLKON SERIAL1 on")
	assert.Contains(t, out, "# 0x5A001A0C  0x0001      0x0001      # old words and flags cleared: S1FLAG WAITING cleared   as after reset")
	assert.Less(t, strings.Index(out, "rate: S1RATE"), strings.Index(out, "unit on: S1CTL"))
	_, status = run(t, "export", "registers", "demo:weir")
	assert.Equal(t, cannot, status)

	out, status = run(t, "calc", "register", "--bench", "demo", "--name", "S1CTL", "--set", "LENGTH=8", "--set", "PARITY=even", "--set", "ENABLE=on")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "S1CTL = 0x4021")
	out, status = run(t, "calc", "register", "--bench", "demo", "--name", "S1CTL", "--value", "0x2013")
	require.Equal(t, found, status)
	assert.Contains(t, out, "reserved bits 13")
	out, _ = run(t, "calc", "register", "--bench", "demo", "--name", "S1CTL", "--value", "0x0121", "--against", "0x0101")
	assert.Contains(t, out, "even instead of none")
	assert.NotContains(t, out, "LENGTH")
	dump := filepath.Join(t.TempDir(), "dump.txt")
	require.NoError(t, os.WriteFile(dump, []byte("5A001A04 4B41\nS1RATE 002A\n50000000 1\n"), 0o600))
	out, status = run(t, "calc", "register", "--bench", "demo", "--dump", dump)
	require.Equal(t, found, status)
	for _, want := range []string{"S1CTL      0x4B41  as planned", "S1RATE     0x002A  differs", "42 instead of 86", "unknown", "S2CTL      not seen"} {
		assert.Contains(t, out, want)
	}
	out, status = run(t, "calc", "register", "--bench", "demo", "--dump", dump, "--json")
	require.Equal(t, found, status)
	assert.Contains(t, out, `"verdict": "not seen"`)
	for _, args := range [][]string{{"--name", "X"}, {"--bench", "demo", "--file", "x.csv", "--name", "X"}, {"--bench", "demo", "--name", "X"}, {"--file", "nowhere.csv", "--name", "X"}, {"--bench", "demo", "--name", "S1CTL", "--value", "zz"}, {"--bench", "demo", "--name", "S1CTL", "--set", "LENGTH"}, {"--bench", "demo", "--name", "S1CTL", "--set", "LENGTH=12"}} {
		_, status := run(t, append([]string{"calc", "register"}, args...)...)
		assert.Equal(t, cannot, status, args)
	}
	out, status = run(t, "prove", "demo:culvert")
	assert.Equal(t, fine, status, out)
}

func TestPicturesOfABench(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"timing", "demo", "gate", "--device", "valve-bank"}, "valve-bank at ÷32"},
		{[]string{"timing", "demo", "hull"}, "one period of the clock"},
		{[]string{"timing", "demo", "pump"}, "a nominal bit, 4.000 µs"},
		{[]string{"timing", "demo", "winch", "--data"}, "a bit of the data phase, 500.0 ns"},
		{[]string{"timing", "demo", "lower-gauge"}, "lower-gauge sends '4' (34) to MCU"},
		{[]string{"startup", "demo", "pump"}, "startup of can1, set up: yes, enabled: yes, started: yes"},
		{[]string{"registers", "demo"}, "PRESCALER"},
	} {
		out, status := run(t, append([]string{"draw"}, c.args...)...)
		require.Equal(t, fine, status, c.args)
		assert.Contains(t, out, c.want)
		for _, ext := range []string{".svg", ".pdf"} {
			name := filepath.Join(dir, "x"+ext)
			_, status := run(t, append(append([]string{"draw"}, c.args...), "--out", name)...)
			require.Equal(t, fine, status, c.args)
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.Greater(t, len(data), 1000)
		}
	}
	for _, args := range [][]string{{"timing", "demo", "pump", "--data"}, {"timing", "demo", "gate", "--device", "x"}, {"timing", "demo", "pumps"}, {"registers", "demo:weir"}, {"startup", "demo", "none"}} {
		_, status := run(t, append([]string{"draw"}, args...)...)
		assert.Equal(t, cannot, status, args)
	}
}

func TestBusesAreWatched(t *testing.T) {
	out, status := run(t, "watch", "demo", "--for", "200ms", "--fast", "--link", "pump", "--link", "hull")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "1A5  8 bytes  01 5A 9D 04 84 03 4D 00")
	assert.Contains(t, out, "start 96 ack 12 ack restart 97 ack 03 ack 1")
	assert.NotContains(t, out, "gauge")
	dir := t.TempDir()
	file := filepath.Join(dir, "x.pcapng")
	out, status = run(t, "watch", "demo", "--for", "200ms", "--fast", "--save", file, "--json")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, `"bus":"can"`)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	store, err := pcapng.Read(f)
	require.NoError(t, err)
	kinds := map[record.Kind]int{}
	snap := store.Snapshot()
	for i := range snap.Len() {
		kinds[snap.At(i).Kind]++
	}
	assert.Positive(t, kinds[record.Frame])
	assert.Positive(t, kinds[record.Transaction])
	levels := filepath.Join(dir, "x.vcd")
	_, status = run(t, "watch", "demo", "--for", "100ms", "--fast", "--levels", levels)
	require.Equal(t, fine, status)
	out, status = run(t, "decode", levels, "--link", "pump can line=pump.line rate=250k sample=87.5%", "--link", "hull i2c clock=hull.clock data=hull.data")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "01 5A 9D 04 84 03 4D 00")
	assert.Contains(t, out, "start 43 ack F0 ack 0F nack stop")
	out, status = run(t, "watch", "demo", "--for", "20ms", "--fast", "--link", "gate")
	require.Equal(t, fine, status)
	assert.Contains(t, out, "out 11 00 00 00 00  in 80 -- ")
}

// TestRecordedCapturesAreDecoded: the records of a recorded capture come out in all
// forms, bounded by time; what is for levels only is refused.
func TestRecordedCapturesAreDecoded(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.pcapng")
	live, status := run(t, "watch", "demo", "--for", "200ms", "--fast", "--save", file, "--json")
	require.Equal(t, fine, status, live)
	lines := func(args ...string) []string {
		out, status := run(t, append([]string{"decode", file}, args...)...)
		require.Equal(t, fine, status, out)
		return strings.Split(strings.TrimSpace(out), "\n")
	}
	shown := lines("--json")
	want := strings.Split(strings.TrimSpace(live), "\n")
	for _, l := range want {
		require.Contains(t, shown, l)
	}
	csv := lines("--csv")
	require.Equal(t, "start_ps,end_ps,link,bus,data,errors,text", csv[0])
	require.Len(t, csv, 1+len(lines("--json")))
	some := lines("--from", "50ms", "--to", "60ms")
	require.Less(t, len(some), len(csv)/3)
	require.NotEmpty(t, some)
	for flag, value := range map[string]string{"--link": "x uart mcu=a rate=1k", "--bench": "demo", "--plan": "x: y", "--sample-rate": "1M"} {
		out, status := run(t, "decode", file, flag, value)
		require.Equal(t, cannot, status)
		require.Contains(t, out, flag)
	}
	out, status := run(t, "open", file, "--bench", "demo:weir")
	require.Equal(t, cannot, status)
	require.Contains(t, out, "is not the bench of")
	out, status = run(t, "open", file, "--link", "x uart mcu=a rate=1k")
	require.Equal(t, cannot, status)
	require.Contains(t, out, "holds records")
}

func TestStartupCommand(t *testing.T) {
	out, status := run(t, "calc", "startup", "demo")
	require.Equal(t, fine, status, out)
	assert.Equal(t, 6, strings.Count(out, "set up: yes, enabled: yes, started: yes"))
	out, status = run(t, "calc", "startup", "demo", "upper-gauge", "--without", "enable")
	require.Equal(t, found, status)
	assert.Contains(t, out, "✗ enable")
	out, status = run(t, "calc", "startup", "demo", "gate", "--steps", "clock, rate, enable", "--json")
	require.Equal(t, found, status)
	assert.True(t, json.Valid([]byte(out)))
	dump := filepath.Join(t.TempDir(), "dump.txt")
	out, status = run(t, "calc", "startup", "demo", "--simulated")
	require.Equal(t, fine, status)
	require.NoError(t, os.WriteFile(dump, []byte(out), 0o600))
	out, status = run(t, "calc", "startup", "demo", "--dump", dump)
	require.Equal(t, fine, status, out)
	assert.NotContains(t, out, "missing")
	for _, args := range [][]string{{"demo", "--without", "enable"}, {"demo", "gate", "--without", "x"}, {"demo", "gate", "--steps", "x"}, {"demo:weir"}, {"demo", "--dump", "nowhere"}, {"demo", "--dump", dump, "--simulated"}, {"demo", "none"}} {
		_, status := run(t, append([]string{"calc", "startup"}, args...)...)
		assert.Equal(t, cannot, status, args)
	}
}

func TestSourcesCommand(t *testing.T) {
	out, status := run(t, "sources", "demo", "divider")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "Marlow 40 manual p. 112")
	assert.Contains(t, out, "2 default, 0 chosen, 4 copied, 4 derived, 0 measured; 0 without a source")
	_, status = run(t, "sources", "demo", "--origin", "guessed")
	assert.Equal(t, cannot, status)
	out, status = run(t, "sources", "demo", "--missing", "--json")
	require.Equal(t, fine, status)
	assert.Contains(t, out, `"path": "links.lower-gauge.mcu.rate"`)
	assert.NotContains(t, out, "p. 112")
}

// TestReplayCommand: what watch recorded while things were asked of each kind of link
// replays as it was; a changed file does not.
func TestReplayCommand(t *testing.T) {
	dir := t.TempDir()
	file, again := filepath.Join(dir, "a.pcapng"), filepath.Join(dir, "b.pcapng")
	args := []string{"watch", "demo", "--fast", "--for", "300ms", "--save", file}
	for _, ask := range []string{
		"lower-gauge send 534E41500A", "pump transact 2A0 10 00", "pump power off pump-drive", "hull transact start 3A ack 07 ack stop",
		"hull hold on data", "hull hold off data", "depth-strip transact 3C0 3C1", "upper-gauge cut on upper-gauge",
	} {
		args = append(args, "--do", ask)
	}
	out, status := run(t, args...)
	require.Equal(t, fine, status, out)
	out, status = run(t, "replay", file, "--out", again)
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "8 inputs: the replay is the same")
	out, status = run(t, "replay", again)
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "8 inputs: the replay is the same")

	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bytes.Replace(text, []byte("534e41500a"), []byte("534e4f500a"), 1), 0o600))
	out, status = run(t, "replay", file)
	assert.Equal(t, found, status)
	assert.Contains(t, out, "then they part")
	assert.Contains(t, out, "replay ")
	_, status = run(t, "replay", filepath.Join(dir, "absent.pcapng"))
	assert.Equal(t, cannot, status)
	_, status = run(t, "replay", again, "--out", file)
	assert.Equal(t, cannot, status, "nothing is overwritten")
	for _, bad := range []string{"nowhere cut on mcu", "pump", "pump explode", "gate transact 6BB", "hull hold on clock data", "pump send 3C0A", "depth-strip transact 12345"} {
		_, status = run(t, "watch", "demo", "--fast", "--for", "30ms", "--do", bad)
		assert.Equal(t, cannot, status, bad)
	}
}

// TestMemoryIsABudget: with little memory the oldest levels go, and it is said from when on there
// are some.
func TestMemoryIsABudget(t *testing.T) {
	t.Chdir(t.TempDir())
	out, status := run(t, "watch", "demo", "--for", "8s", "--fast", "--memory", "1", "--link", "lower-gauge", "--levels", "a.vcd")
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "a.vcd begins at 7.")
	out, status = run(t, "watch", "demo", "--for", "8s", "--fast", "--link", "lower-gauge", "--levels", "b.vcd")
	assert.Equal(t, fine, status)
	assert.NotContains(t, out, "begins at")
}

// TestWhatIsStatedCounts: half the samples are offered where they make a rate that is refused; the
// least divider, the gap between words and the time of falling count.
func TestWhatIsStatedCounts(t *testing.T) {
	out, status := run(t, "calc", "baud", "--clock", "1.8432MHz", "--rate", "230400")
	assert.Equal(t, found, status)
	assert.Contains(t, out, "with ×8, where the unit can: divider 1, 0x0001 to write, +0.00 % off")
	out, _ = run(t, "calc", "baud", "--clock", "1.8432MHz", "--rate", "230400", "--oversampling", "16")
	assert.NotContains(t, out, "×8")
	out, status = run(t, "calc", "baud", "--clock", "1.8432MHz", "--rate", "115200", "--least", "2", "--oversampling", "16")
	assert.Equal(t, found, status)
	assert.Contains(t, out, "57 600.0")
	out, status = run(t, "calc", "frame", "spi", "--rate", "4M", "--length", "8", "--gap", "500ns")
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "19.625 µs") // 64 bits with half a period before and behind, and seven gaps
	out, status = run(t, "calc", "i2c", "--rate", "400k", "--clock", "16MHz", "--fall", "400ns")
	assert.Equal(t, found, status)
	assert.Contains(t, out, "the lines fall in 400 ns, fast allows 300 ns")
	receives := []string{"calc", "transfer", "end", "--rate", "9600", "--bytes", "0:34310A 20ms:34 45ms:3435", "--end-mark", "0A", "--idle", "5ms"}
	_, status = run(t, receives...)
	assert.Equal(t, fine, status)
	out, status = run(t, append(receives, "--receives", "1")...)
	assert.Equal(t, found, status)
	assert.Contains(t, out, "still in the unit after the last receive: [3]")
	assert.Contains(t, out, "lost after the last receive: [4 5]")
}

// TestSendSaysWhatCame: the answers are printed, and what a link could not take in time is not said
// to have been on time.
func TestSendSaysWhatCame(t *testing.T) {
	out, status := run(t, "send", "demo", "lower-gauge", `SNAP\n`, "--every", "50ms", "--times", "3", "--silence")
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "each on time")
	assert.Equal(t, 3, strings.Count(out, "lower-gauge → MCU  3.417↵"), out)
	out, _ = run(t, "send", "demo", "lower-gauge", `SNAP\n`, "--every", "1ms", "--times", "100", "--silence")
	assert.NotContains(t, out, "each on time")
	assert.Regexp(t, `more than the link takes: when the last was given to it, \d+ of 500 characters had not gone out yet`, out)
	out, _ = run(t, "send", "demo", "lower-gauge", `SNAP\n`, "--json", "--silence")
	assert.Contains(t, out, `"hex": "332E3431370A"`)
}

package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// call is a command with its arguments.
type call struct {
	command *cobra.Command
	args    []string // the command's path first
}

func (c *call) String() string { return strings.Join(c.args, " ") }

// words takes a line of a shell apart.
func words(line string) []string {
	var out []string
	for _, m := range regexp.MustCompile(`'[^']*'|(?:[^\s']|'[^']*')+`).FindAllString(line, -1) {
		out = append(out, strings.ReplaceAll(m, "'", ""))
	}
	return out
}

// examples are the calls of the help that end by themselves and need nothing but what
// ships with the program: files of levels become the demo's.
func examples(root *cobra.Command) []call {
	var out []call
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for line := range strings.SplitSeq(regexp.MustCompile(`\\\n *`).ReplaceAllString(c.Example, ""), "\n") {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "    ") // a remark
			line, _, _ = strings.Cut(line, " && ")
			w := words(line)
			if len(w) == 0 || w[0] != "gavrix" || slices.ContainsFunc(w, func(s string) bool {
				return strings.Contains(s, ".vcd") || strings.Contains(s, ".csv") || strings.Contains(s, ".pcapng") || strings.HasPrefix(s, "lock.") || s == "plans.yaml" || s == ">" || s == "--dump" || s == "--port" || s == "--levels"
			}) || slices.Contains([]string{"demo", "open", "new", "ports", "replay"}, c.Name()) || c == root || c.Name() == "watch" && !slices.Contains(w, "--fast") {
				continue
			}
			if i := slices.Index(w, "10s"); i > 0 {
				w[i] = "1s" // as telling, and sooner
			}
			out = append(out, call{c, w[1:]})
		}
		for _, b := range c.Commands() {
			walk(b)
		}
	}
	walk(root)
	return out
}

// hostile are what flags are tried with, by name; other ones by their type.
var hostile = map[string][]string{
	"rate": {"57.6k"}, "other-rate": {"19200"}, "data-rate": {"1M"}, "clock": {"12MHz"}, "plus-minus": {"0.02MHz"}, "measured": {"45.5k"}, "bit": {"17us"}, "uncertain": {"3 %"},
	"formula": {"clock / (16 * (n + 1))"}, "range": {"n=0..255"}, "settings": {"order=lsb"}, "frame": {"7O2"}, "mcu": {"1 %"}, "device": {"2 %"}, "id": {"3A1"}, "data": {"A5"},
	"sample": {"75%"}, "data-sample": {"80%"}, "error": {"0.3 %"}, "loop": {"255 ns"}, "node-delay": {"300 ns"}, "per-metre": {"6 ns"}, "ids": {"123"}, "message": {"other 3A0 4 20ms"},
	"load": {"300pF"}, "pull-up": {"1k"}, "supply": {"5V"}, "part": {"other 1MHz"}, "set-up": {"30 ns"}, "duty": {"25%"}, "frequency": {"3kHz"}, "one-pattern": {"1110"}, "zero-pattern": {"1000"}, "pause": {"70us"},
	"from": {"mcu"}, "to": {"1 ms"}, "out": {"x.svg"}, "columns": {"60"}, "link": {"hull"}, "only": {"hull"}, "value": {"0x31"}, "against": {"0x5"}, "old": {"0xFFFFFFFF"}, "name": {"S1CTL"}, "bench": {"demo:weir"}, "file": {"x.csv"},
	"origin": {"derived"}, "set": {"links.lower-gauge.mcu.rate=19200", "links.upper-gauge.mcu.rate=19200", "links.upper-gauge.unit=serial9"}, "do": {"pump transact 2A0 10 00"}, "send": {`TEMP\n`}, "save": {"x.pcapng"}, "levels": {"x.vcd"}, "for": {"35ms"}, "dtr": {"on"}, "rts": {"on"}, "flow": {"rts-cts"},
	"port": {"/dev/null"}, "sample-rate": {"1MHz"}, "plan": {"tilt: start 3A ack stop"}, "line": {"x"}, "byte": {"AA"}, "without": {"enable"}, "steps": {"clock"},
	"core": {"24MHz"}, "cycles": {"entry=30,read=20,exit=300,handler=500,look=100,call=50"}, "every": {"90us"}, "blocked": {"130us", "50us-900us"}, "method": {"each-word"}, "bus": {"i2c"}, "late": {"3ms"}, "period": {"900us"}, "work": {"150us"}, "sizes": {"power-of-two"},
	"busy": {"900us"}, "done": {"5ms"}, "engine": {"20MHz"}, "rates": {"9600"}, "bursts": {"0*7 5ms*60"}, "on-full": {"keep-newest", "replace-last"}, "phase": {"33us"}, "positions": {"5 9"}, "events": {"full"}, "consumer": {"wrap-compare"}, "rule": {"pos - last"}, "latency": {"90us"},
	"bytes": {"0:31", "3"}, "end-mark": {"34"}, "idle": {"400us"}, "timeout": {"3ms"}, "armed": {"1ms"}, "rearm": {"30ms"}, "send-armed": {"3us"}, "receive-armed": {"9us"}, "send-latency": {"4us"}, "receive-latency": {"5us"}, "hold": {"2us"},
	"filter": {"pump errors"}, "until": {"pump"}, "trigger": {"identifier 1A5"}, "after": {"30ms"}, "times": {"3"}, "when": {"pump"}, "values": {"all"}, "table": {"x.csv"}, "memory": {"0"}, "gap": {"500ns"}, "fall": {"20ns"}, "least": {"60", "2000"},
	"ends": {"1us"}, "edges": {"1s"}, "bounce": {"700us"}, "reads": {"3.5ms"}, "own": {"x 111 50 0"}, "other": {"7O2", "y 001 90 0"}, "dump": {"x.txt"}, "seg2": {"1"},
}

// tried gives hostile for a flag; none for one that only asks for help.
func tried(f *pflag.Flag) []string {
	if v, has := hostile[f.Name]; has {
		return v
	}
	switch f.Value.Type() {
	case "bool":
		return []string{"true"}
	case "int", "ints", "intSlice":
		return []string{"7", "200"}
	}
	return []string{"x"}
}

// every is whether each value is tried at each place. It is in `make hunt`; else each flag
// gets some of the values, and each value goes to some of the flags.
var every = os.Getenv("CROSS") != ""

// some gives n of the values, others for each turn.
func some(values []string, turn, n int) []string {
	if every || n >= len(values) {
		return values
	}
	var out []string
	for i := range n {
		out = append(out, values[(turn*n+i*7)%len(values)])
	}
	return out
}

// TestEveryFlagHasAnEffect gives each flag alone to each example of its command that
// does not have it: the output is another, or the call is refused.
func TestEveryFlagHasAnEffect(t *testing.T) {
	calls := examples(newRoot(&logging{}))
	require.Greater(t, len(calls), 25)
	had := map[string]bool{}
	for _, c := range calls {
		if !c.command.HasParent() {
			continue
		}
		t.Chdir(t.TempDir())
		want, status := run(t, c.args...)
		require.NotEqual(t, cannot, status, "%s: %s", &c, want)
		c.command.Flags().VisitAll(func(f *pflag.Flag) {
			given := slices.ContainsFunc(c.args, func(a string) bool { return a == "--"+f.Name || strings.HasPrefix(a, "--"+f.Name+"=") })
			of := c.command.CommandPath() + " " + f.Name
			if f.Name == "help" || given || had[of] && !every {
				return
			}
			had[of] = true
			assert.True(t, slices.ContainsFunc(tried(f), func(v string) bool {
				t.Chdir(t.TempDir())
				got, s := run(t, append(slices.Clone(c.args), "--"+f.Name+"="+v)...)
				files, _ := filepath.Glob("*")
				return got != want || s != status || len(files) > 0
			}), "%s: --%s has no effect", &c, f.Name)
		})
	}
}

// TestHostileNumbers puts numbers that mean nothing into every flag that takes some: no
// call panics, hangs, or prints what is no number; what is no JSON is an error.
func TestHostileNumbers(t *testing.T) {
	bad := regexp.MustCompile(`\b(NaN|\+?-?Inf)\b|e\+[1-9][0-9]{2}|-9223372036854775808`)
	turn := 0
	for _, c := range examples(newRoot(&logging{})) {
		if !c.command.HasParent() || slices.Contains([]string{"watch", "prove", "compare", "transfer"}, c.command.Name()) {
			continue
		}
		c.command.Flags().VisitAll(func(f *pflag.Flag) {
			if !slices.Contains([]string{"string", "int", "ints", "intSlice", "stringArray"}, f.Value.Type()) || slices.Contains([]string{"out", "bench", "file", "set", "link", "only", "dump", "plan", "name", "origin", "rule", "words", "save", "list", "replay"}, f.Name) {
				return
			}
			turn++
			for _, v := range some([]string{"0", "-1", "2147483647", "999999999999", "1e300", "1e-300", "0 Hz", "-5 MHz", "1e12 GHz", "0 s", "-1 ns", "1e9 s", "0 %", "-3 %", "1e9 %", "0 F", "-1 pF", "NaN", "Inf", "", "9223372036854775807"}, turn, 3) {
				if c.command.Name() == "send" && !slices.Contains([]string{"-1", "0 Hz", "-5 MHz", "-1 ns", "NaN", "Inf", "1e300"}, v) {
					continue // to send so often, or so late, is no mistake, and takes its time
				}
				t.Chdir(t.TempDir())
				args := append(slices.Clone(c.args), "--"+f.Name+"="+v)
				out, status := run(t, args...)
				assert.False(t, status != cannot && bad.MatchString(out), "%v: %s", args, bad.FindString(out))
				assert.False(t, status != cannot && v[:min(len(v), 1)] == "-" && !slices.Contains([]string{"mcu", "device", "error", "scale", "offset", "of"}, f.Name), "%v: taken", args)
				assert.NotRegexp(t, `strconv|invalid (syntax|argument)|runtime|parsing `, out, "%v", args)
				if status == cannot || c.command.Flags().Lookup("json") == nil || slices.Contains(args, "--json") {
					continue
				}
				out, again := run(t, append(args, "--json")...)
				assert.Equal(t, status, again, "%v: another status with --json: %s", args, out)
				dec := json.NewDecoder(strings.NewReader(out))
				for dec.More() {
					var any any
					if err := dec.Decode(&any); err != nil {
						assert.NoError(t, err, "%v --json: %s", args, out)
						break
					}
				}
			}
		})
	}
}

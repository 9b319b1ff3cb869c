package main

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransfer() *cobra.Command {
	return group("transfer", "Work out transfers: cost, size, loss, rings, endings, pairs, queues",
		calcTransferCost(), calcTransferSize(), calcTransferRate(), calcTransferLoss(), calcTransferRing(), calcTransferEnd(),
		calcTransferPair(), calcTransferQueue(), calcTransferSend(), calcTransferTrigger(), calcTransferCheck())
}

// microseconds are numbers of JSON results.
func microseconds(t quantity.Time) float64 { return t.Seconds() * 1e6 }

// word reads a word of a list.
func word[T ~uint8](flag, text string, words []string) (T, error) {
	i := slices.Index(words, text)
	if i < 0 {
		return 0, fmt.Errorf("--%s: %q is none of %s", flag, text, strings.Join(words, ", "))
	}
	return T(i), nil
}

// span reads a time that may be absent.
func span(flag, text string) (quantity.Time, error) {
	if text == "" || text == "0" {
		return 0, nil
	}
	t, err := quantity.ParseSpan(text)
	if err != nil {
		return 0, fmt.Errorf("--%s: %w", flag, err)
	}
	return t, nil
}

// moments reads times separated by spaces or commas.
func moments(flag, text string) ([]quantity.Time, error) {
	var out []quantity.Time
	for _, w := range listed(text) {
		t, err := momentOf(w)
		if err != nil {
			return nil, fmt.Errorf("--%s: %w", flag, err)
		}
		out = append(out, t)
	}
	return out, nil
}

func momentOf(text string) (quantity.Time, error) {
	if text == "0" {
		return 0, nil
	}
	return quantity.ParseSpan(text)
}

func listed(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == '\n' || r == '\t' })
}

// windows reads stretches of time as 10us-20us.
func windows(flag, text string) ([]transfer.Window, error) {
	var out []transfer.Window
	for _, w := range listed(text) {
		from, to, ok := strings.Cut(w, "-")
		a, err := momentOf(from)
		if err == nil && ok {
			var b quantity.Time
			if b, err = momentOf(to); err == nil && b > a {
				out = append(out, transfer.Window{From: a, To: b})
				continue
			}
		}
		return nil, fmt.Errorf("--%s: %q is no stretch of time: write it as 10us-20us", flag, w)
	}
	return out, nil
}

// burstsOf reads bursts as 431.2us*19: the time of the first bit, and the bytes.
func burstsOf(flag, text string) ([]transfer.Burst, error) {
	var out []transfer.Burst
	total := 0
	for _, w := range listed(text) {
		at, count, ok := strings.Cut(w, "*")
		start, err := momentOf(at)
		n, bad := strconv.Atoi(count)
		if err != nil || !ok || bad != nil || n < 1 {
			return nil, fmt.Errorf("--%s: %q is no burst: write its start and its bytes as 431.2us*19", flag, w)
		}
		if total += n; total > 10_000_000 {
			return nil, fmt.Errorf("--%s: more than 10 million bytes", flag)
		}
		out = append(out, transfer.Burst{Start: start, Bytes: n})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("--%s: no burst is given", flag)
	}
	return out, nil
}

var cycleNames = []string{"entry", "read", "next", "handler", "each", "exit", "look", "call"}

// cyclesOf reads costs as entry=12,read=10,handler=25us: cycles, or times at the core's
// clock.
func cyclesOf(text string, core quantity.Freq) (transfer.Cycles, error) {
	var k transfer.Cycles
	into := []*int{&k.Entry, &k.Read, &k.Next, &k.Handler, &k.Each, &k.Exit, &k.Look, &k.Call}
	for _, w := range listed(text) {
		name, value, _ := strings.Cut(w, "=")
		i := slices.Index(cycleNames, name)
		if i < 0 {
			return k, fmt.Errorf("--cycles: %q is no cost: there are %s", name, strings.Join(cycleNames, ", "))
		}
		n, err := strconv.Atoi(value)
		if err != nil {
			t, bad := quantity.ParseSpan(value)
			if bad != nil {
				return k, fmt.Errorf("--cycles: %q is neither a number of cycles nor a time: write %s=25 or %s=2us", value, name, name)
			}
			n = int(t.Seconds()*core.Hz() + 0.5)
		}
		if n < 0 || n > 1_000_000_000 {
			return k, fmt.Errorf("--cycles: %s=%s: write 0 to 1000000000 cycles", name, value)
		}
		*into[i] = n
	}
	return k, nil
}

const cyclesHelp = "costs in cycles of the core or as times: entry, read, next, handler, each, exit, look, call, as entry=12,handler=25us"

// stringsOf are the flags of these commands that are read later.
type stringsOf map[string]*string

func (s stringsOf) add(c *cobra.Command, name, value, usage string) {
	v := new(string)
	c.Flags().StringVar(v, name, value, usage)
	s[name] = v
}

func (s stringsOf) get(name string) string { return strings.TrimSpace(*s[name]) }

func (s stringsOf) core() (quantity.Freq, error) {
	hz, err := quantity.ParseClock(s.get("core"))
	if err != nil {
		return 0, fmt.Errorf("--core: %w", err)
	}
	return hz, nil
}

func (s stringsOf) rate() (quantity.Rate, error) {
	r, err := quantity.ParseRate(s.get("rate"))
	if err != nil {
		return 0, fmt.Errorf("--rate: %w", err)
	}
	return r, nil
}

func (s stringsOf) policy() (machine.Policy, error) {
	return word[machine.Policy]("on-full", s.get("on-full"), machine.Policies)
}

// positive refuses whole numbers below a bound.
func positive(flag string, n, least int) error {
	if n < least {
		return fmt.Errorf("--%s %d: write at least %d", flag, n, least)
	}
	return nil
}

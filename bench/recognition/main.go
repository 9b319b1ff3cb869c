// Command recognition measures how often unknown lines are recognised, over
// captures made from seeds, and writes docs/recognition.md's figures: `make
// recognition`.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"

	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/recognise/samples"
)

const head = `# Recognition

What lines are is proposed from their levels alone: bus, roles, settings. This
page is written by ` + "`make recognition`" + `.

## What counts as right

Each capture has one bus with random settings and payload (40 bytes and more:
random bytes, text, numbers, counters), a clock up to 1 % off, up to three spikes
a line, up to two idle lines, and its lines in random order; every third was
sampled, 6 to 45 samples per bit; every third is cut, up to a fifth off at either end,
half of these at a change; in every fourth one line stands twice; in every sixth the
bits of a counter run beside it; in every fifth of i2c and can up to half of the
transactions and frames break off; one in fifty has 200 times the traffic. Right is: one bus,
its kind, all its lines in their roles, its rates within 0.5 % of what is on the
wire, its mode, and frame or word as proposed or in the class of those that no
wire tells apart. A miss in any of them is a miss. Sure and wrong is a proposal called sure that is
not the bus.

Never looked for, because no wire tells: the order of bits in a word or character
(text does), which of spi's data lines is which when both change at one time, the
sample point of a CAN node.

`

const hard = `
## Lines as they are

The same buses, each capture with one hardship more: *ringing*, two edges more behind half of the
edges or all of them; *noise*, twenty to eighty short pulses where a line rests; *few*, six to eleven
bytes in all; *clock elsewhere*, a clock and a slow line of something else; a *select* that is held, or
changes with the last edge of the clock; *fast data*, ten to sixteen times the rate of the arbitration.

`

func main() {
	n := flag.Int("captures", 1000, "how many captures of each bus")
	flag.Parse()
	fmt.Print(head, "## Figures\n\n| bus | captures | right | share | sure and wrong | frames or words in the class, mean |\n|---|---|---|---|---|---|\n")
	type miss struct {
		s   samples.Sample
		why string
	}
	var misses []miss
	for _, bus := range samples.Buses {
		right, wrong, members := 0, 0, 0
		for seed := range uint64(*n) {
			s := samples.Make(bus, seed)
			r, err := recognise.Lines(context.Background(), s.Lines, nil)
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(2)
			}
			if why := samples.Judge(&s, &r); why != "" {
				misses = append(misses, miss{s, why})
				if samples.SureOfWrong(&s, &r) {
					wrong++
				}
				continue
			}
			right++
			members += max(len(r.Best[0].Class), 1)
		}
		fmt.Printf("| %s | %d | %d | %.1f %% | %d | %.1f |\n", bus, *n, right, 100*float64(right)/float64(*n), wrong, float64(members)/float64(max(right, 1)))
	}
	fmt.Print(hard, "| bus | hardship | captures | right | share | sure and wrong |\n|---|---|---|---|---|---|\n")
	all, good := 0, 0
	for _, bus := range samples.Buses {
		for _, h := range samples.Hardships[bus] {
			captures, right, wrong := 0, 0, 0
			for seed := range uint64(*n) {
				s := samples.MakeHard(bus, seed)
				if s.Hard != h {
					continue
				}
				captures++
				r, err := recognise.Lines(context.Background(), s.Lines, nil)
				if err != nil {
					fmt.Fprintln(os.Stderr, err)
					os.Exit(2)
				}
				switch why := samples.Judge(&s, &r); {
				case why == "":
					right++
				case samples.SureOfWrong(&s, &r):
					wrong++
				}
			}
			all, good = all+captures, good+right
			fmt.Printf("| %s | %s | %d | %d | %.1f %% | %d |\n", bus, h, captures, right, 100*float64(right)/float64(max(captures, 1)), wrong)
		}
	}
	fmt.Printf("\nOf all %d: %.1f %%.\n", all, 100*float64(good)/float64(max(all, 1)))
	fmt.Print("\n## Misses\n\n")
	if len(misses) == 0 {
		fmt.Println("None.")
		return
	}
	fmt.Print("| bus | seed | capture | what was wrong |\n|---|---|---|---|\n")
	for _, m := range misses {
		fmt.Printf("| %s | %d | %s | %s |\n", m.s.Kind, m.s.Seed, m.s.About, m.why)
	}
}

// Command makevcd writes a value change dump of a given size: a uart line with
// random characters, alone, or among many signals and vectors with codes of
// three characters.
package main

import (
	"bufio"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
)

func main() {
	signals := flag.Int("signals", 1, "how many signals")
	size := flag.Int("megabytes", 200, "size of the file")
	flag.Parse()
	w := bufio.NewWriterSize(os.Stdout, 1<<20)
	defer w.Flush()
	rng := rand.New(rand.NewPCG(1, 2))
	code := func(i int) string {
		if *signals == 1 {
			return "!"
		}
		return string([]byte{byte('!' + i%90), byte('!' + i/90), 'a'})
	}
	fmt.Fprintln(w, "$timescale 1 ns $end")
	written := 0
	for i := range *signals {
		switch {
		case i == 0:
			fmt.Fprintf(w, "$var wire 1 %s rx $end\n", code(i))
		case i%10 == 0:
			fmt.Fprintf(w, "$var wire 8 %s bus%d [7:0] $end\n", code(i), i)
		default:
			fmt.Fprintf(w, "$var wire 1 %s s%d $end\n", code(i), i)
		}
	}
	fmt.Fprintf(w, "$enddefinitions $end\n#0\n1%s\n", code(0))
	frame, period := uart.Frame{Data: 8, Stop: 1}, quantity.PeriodOf(quantity.Megabaud)
	at, level := quantity.Microsecond, 1
	var tog []quantity.Time
	for written < *size<<20 {
		tog, at = uart.Encode(tog[:0], frame, period, at, uint16(rng.Uint32())&0xff)
		for _, t := range tog {
			level ^= 1
			n, _ := fmt.Fprintf(w, "#%d\n%d%s\n", int64(t/quantity.Nanosecond), level, code(0))
			written += n
			if *signals == 1 {
				continue
			}
			for range 4 {
				i := 1 + rng.IntN(*signals-1)
				if i%10 == 0 {
					n, _ = fmt.Fprintf(w, "b%08b %s\n", rng.IntN(256), code(i))
				} else {
					n, _ = fmt.Fprintf(w, "%d%s\n", rng.IntN(2), code(i))
				}
				written += n
			}
		}
	}
}

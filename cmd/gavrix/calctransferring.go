package main

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

// positionsOf reads services as POS or POS:EVENT+EVENT. Without events the position says
// them: half at the middle, full at the end or at 0, else idle.
func positionsOf(text string, size int, enabled transfer.Events) ([]transfer.Service, error) {
	var out []transfer.Service
	for _, w := range listed(text) {
		place, events, given := strings.Cut(w, ":")
		n, err := strconv.Atoi(place)
		if err != nil || n < 0 || n > size {
			return nil, fmt.Errorf("--positions: %q: write a position from 0 to %d, behind it its events as 8:half+idle", w, size)
		}
		s := transfer.Service{Pos: n % size, Written: -1}
		switch {
		case given && events != "none":
			if s.Events, err = transfer.ParseEvents(events); err != nil {
				return nil, fmt.Errorf("--positions: %q: %w", w, err)
			}
		case given:
		case n == size/2:
			s.Events = transfer.HalfEvent & enabled
		case n%size == 0:
			s.Events = transfer.FullEvent & enabled
		default:
			s.Events = transfer.IdleEvent & enabled
		}
		out = append(out, s)
	}
	return out, nil
}

// accountOut is what a consumer made of a ring.
type accountOut struct {
	Consumer  string     `json:"consumer"`
	Takes     [][][2]int `json:"takes"`
	Delivered int        `json:"delivered"`
	Lost      int        `json:"lost"`
	LostAt    [][2]int   `json:"lost_ranges"`
	Doubled   int        `json:"doubled"`
	DoubledAt [][3]int   `json:"doubled_ranges"`
	Overrun   int        `json:"overrun_bytes"`
	Left      int        `json:"left_in_ring"`
	Unknown   []string   `json:"unknown,omitempty"`
	Wrong     []string   `json:"wrong,omitempty"`
}

type serviceOut struct {
	At        float64 `json:"t_us,omitempty"`
	Events    string  `json:"events"`
	Pos       int     `json:"position"`
	Remaining int     `json:"remaining"`
}

// ringConsumers are those that the flags name. Odd is told of what a rule gives that is no number of
// bytes.
func ringConsumers(cmd *cobra.Command, s stringsOf, all bool, odd func(transfer.Service, float64)) ([]transfer.Consumer, error) {
	switch rule := s.get("rule"); {
	case all:
		return transfer.Consumers, idle(cmd, "with --all", "consumer", "rule")
	case rule != "":
		if err := idle(cmd, "with --rule", "consumer"); err != nil {
			return nil, err
		}
		r, err := transfer.RuleConsumer(rule, odd)
		if err != nil {
			return nil, fmt.Errorf("--rule: %w", err)
		}
		return []transfer.Consumer{*r}, nil
	}
	if one := transfer.ConsumerNamed(s.get("consumer")); one != nil {
		return []transfer.Consumer{*one}, nil
	}
	var names []string
	for _, x := range transfer.Consumers {
		names = append(names, x.Name)
	}
	return nil, fmt.Errorf("--consumer: %q is none of %s", s.get("consumer"), strings.Join(names, ", "))
}

func calcTransferRing() *cobra.Command {
	s := stringsOf{}
	var size, byteBits int
	var idleChars float64
	var all, timer, asJSON bool
	c := &cobra.Command{
		Use:   "ring",
		Short: "Turn the positions of a DMA ring into new bytes, and find lost and doubled ones",
		Long: `Follows a consumer through the runs of a ring's handler. The runs are given as
--positions, each the place that is written next, as 13, or with its events as
8:half+idle or 8:none; or they are worked out from --bursts on a line. --consumer
chooses how positions become bytes, --all compares the right way with the typical
mistakes, and --rule is an expression of one's own for the number of new bytes, over
last, pos, size, half, full and idle. Exit status 1 if bytes are lost, doubled or
uncertain.`,
		Example: `  gavrix calc transfer ring --size 16 --positions '6 8 13 16 3 8 11'
  gavrix calc transfer ring --size 16 --positions '6 8 13 16 3' --rule 'pos - last'
  gavrix calc transfer ring --size 64 --bursts '0*48 9ms*80' --rate 115200 --idle-chars 1 --latency 20us --all`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if size < 2 || size > 1<<20 {
				return fmt.Errorf("--size %d: a ring has 2 to %d places", size, 1<<20)
			}
			enabled, err := transfer.ParseEvents(s.get("events"))
			if err != nil {
				return fmt.Errorf("--events: %w", err)
			}
			services, total, err := ringServices(cmd, s, size, byteBits, idleChars, timer, enabled)
			if err != nil {
				return err
			}
			var wrong []string
			list, err := ringConsumers(cmd, s, all, func(v transfer.Service, n float64) {
				wrong = append(wrong, fmt.Sprintf("at position %d (%s) the rule gives %g bytes", v.Pos, v.Events, n))
			})
			if err != nil {
				return err
			}
			var out []accountOut
			for i := range list {
				out = append(out, accountFor(size, &list[i], services, total, enabled))
				out[i].Wrong = wrong
			}
			return printRing(size, services, out, timer, asJSON)
		},
	}
	fl := c.Flags()
	fl.IntVar(&size, "size", 0, "places of the ring")
	s.add(c, "positions", "", "runs of the handler: places written next, with their events")
	s.add(c, "events", "half full idle", "events that are enabled")
	s.add(c, "consumer", "by-position", "how positions become bytes: by-position, restart-at-zero, wrap-compare, forget-full, equal-is-nothing")
	s.add(c, "rule", "", "an expression for the number of new bytes")
	fl.BoolVar(&all, "all", false, "compare all consumers")
	s.add(c, "bursts", "", "bytes on the line, as 0*16 431.2us*19")
	s.add(c, "rate", "", "bursts: bit rate")
	fl.IntVar(&byteBits, "byte-bits", 10, "bursts: bits of a byte on the line")
	fl.Float64Var(&idleChars, "idle-chars", 1, "bursts: silence that raises the idle event, in characters")
	fl.BoolVar(&timer, "idle-by-timer", false, "bursts: a timer measures the silence from one complete byte to the next; without it the first bit of a byte ends it")
	s.add(c, "latency", "", "bursts: from an event to its handler")
	s.add(c, "blocked", "", "bursts: times in which no handler runs, as 10us-20us")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("size")
	return c
}

// ringServices gives the runs of the handler, and the bytes that came altogether.
func ringServices(cmd *cobra.Command, s stringsOf, size, byteBits int, idleChars float64, timer bool, enabled transfer.Events) ([]transfer.Service, int, error) {
	if s.get("bursts") == "" {
		if s.get("positions") == "" {
			return nil, 0, fmt.Errorf("give --positions or --bursts")
		}
		if err := idle(cmd, "without --bursts", "rate", "byte-bits", "idle-chars", "idle-by-timer", "latency", "blocked"); err != nil {
			return nil, 0, err
		}
		services, err := positionsOf(s.get("positions"), size, enabled)
		return services, 0, err
	}
	if err := idle(cmd, "with --bursts", "positions"); err != nil {
		return nil, 0, err
	}
	r, err := s.rate()
	if err != nil {
		return nil, 0, err
	}
	if byteBits < 1 || byteBits > 1000 || idleChars < 0 {
		return nil, 0, fmt.Errorf("--byte-bits %d, --idle-chars %g: a byte has 1 to 1000 bits, and the silence is not less than 0", byteBits, idleChars)
	}
	ring := transfer.Ring{Size: size, Bit: quantity.PeriodOf(r), ByteBits: byteBits, IdleChars: idleChars, ByTimer: timer, Events: enabled}
	if ring.Latency, err = span("latency", s.get("latency")); err != nil {
		return nil, 0, err
	}
	if ring.Blocked, err = windows("blocked", s.get("blocked")); err != nil {
		return nil, 0, err
	}
	bursts, err := burstsOf("bursts", s.get("bursts"))
	if err != nil {
		return nil, 0, err
	}
	total := 0
	for _, b := range bursts {
		total += b.Bytes
	}
	return ring.Services(bursts), total, nil
}

func accountFor(size int, c *transfer.Consumer, services []transfer.Service, total int, enabled transfer.Events) accountOut {
	a := transfer.AccountOf(size, c, services, total, enabled)
	o := accountOut{Consumer: c.Name, Takes: [][][2]int{}, Delivered: a.Delivered, Lost: a.LostBytes(), LostAt: [][2]int{}, Doubled: a.DoubledBytes(), DoubledAt: [][3]int{}, Overrun: a.Overrun, Left: a.Left}
	for _, t := range a.Takes {
		row := [][2]int{}
		for _, p := range t {
			row = append(row, [2]int{p.Start, p.Length})
		}
		o.Takes = append(o.Takes, row)
	}
	for _, x := range a.Lost {
		o.LostAt = append(o.LostAt, [2]int{x.From, x.To})
	}
	for _, x := range a.Doubled {
		o.DoubledAt = append(o.DoubledAt, [3]int{x.From, x.To, x.Times})
	}
	for _, u := range a.Unknown {
		o.Unknown = append(o.Unknown, u.What)
	}
	return o
}

func printRing(size int, services []transfer.Service, out []accountOut, timer, asJSON bool) error {
	good := true
	for _, o := range out {
		good = good && o.Lost == 0 && o.Doubled == 0 && o.Overrun == 0 && len(o.Unknown) == 0 && len(o.Wrong) == 0
	}
	var runs []serviceOut
	for _, v := range services {
		runs = append(runs, serviceOut{microseconds(v.At), v.Events.String(), v.Pos, size - v.Pos})
	}
	if asJSON {
		if err := printJSON(struct {
			Runs      []serviceOut `json:"services"`
			Consumers []accountOut `json:"consumers"`
		}{runs, out}); err != nil {
			return err
		}
	} else {
		if timer {
			fmt.Fprintln(stdout, "silence is measured from one complete byte to the next")
		}
		if len(out) == 1 {
			fmt.Fprintln(stdout, "   position   event            takes")
			for i, v := range services {
				var parts []string
				n := 0
				for _, p := range out[0].Takes[i] {
					parts = append(parts, fmt.Sprintf("%d to %d", p[0], p[0]+p[1]-1))
					n += p[1]
				}
				fmt.Fprintf(stdout, "   %8d   %-14s %5d   %s\n", v.Pos, v.Events, n, strings.Join(parts, ", "))
			}
		}
		for _, o := range out {
			fmt.Fprintf(stdout, "%s: %s taken, %d lost, %d doubled", o.Consumer, quantity.Count(o.Delivered, "byte"), o.Lost, o.Doubled)
			if o.Overrun > 0 {
				fmt.Fprintf(stdout, ", %d of them overwritten before any run", o.Overrun)
			}
			if o.Left > 0 {
				fmt.Fprintf(stdout, "; %d wait in the ring", o.Left)
			}
			fmt.Fprintln(stdout)
			for _, u := range o.Unknown {
				fmt.Fprintln(stdout, "   unknown: "+u)
			}
			for _, w := range o.Wrong {
				fmt.Fprintln(stdout, "   impossible: "+w)
			}
		}
	}
	if !good {
		return exitStatus(found)
	}
	return nil
}

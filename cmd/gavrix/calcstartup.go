package main

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/startup"
)

type startupOptions struct {
	dump, steps, without string
	simulated, json      bool
	sets                 []string
}

func calcStartup() *cobra.Command {
	o := &startupOptions{}
	c := &cobra.Command{
		Use:   "startup BENCH [LINK]",
		Short: "The startup steps of a link's peripheral, and what became of each",
		Long: `Lists the steps that bring the MCU's end of each link to life, in the order in
which they depend on each other, with what each writes and what became of it: done,
as after reset, missing, out of order, waits for another, not seen. The firmware's
steps are those that the bench states below mcu.startup of the link, else all that
are needed; --steps gives others, --without leaves one out. With --dump the chain is
judged from a dump of registers: lines of an address or a register's name and a
value. --simulated takes the dump from the simulated MCU and prints it.`,
		Example: `  gavrix calc startup demo upper-gauge
  gavrix calc startup demo upper-gauge --without port-clock
  gavrix calc startup demo --dump dump.txt
  gavrix calc startup demo --simulated > dump.txt`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error { return o.run(args) },
	}
	fl := c.Flags()
	fl.StringVar(&o.dump, "dump", "", "file with addresses and values, - for standard input")
	fl.StringVar(&o.steps, "steps", "", "the steps that the firmware does, in order, separated by commas")
	fl.StringVar(&o.without, "without", "", "leave this step out")
	fl.BoolVar(&o.simulated, "simulated", false, "print the registers of the simulated MCU after startup")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.BoolVar(&o.json, "json", false, "print JSON")
	return c
}

func (o *startupOptions) run(args []string) error {
	b, err := loadBench(args[0], o.sets...)
	if err != nil {
		return err
	}
	if b.MCU.Registers == nil {
		return fmt.Errorf("%s describes no registers, so no startup is known: name a .csv table or a .svd below mcu.registers", args[0])
	}
	links := b.Links
	if len(args) > 1 {
		l, err := linkNamed(b, args[1])
		if err != nil {
			return err
		}
		links = []*bench.Link{l}
	}
	switch {
	case o.dump != "" && (o.steps != "" || o.without != ""), o.simulated && o.dump != "":
		return errors.New("a dump shows what was done: --dump stands alone")
	case (o.steps != "" || o.without != "") && len(links) > 1:
		return errors.New("--steps and --without are about one link: name it")
	}
	if o.steps != "" || o.without != "" {
		if err := o.firmware(b, links[0]); err != nil {
			return err
		}
		links = []*bench.Link{b.Link(links[0].Name)}
	}
	if o.simulated {
		return o.printDump(sim.Dump(b))
	}
	var seen []register.Seen
	if o.dump != "" {
		f, err := openDump(o.dump)
		if err != nil {
			return fmt.Errorf("the dump can't be read: %w", err)
		}
		defer f.Close()
		if seen, err = b.MCU.Registers.ReadDump(f); err != nil {
			return fmt.Errorf("%s: %w", o.dump, err)
		}
	}
	return o.judge(links, seen)
}

// firmware makes the link's firmware do other steps.
func (o *startupOptions) firmware(b *bench.Bench, l *bench.Link) error {
	c, err := l.Chain()
	if err != nil {
		return err
	}
	steps := l.Steps(c)
	if o.steps != "" {
		if steps, err = startup.Parse(o.steps); err != nil {
			return fmt.Errorf("--steps: %w", err)
		}
	}
	if o.without != "" {
		if c.Step(o.without) == nil {
			var names []string
			for _, s := range c.Steps {
				names = append(names, s.Name)
			}
			return fmt.Errorf("--without: %s has no step %q; it has %s", l.Name, o.without, strings.Join(names, ", "))
		}
		steps = slices.DeleteFunc(slices.Clone(steps), func(s string) bool { return s == o.without })
	}
	return b.Apply(l.StartEdit(steps))
}

func (o *startupOptions) printDump(seen []register.Seen) error {
	if o.json {
		type line struct {
			Register string `json:"register"`
			Address  string `json:"address"`
			Value    string `json:"value"`
		}
		var out []line
		for _, s := range seen {
			out = append(out, line{s.Name, fmt.Sprintf("0x%08X", s.Address), s.Hex(s.Value)})
		}
		return printJSON(out)
	}
	for _, s := range seen {
		fmt.Fprintf(stdout, "0x%08X %s   # %s\n", s.Address, s.Hex(s.Value), safe.Text(s.Name))
	}
	return nil
}

type chainJSON struct {
	Link     string        `json:"link"`
	Unit     string        `json:"unit"`
	Progress string        `json:"progress"`
	Steps    []verdictJSON `json:"steps"`
}

type verdictJSON struct {
	Step  string `json:"step"`
	Title string `json:"title"`
	Write string `json:"write"`
	State string `json:"state"`
	How   string `json:"how,omitempty"`
	On    string `json:"on,omitempty"`
	Why   string `json:"why,omitempty"`
}

func (o *startupOptions) judge(links []*bench.Link, seen []register.Seen) error {
	bad := false
	var all []chainJSON
	for _, l := range links {
		c, err := l.Chain()
		if err != nil {
			return err
		}
		vs := c.Judge(l.Steps(c))
		if o.dump != "" {
			vs = c.FromDump(seen)
		}
		bad = bad || startup.First(vs) != nil
		out := chainJSON{Link: l.Name, Unit: l.Unit.Name, Progress: startup.Progress(vs)}
		for _, v := range vs {
			out.Steps = append(out.Steps, verdictJSON{v.Name, v.Title, v.Text(), v.State.String(), v.How, v.On, v.Why})
		}
		all = append(all, out)
		if o.json {
			continue
		}
		fmt.Fprintf(stdout, "%s, unit %s: %s\n", safe.Text(l.Name), safe.Text(l.Unit.Name), out.Progress)
		for _, v := range vs {
			fmt.Fprintf(stdout, "  %s %-18s %-33s %s\n", picture.Glyph(v.State), v.Name, picture.StateText(v), safe.Text(v.Text()))
			if v.Broken() || v.State == startup.NotSeen && v.Why != "" {
				fmt.Fprintf(stdout, "      %s\n", strings.TrimPrefix(v.How+", "+v.Why, ", "))
			}
		}
		if len(vs) == 0 {
			fmt.Fprintln(stdout, "  no step is described: say below the unit's `control:` which fields start it")
		}
	}
	if o.json {
		if err := printJSON(all); err != nil {
			return err
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

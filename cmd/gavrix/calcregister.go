package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
)

type registerOptions struct {
	file, name, value, old, against, dump, bench string
	sets                                         []string
	json                                         bool
}

func calcRegister() *cobra.Command {
	o := &registerOptions{}
	c := &cobra.Command{
		Use:   "register",
		Short: "Take a control-register value apart, compose one, compare two, or read a dump",
		Long: `Works on registers described in a table (.csv) or a system view description (.svd),
given with --file, or on those of a bench. --value is taken apart; with --set fields
are changed in it first, by number or meaning; --against compares it with another
value; --old is what the register holds, to say what the write does to its flags.
--dump reads a file of addresses and values; with --bench they are compared with
what the settings want, and what the dump lacks reads as not seen.`,
		Example: `  gavrix calc register --bench demo --name S1CTL --value 0x010B
  gavrix calc register --bench demo --name S1CTL --value 0x0002 --set LENGTH=8 --set PARITY=even --set ENABLE=on
  gavrix calc register --bench demo --name S1CTL --value 0x010B --against 0x0103
  gavrix calc register --bench demo --dump dump.txt`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.against != "" {
				if err := idle(cmd, "beside --against", "old"); err != nil {
					return err
				}
			}
			if o.dump != "" {
				if err := idle(cmd, "beside --dump", "name", "value", "set", "against", "old"); err != nil {
					return err
				}
			}
			return o.run()
		},
	}
	fl := c.Flags()
	fl.StringVar(&o.file, "file", "", "registers, as a .csv table or a .svd")
	fl.StringVar(&o.bench, "bench", "", "the registers of this bench")
	fl.StringVar(&o.name, "name", "", "register")
	fl.StringVar(&o.value, "value", "", "value, as 0x1A, 26 or 0b11010; without it the reset value")
	fl.StringArrayVar(&o.sets, "set", nil, "change a field, as FIELD=VALUE or FIELD=MEANING (repeatable)")
	fl.StringVar(&o.against, "against", "", "compare with this value")
	fl.StringVar(&o.old, "old", "", "what the register holds before the write; without it the reset value")
	fl.StringVar(&o.dump, "dump", "", "file with addresses and values, - for standard input")
	fl.BoolVar(&o.json, "json", false, "print JSON")
	return c
}

// registers gives the described registers, and the bench where there is one.
func (o *registerOptions) registers() (*register.Map, *bench.Bench, error) {
	switch {
	case (o.file == "") == (o.bench == ""):
		return nil, nil, errors.New("give --file or --bench")
	case o.bench != "":
		b, err := loadBench(o.bench)
		if err != nil {
			return nil, nil, err
		}
		if b.MCU.Registers == nil {
			return nil, nil, fmt.Errorf("%s describes no registers", o.bench)
		}
		return b.MCU.Registers, b, nil
	}
	f, err := regular.Open(o.file)
	if err != nil {
		return nil, nil, fmt.Errorf("the registers can't be read: %w", err)
	}
	defer f.Close()
	m, err := register.Read(filepath.Ext(o.file), f)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", o.file, err)
	}
	return m, nil, nil
}

func (o *registerOptions) run() error {
	m, b, err := o.registers()
	if err != nil {
		return err
	}
	if o.dump != "" {
		return o.readDump(m, b)
	}
	r := m.Named(o.name)
	if r == nil {
		var names []string
		for i := range m.Registers {
			names = append(names, m.Registers[i].Name)
		}
		return fmt.Errorf("--name: there is no register %q; there are %s", o.name, strings.Join(names, ", "))
	}
	values := map[string]uint64{"--value": r.Reset, "--old": r.Reset, "--against": 0}
	for flag, text := range map[string]string{"--value": o.value, "--old": o.old, "--against": o.against} {
		if text == "" {
			continue
		}
		v, err := strconv.ParseUint(text, 0, 64)
		if err != nil {
			return fmt.Errorf("%s %s: write a number, as 0x1A, 26 or 0b11010", flag, text)
		}
		values[flag] = v
	}
	var choices []register.Choice
	for _, s := range o.sets {
		field, value, ok := strings.Cut(s, "=")
		if !ok {
			return fmt.Errorf("--set %s: write FIELD=VALUE", s)
		}
		choices = append(choices, register.Choice{Field: field, Value: value})
	}
	value, err := r.Compose(values["--value"], choices...)
	if err != nil {
		return fmt.Errorf("--set: %w", err)
	}
	if o.against != "" {
		return o.compare(r, value, values["--against"])
	}
	return o.apart(r, values["--old"], value)
}

type apartJSON struct {
	Register string        `json:"register"`
	Value    string        `json:"value"`
	Fields   []partJSON    `json:"fields"`
	Concerns []concernJSON `json:"concerns,omitempty"`
}

type partJSON struct {
	Field   string `json:"field"`
	Bits    string `json:"bits"`
	Value   uint64 `json:"value"`
	Meaning string `json:"meaning"`
	Access  string `json:"access"`
	AtReset bool   `json:"as_after_reset"`
}

type concernJSON struct {
	Code string `json:"code"`
	Text string `json:"text"`
	Bad  bool   `json:"bad"`
}

// apart prints a value field by field, and what writing it does.
func (o *registerOptions) apart(r *register.Register, old, value uint64) error {
	out := apartJSON{Register: r.Name, Value: r.Hex(value)}
	for _, p := range r.Apart(value) {
		out.Fields = append(out.Fields, partJSON{p.Name, p.Range(), p.Value, p.Meaning, p.Access.String(), p.AtReset})
	}
	bad := false
	for _, c := range r.Write(old, value) {
		out.Concerns = append(out.Concerns, concernJSON{c.Code, c.Text, c.Bad})
		bad = bad || c.Bad
	}
	if o.json {
		if err := printJSON(out); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout, "%s = %s at 0x%08X   %s\n", safe.Text(r.Name), out.Value, r.Address, safe.Text(r.About))
		for _, p := range out.Fields {
			note := ""
			if p.AtReset {
				note = "   as after reset"
			}
			if p.Access != register.ReadWrite.String() {
				note += "   " + p.Access
			}
			fmt.Fprintf(stdout, "  %-6s %-12s %-6d %s%s\n", p.Bits, safe.Text(p.Field), p.Value, safe.Text(p.Meaning), note)
		}
		for _, c := range out.Concerns {
			mark := "·"
			if c.Bad {
				mark = "▲"
			}
			fmt.Fprintf(stdout, "%s %s\n", mark, safe.Text(c.Text))
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

func (o *registerOptions) compare(r *register.Register, value, against uint64) error {
	changes, reserved := r.Compare(against, value)
	if o.json {
		type change struct {
			Field string `json:"field"`
			Was   uint64 `json:"against"`
			Is    uint64 `json:"value"`
		}
		out := struct {
			Changes  []change `json:"differ"`
			Reserved string   `json:"reserved_bits_differ,omitempty"`
		}{Reserved: register.Bits(reserved)}
		for _, c := range changes {
			out.Changes = append(out.Changes, change{c.Name, c.Was, c.Is})
		}
		return printJSON(out)
	}
	printChanges(r, against, value)
	return nil
}

// printChanges prints in what two values of a register differ.
func printChanges(r *register.Register, was, is uint64) {
	changes, reserved := r.Compare(was, is)
	fmt.Fprintf(stdout, "%s: %s against %s\n", safe.Text(r.Name), r.Hex(is), r.Hex(was))
	for _, c := range changes {
		fmt.Fprintf(stdout, "  %-6s %-12s %s instead of %s\n", c.Range(), safe.Text(c.Name), safe.Text(c.IsMeaning), safe.Text(c.WasMeaning))
	}
	if reserved != 0 {
		fmt.Fprintf(stdout, "  reserved bits %s differ\n", register.Bits(reserved))
	}
	if len(changes) == 0 && reserved == 0 {
		fmt.Fprintln(stdout, "  the same")
	}
}

// openDump opens a dump; - is standard input.
func openDump(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(os.Stdin), nil
	}
	return regular.Open(name)
}

// readDump takes a dump apart; with a bench it is compared with what the links'
// settings want.
func (o *registerOptions) readDump(m *register.Map, b *bench.Bench) error {
	f, err := openDump(o.dump)
	if err != nil {
		return fmt.Errorf("the dump can't be read: %w", err)
	}
	defer f.Close()
	seen, err := m.ReadDump(f)
	if err != nil {
		return fmt.Errorf("%s: %w", o.dump, err)
	}
	type dumpJSON struct {
		Register string `json:"register,omitempty"`
		Address  string `json:"address"`
		Value    string `json:"value,omitempty"`
		Wanted   string `json:"wanted,omitempty"`
		Verdict  string `json:"verdict"` // as planned, differs, not planned, unknown, not seen
	}
	want := map[string]*bench.Wanted{}
	if b != nil {
		if want, err = b.Wanted(); err != nil {
			return err
		}
	}
	var out []dumpJSON
	bad := false
	met := map[string]bool{}
	for _, s := range seen {
		d := dumpJSON{Address: fmt.Sprintf("0x%08X", s.Address), Value: fmt.Sprintf("0x%X", s.Value), Verdict: "unknown"}
		if s.Register != nil {
			d.Register, d.Value, d.Verdict = s.Name, s.Hex(s.Value), "not planned"
			if w := want[s.Name]; w != nil {
				met[s.Name] = true
				d.Wanted, d.Verdict = w.Hex(w.Value), "as planned"
				if w.Differs(s.Value) {
					d.Verdict, bad = "differs", true
				}
			}
		}
		out = append(out, d)
		if o.json {
			continue
		}
		fmt.Fprintf(stdout, "%s  %-10s %s  %s\n", d.Address, safe.Text(d.Register), d.Value, d.Verdict)
		if d.Verdict == "differs" {
			printChanges(s.Register, want[s.Name].Value, s.Value)
		}
	}
	for i := range m.Registers {
		r := &m.Registers[i]
		if w := want[r.Name]; w != nil && !met[r.Name] {
			out = append(out, dumpJSON{r.Name, fmt.Sprintf("0x%08X", r.Address), "", r.Hex(w.Value), "not seen"})
			if !o.json {
				fmt.Fprintf(stdout, "0x%08X  %-10s not seen; the settings want %s\n", r.Address, safe.Text(r.Name), r.Hex(w.Value))
			}
		}
	}
	if o.json {
		if err := printJSON(out); err != nil {
			return err
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

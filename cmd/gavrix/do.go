package main

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/sim"
)

type doOptions struct {
	sets, given []string
	plan        bool
	asJSON      bool
	at          string
}

func doCommand() *cobra.Command {
	o := &doOptions{}
	c := &cobra.Command{
		Use:   "do BENCH LINK OPERATION...",
		Short: "Read and write registers of parts, prove which part it is, send a transaction",
		Long: `Does operations on the parts of a link, one after the other, as the MCU's firmware
would: over the bus, with the settings of the bench. What a part holds and how it is
reached stands in its device file.

` + operation.Help + `

Writing reads before and after it where that does no harm, and compares; writing a
field keeps the other bits of its register. --plan shows what would be sent, and sends
nothing. Exit status 1 if an operation failed or was refused.`,
		Example: `  gavrix do demo gate 'prove leaf-angle' 'read leaf-angle.angle'
  gavrix do demo hull 'write leaf-tilt.CTRL.RANGE 15°'
  gavrix do demo gate 'read leaf-angle.angle' --plan
  gavrix do demo hull 'raw start 97 ack .. nack stop' --json
  gavrix do demo gate 'prove leaf-angle' --set links.gate.devices.leaf-angle.mcu.mode=0`,
		Args: cobra.MinimumNArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := loadBench(args[0], o.sets...)
			if err != nil {
				return err
			}
			l, err := linkNamed(b, args[1])
			if err != nil {
				return err
			}
			var ops []*operation.Operation
			for _, text := range args[2:] {
				op, err := operation.Parse(text, l.Parts())
				if err != nil {
					return fmt.Errorf("%q: %w", text, err)
				}
				ops = append(ops, op)
			}
			if o.plan {
				if err := active(cmd, "with --plan: nothing is sent", "plan", "set", "json"); err != nil {
					return err
				}
				return o.plans(l, args[2:], ops)
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			return o.run(ctx, b, l, args[2:], ops)
		},
	}
	fl := c.Flags()
	fl.BoolVar(&o.plan, "plan", false, "show what would be sent, and send nothing")
	fl.BoolVar(&o.asJSON, "json", false, "print the results as JSON")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.StringArrayVar(&o.given, "given", nil, "what a simulated part holds before, as 'leaf-angle.MODE 0x03' (repeatable)")
	fl.StringVar(&o.at, "at", "", "time of the first operation; without it when all parts of the link are up")
	return c
}

// run does the operations.
func (o *doOptions) run(ctx context.Context, b *bench.Bench, l *bench.Link, texts []string, ops []*operation.Operation) error {
	var h link.Session = sim.NewHeadless(b)
	if l.Port != nil {
		s := session.Open(b)
		defer s.Close()
		h = s
	}
	info := h.Info(l.Index)
	at := l.Up()
	if o.at != "" {
		var err error
		if at, err = quantity.ParseTime(o.at); err != nil || at < 0 {
			return fmt.Errorf("--at: write a time from 0 on, as 30 ms")
		}
	}
	if err := h.Wait(ctx, at, func(*capture.Snapshot) bool { return false }); err != nil {
		return err
	}
	for _, g := range o.given {
		in, err := preset(g, l)
		if err != nil {
			return fmt.Errorf("--given %q: %w", g, err)
		}
		if why := info.Refuses(in); why != "" {
			return fmt.Errorf("--given: link %s: %s", l.Name, why)
		}
		if _, err := h.Do(ctx, l.Index, in); err != nil {
			return fmt.Errorf("--given %q: %w", g, err)
		}
	}
	on := operate.On(h, b, l)
	meta := &h.Store().Meta
	var results []*operate.Result
	bad := false
	for i, op := range ops {
		r, err := on.Do(ctx, texts[i], op)
		if errors.Is(err, context.Canceled) {
			return errors.New("stopped")
		}
		if err != nil {
			return fmt.Errorf("%q: %w", texts[i], err)
		}
		bad = bad || r.Verdict == operate.Fault || r.Verdict == operate.Refused
		results = append(results, r)
		if !o.asJSON {
			printResult(l, r)
		}
	}
	if o.asJSON {
		var out []map[string]any
		meanings := b.Meanings()
		for _, r := range results {
			out = append(out, resultJSON(r, func(x operate.Exchange) json.RawMessage {
				if x.Record == nil {
					return nil
				}
				raw, _ := jsonl.Marshal(meta, x.Record, meanings.Text(l.Name, x.Record))
				return raw
			}))
		}
		if err := printJSON(out); err != nil {
			return err
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

// preset reads what a part is to hold before.
func preset(text string, l *bench.Link) (link.Preset, error) {
	op, err := operation.Parse("write "+text, l.Parts())
	if err != nil {
		return link.Preset{}, err
	}
	switch {
	case op.Chars != nil:
		return link.Preset{Device: op.Part.Name, Value: op.Chars.Name, Data: []byte(op.Text)}, nil
	case op.Bytes:
		return link.Preset{Device: op.Part.Name, Value: fmt.Sprintf("0x%X", op.At), Data: op.Data}, nil
	}
	w, err := op.Values[0].Encode(op.Text)
	if err != nil {
		return link.Preset{}, err
	}
	return link.Preset{Device: op.Part.Name, Value: op.Values[0].Name, Bits: w.Raw}, nil
}

// mostText is how much of a transaction's words is printed; --json has all.
const mostText = 140

func printResult(l *bench.Link, r *operate.Result) {
	fmt.Fprintf(stdout, "%s: %s\n", safe.Text(r.Text), r.Verdict)
	for _, x := range r.Exchanges {
		text := x.Words(l)
		if r := []rune(text); len(r) > mostText {
			text = string(r[:mostText]) + " …"
		}
		fmt.Fprintf(stdout, "  %12.6f s  %s\n", x.At.Seconds(), safe.Text(text))
	}
	for _, v := range r.Values {
		text := v.Meaning()
		if text != v.Hex() && v.Bits > 0 {
			text += "  (" + v.Hex() + ")"
		}
		fmt.Fprintf(stdout, "  %s = %s\n", safe.Text(v.Name), safe.Text(text))
	}
	for from := 0; from < len(r.Bytes); from += 16 {
		row := r.Bytes[from:min(from+16, len(r.Bytes))]
		fmt.Fprintf(stdout, "  %04X  %-48s %s\n", r.At+from, fmt.Sprintf("% X", row), safe.Bytes(row))
	}
	for _, c := range r.Changes {
		fmt.Fprintf(stdout, "  %s\n", safe.Text(c.Text()))
	}
	for _, s := range r.Says {
		fmt.Fprintf(stdout, "  %s\n", safe.Text(s))
	}
}

func resultJSON(r *operate.Result, record func(operate.Exchange) json.RawMessage) map[string]any {
	out := map[string]any{"operation": r.Text, "verdict": r.Verdict}
	if r.Part != "" {
		out["part"] = r.Part
	}
	if len(r.Says) > 0 {
		out["says"] = r.Says
	}
	xs := []map[string]any{}
	for _, x := range r.Exchanges {
		m := map[string]any{"text": x.Text, "ok": x.OK, "outcome": x.Outcome, "at_ps": int64(x.At)}
		if raw := record(x); raw != nil {
			m["record"] = raw
		}
		xs = append(xs, m)
	}
	out["transactions"] = xs
	var values []map[string]any
	for _, v := range r.Values {
		values = append(values, valueJSON(v))
	}
	if values != nil {
		out["values"] = values
	}
	var changes []map[string]any
	for _, c := range r.Changes {
		m := map[string]any{"register": c.Register, "wrote": c.Wrote}
		if c.KnowsBefore {
			m["before"] = c.Before
		}
		if c.KnowsAfter {
			m["after"] = c.After
		}
		if bits := c.Changed(); bits != "" {
			m["changed_bits"] = bits
		}
		changes = append(changes, m)
	}
	if changes != nil {
		out["changes"] = changes
	}
	if r.Bytes != nil {
		out["at"], out["bytes"] = r.At, hex.EncodeToString(r.Bytes)
	}
	var found []map[string]any
	for _, f := range r.Found {
		m := map[string]any{"address": f.Address, "answered": f.Answered}
		if f.Part != "" {
			m["part"] = f.Part
		}
		if len(f.Near) > 0 {
			m["one_bit_from"] = f.Near
		}
		found = append(found, m)
	}
	if found != nil {
		out["found"] = found
	}
	return out
}

func valueJSON(v operate.Named) map[string]any {
	m := map[string]any{"name": v.Name, "meaning": v.Meaning()}
	if v.Bits > 0 { // of a text there are none
		m["raw"], m["hex"] = v.Raw, v.Hex()
	}
	if v.Number != nil {
		m["value"] = coding.Text(v.Number)
	}
	if v.Unit != "" {
		m["unit"] = v.Unit
	}
	if v.Code != "" {
		m["code"] = v.Code
	}
	if v.Fault != "" {
		m["fault"] = v.Fault
	}
	return m
}

// plans shows what operations would send.
func (o *doOptions) plans(l *bench.Link, texts []string, ops []*operation.Operation) error {
	var out []map[string]any
	for i, op := range ops {
		steps, err := op.Fixed()
		entry := map[string]any{"operation": texts[i]}
		switch {
		case op.Verb == operation.Scan:
			steps = nil
			for _, p := range op.Probes(l.Parts()) {
				steps = append(steps, operation.Step{Texts: []string{p.Text}})
			}
		case op.Verb == operation.Raw:
			steps = []operation.Step{{Texts: []string{op.Text}}}
		case err != nil && op.Verb == operation.Write:
			// What else stands in the register decides what is written.
			if steps, err = op.Part.ReadSteps(op.About(), nil); err != nil {
				return fmt.Errorf("%q: %w", texts[i], err)
			}
			entry["then"] = "what was read is written with the new bits, and read back"
		case err != nil:
			return fmt.Errorf("%q: %w", texts[i], err)
		}
		var list []map[string]any
		dev := 0
		if op.Part != nil {
			dev = op.Part.Index
		}
		about := ""
		if op.Pattern != nil {
			about = op.Part.Map.About(op.Pattern)
		}
		if about != "" {
			entry["about"] = about
		}
		if !o.asJSON {
			fmt.Fprintf(stdout, "%s\n", safe.Text(strings.TrimSuffix(texts[i]+"   "+about, "   ")))
		}
		for _, s := range steps {
			for k, text := range s.Texts {
				m := map[string]any{"text": text}
				d, err := intent.Duration(l.Kind, l.Model.Tap(), text, l.BitWith(dev))
				if err != nil {
					return fmt.Errorf("%q: %w", texts[i], err)
				}
				m["duration_ps"] = int64(d)
				rows := scoreRows(s, k)
				m["bits"] = rows
				list = append(list, m)
				meaning := ""
				if p, err := intent.New(l.Kind, l.Model.Tap(), text, l.BitWith(dev)); err == nil && op.Verb == operation.Raw {
					if x, known := operation.Of(l.Parts(), &p.Record, nil); known {
						meaning = x.Sentence()
						m["meaning"] = meaning
					}
				}
				if !o.asJSON {
					fmt.Fprintf(stdout, "  %s   %s\n", safe.Text(text), d.Round(4))
					if meaning != "" {
						fmt.Fprintf(stdout, "    %s\n", safe.Text(meaning))
					}
					printRows(rows)
				}
			}
		}
		if then, has := entry["then"]; has && !o.asJSON {
			fmt.Fprintf(stdout, "  then %s\n", then)
		}
		entry["transactions"] = list
		out = append(out, entry)
	}
	if o.asJSON {
		return printJSON(out)
	}
	return nil
}

// scoreRow is one cell of a planned transaction.
type scoreRow struct {
	Span    int    `json:"span"`
	From    int    `json:"from_bit"`
	Bits    int    `json:"bits"`
	Line    string `json:"line"`
	Sent    string `json:"sent,omitempty"`
	Meaning string `json:"meaning"`
}

func scoreRows(s operation.Step, k int) []scoreRow {
	out := []scoreRow{}
	for _, r := range s.Rows() {
		if len(s.Texts) > 1 && r.Span != k {
			continue
		}
		row := scoreRow{Span: r.Span + 1, From: r.From, Bits: r.Bits, Line: "in", Sent: r.Sent, Meaning: r.Meaning}
		if r.Line == access.Out {
			row.Line = "out"
		}
		out = append(out, row)
	}
	return out
}

func printRows(rows []scoreRow) {
	for _, r := range rows {
		sent := r.Sent
		if r.Line == "in" && sent == "" {
			sent = strings.Repeat("·", min(r.Bits, 16))
		}
		bits := fmt.Sprintf("bits %3d to %3d", r.From, r.From+r.Bits-1)
		if r.Bits == 0 {
			bits = "" // as many as there are
		}
		io.WriteString(stdout, fmt.Sprintf("    %-4s %-16s %-18s %s\n", r.Line, bits, sent, safe.Text(r.Meaning)))
	}
}

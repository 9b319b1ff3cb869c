package main

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/quantity"
)

// parseMessage reads a message: NAME ID LENGTH PERIOD, the identifier with
// more than three digits where it is extended, then fd or switch.
func parseMessage(text string) (can.Message, error) {
	w := strings.Fields(text)
	if len(w) < 4 {
		return can.Message{}, fmt.Errorf("%q: write a name, an identifier in hex, a number of bytes and a period, as 'status 2A0 8 10ms'", text)
	}
	m := can.Message{Name: w[0]}
	id, err := can.ParseID(w[1])
	if err != nil {
		return m, fmt.Errorf("%q: %w", text, err)
	}
	m.Frame = can.Frame{ID: id.ID, Extended: id.Extended}
	n, err := strconv.Atoi(w[2])
	if err != nil || n < 0 || n > 64 {
		return m, fmt.Errorf("%q: %q is no number of bytes from 0 to 64", text, w[2])
	}
	if m.Period, err = quantity.ParseSpan(w[3]); err != nil {
		return m, fmt.Errorf("%q: %w", text, err)
	}
	for _, x := range w[4:] {
		switch x {
		case "fd":
			m.Frame.FD = true
		case "switch":
			m.Frame.FD, m.Frame.Switched = true, true
		default:
			return m, fmt.Errorf("%q: after the period may stand fd and switch", text)
		}
	}
	_, padding, ok := can.Code(n, m.Frame.FD)
	if !ok {
		return m, fmt.Errorf("%q: a classic frame has at most 8 bytes", text)
	}
	m.Frame.Data = make([]byte, n+padding)
	return m, nil
}

func calcCANLoad() *cobra.Command {
	var rate, data string
	var texts []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "can-load",
		Short: "Calculate the load of a CAN bus and the worst waiting times",
		Long: `Adds up messages, each given as 'NAME ID LENGTH PERIOD', after it fd or switch.
Without stuff bits and with as many as there can be; a message waits at worst for
one that has begun and for all of higher priority.`,
		Example: `  gavrix calc can-load --rate 250k --message 'status 2A0 8 10ms' --message 'heartbeat 712 1 100ms'`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := quantity.ParseRate(rate)
			if err != nil {
				return fmt.Errorf("--rate: %w", err)
			}
			var dr quantity.Rate
			if data != "" {
				if dr, err = quantity.ParseRate(data); err != nil {
					return fmt.Errorf("--data-rate: %w", err)
				}
			}
			var ms []can.Message
			for _, t := range texts {
				m, err := parseMessage(t)
				if err != nil {
					return fmt.Errorf("--message %w", err)
				}
				if i := slices.IndexFunc(ms, func(o can.Message) bool { return o.Frame.ID == m.Frame.ID && o.Frame.Extended == m.Frame.Extended }); i >= 0 {
					return fmt.Errorf("--message %q has the identifier of %s: each belongs to one sender", m.Name, ms[i].Name)
				}
				ms = append(ms, m)
			}
			if !slices.ContainsFunc(ms, func(m can.Message) bool { return m.Frame.Switched }) {
				if err := idle(cmd, "without a message with switch", "data-rate"); err != nil {
					return err
				}
			}
			l, err := can.LoadOf(ms, can.UsualTiming(r, dr))
			if err != nil {
				return err
			}
			return printLoad(&l, asJSON)
		},
	}
	fl := c.Flags()
	fl.StringVar(&rate, "rate", "", "nominal bit rate")
	fl.StringVar(&data, "data-rate", "", "bit rate of the data phase")
	fl.StringArrayVar(&texts, "message", nil, "a message (repeatable)")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	return c
}

func printLoad(l *can.Load, asJSON bool) error {
	late := false
	type row struct {
		Name     string  `json:"name"`
		ID       string  `json:"id"`
		Least    int     `json:"least_bits"`
		Most     int     `json:"most_bits"`
		Share    float64 `json:"most_percent"`
		Response float64 `json:"worst_response_ms"`
		Late     bool    `json:"late"`
	}
	var rows []row
	for _, m := range l.Messages {
		digits := 3
		if m.Frame.Extended {
			digits = 8
		}
		rows = append(rows, row{m.Name, fmt.Sprintf("%0*X", digits, m.Frame.ID), m.LeastBits, m.MostBits, 100 * float64(m.Most) / float64(m.Period), math.Round(m.Response.Seconds()*1e6) / 1e3, m.Late})
		late = late || m.Late
	}
	switch {
	case asJSON:
		err := printJSON(struct {
			Least    float64 `json:"least_percent"`
			Most     float64 `json:"most_percent"`
			Messages []row   `json:"messages"`
		}{100 * l.Least, 100 * l.Most, rows})
		if err != nil {
			return err
		}
	default:
		fmt.Fprintf(stdout, "load %.1f %% without stuff bits, at most %.1f %%\n   id        bits         at most   waits at worst\n", 100*l.Least, 100*l.Most)
		for _, r := range rows {
			wait := fmt.Sprintf("%.3f ms", r.Response)
			if r.Late {
				wait = "may come later than the next one is due"
			}
			fmt.Fprintf(stdout, "   %-8s  %3d to %3d  %6.2f %%   %-24s %s\n", r.ID, r.Least, r.Most, r.Share, wait, r.Name)
		}
	}
	if late {
		return exitStatus(found)
	}
	return nil
}

package traffic

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sending"
	"gavrix.org/gavrix/core/setpoint"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// plan is what is sent by itself, and how far it has come.
type plan struct {
	text string
	stop context.CancelFunc

	mu   sync.Mutex
	done sending.Progress
	err  error
	over bool
}

// draw shows it in a line.
func (p *plan) draw(a cells.Area, y int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	x := a.Text(0, y, cells.Head, "SENDING")
	x = a.Text(x+2, y, cells.Plain, safe.Text(p.text))
	style := cells.Strong
	text := p.done.String()
	switch {
	case p.err != nil && !errors.Is(p.err, context.Canceled):
		style, text = cells.Bad, "ended: "+p.err.Error()
		if p.done.Sent > 0 {
			text += "   before that " + p.done.String()
		}
	case p.err != nil:
		text = "ended by you: " + text
	case p.over:
		text = "all done: " + text
	case p.done.Sent == 0:
		style, text = cells.Quiet, "waits"
	default:
		text += "; x ends it"
	}
	if p.done.Failed > 0 {
		style = cells.Bad
	}
	a.Text(x+2, y, style, safe.Text(text))
}

// begin sends by a plan in the background, in the place of the one before.
func (v *View) begin(h ui.Host, text string, plans func() (*sending.Plan, error)) tea.Cmd {
	v.end()
	ctx, stop := context.WithCancel(context.Background())
	p := &plan{text: text, stop: stop}
	v.plan = p
	s, b := h.Session(), h.Bench().Still()
	return func() tea.Msg {
		defer stop()
		todo, err := plans()
		if err == nil {
			_, err = sending.Run(ctx, s, b, todo, func(now sending.Progress) {
				p.mu.Lock()
				p.done = now
				p.mu.Unlock()
			})
		}
		p.mu.Lock()
		p.over, p.err = true, err
		p.mu.Unlock()
		return nil
	}
}

// end ends what is being sent; false: nothing is.
func (v *View) end() bool {
	if v.plan == nil {
		return false
	}
	v.plan.stop()
	v.plan.mu.Lock()
	defer v.plan.mu.Unlock()
	return !v.plan.over
}

// item reads what to send on the selected link.
func item(h ui.Host, text string) ([]sending.Item, error) {
	l := h.Link()
	if l == nil {
		return nil, fmt.Errorf("no link is selected")
	}
	it, err := sending.What(l, text)
	if err != nil {
		return nil, err
	}
	if why := it.Refused(h.Session().Info(l.Index)); why != "" {
		return nil, errors.New(why)
	}
	return []sending.Item{it}, nil
}

// repeat reads N TIME TEXT.
func (v *View) repeat(h ui.Host, arg string) (tea.Cmd, error) {
	w := strings.SplitN(arg, " ", 3)
	if len(w) < 3 {
		return nil, fmt.Errorf(`write N TIME TEXT, as repeat 20 50ms SNAP\n; N 0 is without end`)
	}
	n, err := strconv.Atoi(w[0])
	if err != nil || n < 0 {
		return nil, fmt.Errorf("%q is no count: write how often, 0 without end", w[0])
	}
	every, err := quantity.ParseSpan(w[1])
	if err != nil {
		return nil, fmt.Errorf("%q is no time: write 50ms", w[1])
	}
	items, err := item(h, w[2])
	if err != nil {
		return nil, err
	}
	p := &sending.Plan{Items: items, Times: n, Every: every}
	if err := p.Valid(); err != nil {
		return nil, err
	}
	often := fmt.Sprintf("%d times ", n)
	if n == 0 {
		often = ""
	}
	return v.begin(h, fmt.Sprintf("%severy %s: %s", often, every, w[2]), func() (*sending.Plan, error) { return p, nil }), nil
}

// message reads NAME VALUE = QUANTITY, ...
func (v *View) message(h ui.Host, arg string) (tea.Cmd, error) {
	items, err := item(h, "message "+arg)
	if err != nil {
		return nil, err
	}
	return v.begin(h, "message "+arg, func() (*sending.Plan, error) { return &sending.Plan{Items: items, Times: 1}, nil }), nil
}

// when reads FILTER send IT.
func (v *View) when(h ui.Host, arg string) (tea.Cmd, error) {
	cond, text, has := strings.Cut(arg, " send ")
	if !has {
		return nil, fmt.Errorf("write FILTER send IT, as when hull errors send 2A5 00")
	}
	f, bad := filter.Parse(cond, v.find.known(h))
	if bad != nil {
		return nil, bad
	}
	items, err := item(h, text)
	if err != nil {
		return nil, err
	}
	p := &sending.Plan{Items: items, When: f}
	return v.begin(h, "when "+arg, func() (*sending.Plan, error) { return p, nil }), nil
}

// again reads the name of a list, or of a capture.
func (v *View) again(h ui.Host, path string) (tea.Cmd, error) {
	if path == "" {
		return nil, fmt.Errorf("write the name of a list, or of a recorded capture (.pcapng)")
	}
	s, b := h.Session(), h.Bench().Still()
	return v.begin(h, filepath.Base(path), func() (*sending.Plan, error) {
		raw, err := regular.Open(path)
		if err != nil {
			return nil, err
		}
		defer raw.Close()
		if !strings.EqualFold(filepath.Ext(path), ".pcapng") {
			text, err := regular.Read(path, mostText)
			if err != nil {
				return nil, err
			}
			items, err := sending.List(b, filepath.Base(path), string(text))
			return &sending.Plan{Items: items, Times: 1}, err
		}
		store, err := pcapng.Read(raw)
		if store == nil {
			return nil, err
		}
		items, err := sending.OfCapture(store.Snapshot(), &s.Store().Meta, func(*record.Record) bool { return true }, 0, quantity.Forever, false, nil)
		if err == nil && items == nil {
			err = fmt.Errorf("it holds nothing that could be sent on the links of this bench")
		}
		return &sending.Plan{Items: items, Times: 1, Spaced: true}, err
	}), nil
}

// planCommands are those about sending by itself.
func (v *View) planCommands(h ui.Host) []ui.Command {
	tried := func(f func(ui.Host, string) (tea.Cmd, error)) func(string) tea.Cmd {
		return func(arg string) tea.Cmd {
			cmd, err := f(h, arg)
			if err != nil {
				h.Warn("not sent: %v", err)
			}
			return cmd
		}
	}
	return []ui.Command{
		{Name: "message", Args: "NAME X=Y", Help: "send a described message with its values, as wanted=3 bar", Run: tried(v.message), Complete: func(string) []string {
			if l := h.Link(); l != nil {
				return setpoint.Messages(l)
			}
			return nil
		}},
		{Name: "repeat", Args: "N TIME TEXT", Help: `send again and again, as 20 50ms SNAP\n`, Run: tried(v.repeat)},
		{Name: "when", Args: "FILTER send IT", Help: "send for each record that fits, from now on", Run: tried(v.when), Complete: func(arg string) []string {
			if strings.Contains(arg, " send ") {
				return nil
			}
			return filter.Complete(arg, v.find.known(h))
		}},
		{Name: "send-file", Args: "FILE", Help: "send the lines of a list, or what the MCU sent in a .pcapng", Run: tried(v.again), Complete: ui.Files},
		{Name: "end-sending", Keys: []string{"x"}, Help: "end what is sent by itself", Run: func(string) tea.Cmd {
			if !v.end() {
				v.plan = nil
				h.Say("nothing is being sent")
			}
			return nil
		}},
	}
}

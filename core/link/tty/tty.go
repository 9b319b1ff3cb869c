// Package tty watches and uses a serial port of the operating system, in the
// place of the MCU's end of a link.
package tty

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Kind is the kind of bus that a port carries.
var Kind = uart.Kind.Name

// Resolution is how exact the times of a port are: drivers deliver what came
// in batches, after up to this time.
const Resolution = 16 * quantity.Millisecond

// retry is the time between two tries to open a port that is not there.
const retry = 100 * time.Millisecond

// leastPause is how long nothing comes in before what the MCU sends ends a run: the system may
// give the characters of one message in pieces.
const leastPause = 2 * quantity.Millisecond

// maxRun is the number of characters after which a run is put out.
const maxRun = 4096

// Config says which port to open and how.
type Config struct {
	Path  string
	Rate  quantity.Rate
	Frame uart.Frame
	Flow  string // none, rts-cts or xon-xoff
	// DTR and RTS are on, off or leave: what to do with the modem lines on
	// opening.
	DTR, RTS string
}

// Configured gives the configuration of a port from a rate and a frame in words, as
// 57600 and 8E1, without flow control.
func Configured(path, rate, frame string) (c Config, err error) {
	c.Path = path
	if c.Rate, err = quantity.ParseRate(rate); err != nil {
		return c, fmt.Errorf("rate: %w", err)
	}
	if c.Frame, err = uart.ParseFrame(frame); err != nil {
		return c, fmt.Errorf("frame: %w", err)
	}
	return c, nil
}

// Check says what a port can't do.
func (c Config) Check() error {
	if c.Path == "" {
		return errors.New("no port is named")
	}
	if c.Frame.Data > 8 {
		return fmt.Errorf("%s: the operating system's ports carry 5 to 8 data bits", c.Frame)
	}
	if f := c.Frame; f.Half || f.MSBFirst || f.Inverted || f.Address {
		return fmt.Errorf("%s: the operating system's ports carry 1 or 2 stop bits, the least significant bit first, on a line that is not inverted", f)
	}
	if err := c.Frame.Check(); err != nil {
		return err
	}
	if c.Rate <= 0 {
		return errors.New("the rate must be above 0")
	}
	for _, m := range []string{c.DTR, c.RTS} {
		if m != "" && m != "on" && m != "off" && m != "leave" {
			return fmt.Errorf("modem line: %q; write on, off or leave", m)
		}
	}
	if c.Flow != "" && c.Flow != "none" && c.Flow != "rts-cts" && c.Flow != "xon-xoff" {
		return fmt.Errorf("flow control %q; write none, rts-cts or xon-xoff", c.Flow)
	}
	return nil
}

func (c Config) String() string {
	s := fmt.Sprintf("%s, %s %s", c.Path, c.Rate, c.Frame)
	if c.Flow != "" && c.Flow != "none" {
		s += ", " + c.Flow
	}
	return s
}

// ConfigOf gives the port of a link and how it is opened.
func ConfigOf(l *bench.Link) (Config, error) {
	u, ok := l.Model.(*bench.UART)
	if !ok || l.Port == nil {
		return Config{}, fmt.Errorf("link %s has no serial port", l.Name)
	}
	flow := l.Port.Flow
	if flow == "" {
		flow = u.MCU.Flow.String()
	}
	return Config{Path: l.Port.Path, Rate: u.Wanted, Frame: u.MCU.Frame, Flow: flow, DTR: l.Port.DTR, RTS: l.Port.RTS}, nil
}

// handle is an open port.
type handle interface {
	io.ReadWriteCloser
	counts() counts
}

// Problem is why a port can't be opened: what is seen, and what to do.
type Problem struct {
	Code, Seen, Change string
}

func (p *Problem) Error() string {
	if p.Change == "" {
		return p.Seen
	}
	return p.Seen + "; " + p.Change
}

// Port is one port that is watched. It opens by itself, says when it goes
// away, and opens again when it comes back.
type Port struct {
	cfg   Config
	store *capture.Store
	link  uint16
	start time.Time

	mu       sync.Mutex
	h        handle
	next     *Config // to take over when the port is opened next
	problem  string
	changed  chan struct{} // closed and made anew when h or problem changes
	findings []finding.Finding

	sends chan []byte
	stop  chan struct{}
	once  sync.Once

	running atomic.Bool
	done    chan struct{} // closed when Run is over

	// Of the reader alone.
	run     record.Record
	marks   markParser
	lostAt  quantity.Time
	hadPort bool
}

// New gives a port whose records go to the store as those of the link; times
// count from start. Run must be started by the caller.
func New(cfg Config, store *capture.Store, l uint16, start time.Time) *Port {
	p := &Port{cfg: cfg, store: store, link: l, start: start, sends: make(chan []byte, 64), stop: make(chan struct{}), done: make(chan struct{}), changed: make(chan struct{})}
	p.run = record.Record{Kind: record.Chars, Link: l, From: record.Device, Seen: record.MCU, Origin: record.FromKernel}
	p.run.Each = p.charTime(1)
	p.problem = "not opened yet"
	return p
}

func (p *Port) charTime(n int) quantity.Time {
	return uart.Duration(uart.Settings{Rate: p.cfg.Rate, Frame: p.cfg.Frame}, n)
}

// Now is the time since the start.
func (p *Port) Now() quantity.Time {
	return quantity.Time(time.Since(p.start).Nanoseconds()) * quantity.Nanosecond
}

// Run opens the port, reads from it, and opens it again whenever it went
// away, until Close.
func (p *Port) Run() {
	p.running.Store(true)
	defer close(p.done)
	for {
		changed := p.adopt()
		err := p.cfg.Check()
		var h handle
		var findings []finding.Finding
		if err == nil {
			h, findings, err = open(p.cfg)
		}
		if err != nil {
			p.say(err)
		} else {
			p.opened(h, findings, changed)
			p.use(h)
			if p.closing() {
				return
			}
			if p.pending() {
				continue
			}
			p.lost()
		}
		select {
		case <-p.stop:
			return
		case <-time.After(retry):
		}
	}
}

// Configure implements link.Port: other settings hold from the next opening on,
// which is at once.
func (p *Port) Configure(b *bench.Bench) error {
	if int(p.link) >= len(b.Links) || b.Links[p.link].Port == nil {
		return errors.New("the link was released from its port; open the bench again for that")
	}
	cfg, err := ConfigOf(b.Links[p.link])
	if err == nil {
		p.set(cfg)
	}
	return err
}

func (p *Port) set(cfg Config) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.next == nil && p.cfg == cfg || p.next != nil && *p.next == cfg {
		return
	}
	p.next = &cfg
	if p.h != nil {
		p.h.Close()
	}
}

func (p *Port) pending() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.next != nil
}

// adopt takes changed settings over, and says whether there were any.
func (p *Port) adopt() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.next == nil {
		return false
	}
	p.cfg, p.next = *p.next, nil
	p.run.Each = p.charTime(1)
	return true
}

func (p *Port) closing() bool {
	select {
	case <-p.stop:
		return true
	default:
		return false
	}
}

// turned wakes who waits for the port; the caller holds the lock.
func (p *Port) turned() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// say notes why the port is not open; the capture hears it once.
func (p *Port) say(err error) {
	p.mu.Lock()
	known := p.problem == err.Error()
	wasOpen := p.h != nil
	p.h, p.problem, p.findings = nil, err.Error(), nil
	p.turned()
	var pr *Problem
	if errors.As(err, &pr) {
		p.findings = []finding.Finding{{Severity: finding.Error, Code: pr.Code, Where: finding.Place{Link: p.cfg.Path}, Seen: pr.Seen, Change: pr.Change}}
	}
	p.mu.Unlock()
	if wasOpen || !known && !p.hadPort {
		p.note(record.Lost, err.Error())
		p.hadPort = true
		p.lostAt = p.Now()
	}
}

func (p *Port) note(k record.Kind, text string) {
	level := slog.LevelInfo
	if k == record.Lost {
		level = slog.LevelWarn
	}
	slog.Log(context.Background(), level, "port "+k.String(), "path", p.cfg.Path, "what", text)
	now := p.Now()
	p.store.Put(&record.Record{Kind: k, Link: p.link, Origin: record.FromGavrix, Start: now, End: now, Text: text})
	p.store.Advance(now)
}

func (p *Port) opened(h handle, findings []finding.Finding, changed bool) {
	p.mu.Lock()
	wasOpen := p.problem == "" && p.hadPort
	p.h, p.problem, p.findings = h, "", findings
	p.turned()
	p.mu.Unlock()
	if changed && wasOpen {
		p.note(record.Changed, p.cfg.String())
	} else if p.hadPort {
		now := p.Now()
		p.store.Put(&record.Record{
			Kind: record.Gap, Link: p.link, Origin: record.FromGavrix, Start: p.lostAt, End: now,
			Text: fmt.Sprintf("nothing was seen for %s", (now - p.lostAt).Round(3)),
		})
		p.note(record.Returned, p.cfg.String())
	} else {
		p.note(record.Opened, p.cfg.String())
	}
	p.hadPort = true
}

func (p *Port) lost() {
	p.mu.Lock()
	p.h = nil
	p.problem = p.cfg.Path + " went away; waiting for it to come back"
	p.findings = []finding.Finding{{
		Severity: finding.Error, Code: "port-lost", Where: finding.Place{Link: p.cfg.Path},
		Seen: p.cfg.Path + " went away", Why: "an adapter was pulled out, or its driver ended the connection", Change: "plug it in again; it is opened by itself, and the gap is marked",
	}}
	p.mu.Unlock()
	p.lostAt = p.Now()
	p.note(record.Lost, p.cfg.Path+" went away")
}

// use reads until the port goes away or Close.
func (p *Port) use(h handle) {
	type batch struct {
		data []byte
		err  error
	}
	in := make(chan batch)
	end, turn := make(chan struct{}), make(chan struct{})
	var workers sync.WaitGroup
	workers.Go(func() {
		defer guard.Recover()
		for {
			buf := make([]byte, 4096)
			n, err := h.Read(buf)
			select {
			case in <- batch{buf[:n], err}:
			case <-end:
				return
			}
			if err != nil {
				return
			}
		}
	})
	workers.Go(func() {
		defer guard.Recover()
		for {
			select {
			case <-end:
				return
			case data := <-p.sends:
				// What came in before stands before it.
				select {
				case turn <- struct{}{}:
				case <-end:
				}
				p.write(h, data)
			}
		}
	})
	idle := time.NewTimer(time.Hour)
	defer idle.Stop()
	gap := time.Duration(p.charTime(2)/quantity.Nanosecond) + 20*time.Millisecond
	before := h.counts()
	p.marks = markParser{}
loop:
	for {
		select {
		case b := <-in:
			after := h.counts()
			p.take(b.data, before, after)
			before = after
			if b.err != nil {
				break loop
			}
			idle.Reset(gap)
		case <-idle.C:
			p.endRun(false)
		case <-turn:
			if p.Now()-p.run.End >= max(p.charTime(2), leastPause) {
				p.endRun(false)
			}
		case <-p.stop:
			break loop
		}
	}
	close(end)
	h.Close()
	workers.Wait()
	p.endRun(false)
}

// take adds what came in to the run. All characters of a batch carry the time
// of its delivery.
func (p *Port) take(data []byte, before, after counts) {
	now := p.Now()
	if len(data) > 0 && len(p.run.Data) == 0 {
		p.run.Start = now
	}
	p.marks.feed(data, func(c byte, f record.Flags) {
		if f = tell(f, before, after); f != 0 {
			p.run.Marks = append(p.run.Marks, record.Mark{Index: len(p.run.Data), Flags: f})
		}
		p.run.Data = append(p.run.Data, c)
		p.run.Offsets = append(p.run.Offsets, now-p.run.Start)
		if len(p.run.Data) >= maxRun {
			p.run.End = now
			p.endRun(true)
			p.run.Start = now
		}
	})
	if before.known && after.known && after.overrun != before.overrun {
		p.run.Marks = append(p.run.Marks, record.Mark{Index: len(p.run.Data), Flags: record.Overrun})
	}
	p.run.End = now
	if len(p.run.Data) > 0 {
		p.store.Open(&p.run)
	}
	p.store.Advance(now)
}

func (p *Port) endRun(more bool) {
	if len(p.run.Data) > 0 || len(p.run.Marks) > 0 {
		p.run.More = more
		p.store.Put(&p.run)
	}
	p.run.Data, p.run.Offsets, p.run.Marks = p.run.Data[:0], p.run.Offsets[:0], p.run.Marks[:0]
	p.store.Advance(p.Now())
}

// write sends and notes what was sent. The note carries the time at which the
// bytes were handed to the system, and their time on the line.
func (p *Port) write(h handle, data []byte) {
	start := p.Now()
	n, err := h.Write(data)
	if n > 0 {
		sent := data[:n]
		p.store.Put(&record.Record{
			Kind: record.Chars, Link: p.link, From: record.MCU, Seen: record.Nobody, Origin: record.Reconstructed,
			Start: start, End: start + p.charTime(n), Each: p.charTime(1), Data: sent,
		})
	}
	if err != nil {
		p.note(record.Changed, fmt.Sprintf("%d of %d bytes were sent: %v", n, len(data), err))
	}
	p.store.Advance(p.Now())
}

// openWait is how long bytes to send wait for the port to open.
const openWait = 3 * time.Second

// Do implements link.Port: bytes to send wait for the port to open.
func (p *Port) Do(ctx context.Context, _ uint16, i link.Intent) (link.Outcome, error) {
	send, ok := i.(link.Send)
	if !ok {
		info := p.Info(0)
		return link.Outcome{}, errors.New(info.Refuses(i))
	}
	p.mu.Lock()
	frame := p.cfg.Frame
	p.mu.Unlock()
	if frame.Data > 0 {
		if err := frame.Carries(send.Data); err != nil {
			return link.Outcome{}, err
		}
	}
	limit := time.NewTimer(openWait)
	defer limit.Stop()
	for {
		p.mu.Lock()
		open, problem, changed := p.h != nil, p.problem, p.changed
		p.mu.Unlock()
		if open {
			break
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return link.Outcome{}, link.Ended(ctx)
		case <-p.stop:
			return link.Outcome{}, context.Canceled
		case <-limit.C:
			return link.Outcome{}, fmt.Errorf("%w: %s", link.ErrNotOpen, problem)
		}
	}
	select {
	case p.sends <- append([]byte(nil), send.Data...):
		return link.Outcome{At: p.Now(), OK: true}, nil
	default:
		return link.Outcome{}, errors.New("the port does not take more: earlier bytes still wait (flow control?)")
	}
}

// takes says what can be asked of a port.
var takes = map[string]string{
	link.CrossVerb:     "the wires of a real port are exchanged by hand",
	link.LoopVerb:      "the wires of a real port are joined by hand",
	link.SendVerb:      "",
	link.TransactVerb:  "a serial port sends characters: send",
	link.CutVerb:       "the wires of a real port are cut by hand",
	link.HoldVerb:      "the lines of a real port are not Gavrix's to hold",
	link.PowerVerb:     "the supply of a real device is not Gavrix's to switch",
	link.ConfigureVerb: "a real port is set up by the bench",
}

// Info implements link.Port.
func (p *Port) Info(uint16) link.Info {
	p.mu.Lock()
	defer p.mu.Unlock()
	return link.Info{
		Port: p.cfg.Path, Role: "MCU", Resolution: Resolution, Marks: markKinds,
		Open: p.h != nil, Problem: p.problem, Findings: append([]finding.Finding(nil), p.findings...), Takes: takes,
	}
}

// Close implements link.Port: it gives the port back.
func (p *Port) Close() {
	p.once.Do(func() {
		close(p.stop)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.h != nil {
			p.h.Close()
		}
	})
	if p.running.Load() {
		<-p.done
	}
}

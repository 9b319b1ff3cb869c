package machine

import "gavrix.org/gavrix/core/quantity"

// Interrupt is a line into the interrupt controller.
type Interrupt struct {
	Name     string
	Priority int  // 0 is the most urgent
	Enabled  bool // at the controller
	Handler  Routine
	Entry    int // cycles from the flag to the handler's first instruction
	Exit     int // cycles from the handler's last instruction to the return

	Count   int           // how often it was entered
	Busy    quantity.Time // time spent, entry and exit included
	Latest  quantity.Time // worst time from flag to first instruction
	pended  bool
	up      bool
	since   quantity.Time
	number  int
	sources []interface{ asserts() bool }
}

// Routine is what a handler does.
type Routine interface {
	// Run does what is due in a phase, 0 at the first instruction, and gives the time
	// until the next phase. Done ends the handler.
	Run(phase int) (wait quantity.Time, done bool)
}

// RoutineFunc is a function as a Routine.
type RoutineFunc func(phase int) (wait quantity.Time, done bool)

// Run implements Routine.
func (f RoutineFunc) Run(phase int) (quantity.Time, bool) { return f(phase) }

// Loop is what the main loop does besides: a look at times of its own.
type Loop struct {
	Phase, Period quantity.Time // Period 0: again as soon as one look is over
	Look          func() (cost quantity.Time)
}

type activation struct {
	line    *Interrupt
	phase   int
	due     quantity.Time // when the present phase is over, while it runs
	left    quantity.Time // what is left of it, while another runs
	entered quantity.Time
	leaving bool
}

// CPU is the processor: handlers nested by priority above a main loop.
type CPU struct {
	Busy quantity.Time // in handlers and looks
	Hung bool

	m      *Machine
	stack  []activation
	gen    uint32
	masked bool
	maskAt quantity.Time
	loop   *Loop
	turn   int // of the loop
	owed   bool
	lookN  uint32
}

// AddInterrupt adds a line to the controller, for ports and channels that share it.
func (m *Machine) AddInterrupt(i *Interrupt, sources ...interface{ asserts() bool }) *Interrupt {
	i.number = len(m.lines)
	i.sources = append(i.sources, sources...)
	m.lines = append(m.lines, i)
	return i
}

// Interrupts gives the lines, in the order in which they were added.
func (m *Machine) Interrupts() []*Interrupt { return m.lines }

// Number is the line's number in marks.
func (i *Interrupt) Number() int { return i.number }

// Source lets another part raise the interrupt.
func (i *Interrupt) Source(s interface{ asserts() bool }) { i.sources = append(i.sources, s) }

// Pend raises an interrupt by itself, as a timer or a pin does.
func (m *Machine) Pend(i *Interrupt) {
	i.pended = true
	m.Changed()
}

// Mask holds all interrupts off, or lets them come again.
func (m *Machine) Mask(on bool) {
	c := &m.CPU
	switch {
	case on && !c.masked:
		c.maskAt = m.now
	case !on && c.masked:
		m.Log.put(Mark{At: c.maskAt, To: m.now, Kind: Masked, Serial: -1})
	}
	c.masked = on
	m.Changed()
}

func (i *Interrupt) asserted() bool {
	if i.pended {
		return true
	}
	for _, s := range i.sources {
		if s.asserts() {
			return true
		}
	}
	return false
}

// dispatch enters the most urgent interrupt that may come now.
func (c *CPU) dispatch() {
	var best *Interrupt
	for _, i := range c.m.lines {
		up := i.asserted()
		if up && !i.up {
			i.since = c.m.now
			c.m.mark(Raised, i.number, 0, -1)
		}
		if i.up = up; up && i.Enabled && (best == nil || i.Priority < best.Priority) {
			best = i
		}
	}
	if best == nil || c.masked || c.Hung {
		return
	}
	if n := len(c.stack); n > 0 {
		top := &c.stack[n-1]
		if top.line.Priority <= best.Priority {
			return
		}
		top.left = top.due - c.m.now
	}
	if best.Handler == nil {
		c.Hung = true
		c.m.mark(Hung, best.number, 0, -1)
		return
	}
	best.Count++
	best.pended = false
	c.stack = append(c.stack, activation{line: best, entered: c.m.now})
	best.Latest = max(best.Latest, c.m.now+c.m.Cycles(best.Entry)-best.since)
	c.wait(c.m.Cycles(best.Entry))
}

// wait lets the running handler go on after a time.
func (c *CPU) wait(t quantity.Time) {
	top := &c.stack[len(c.stack)-1]
	top.due = c.m.now + t
	c.gen++
	c.m.at(top.due, stepped, 0, c.gen)
}

func (c *CPU) stepped(gen uint32) {
	if gen != c.gen || len(c.stack) == 0 {
		return // another came between
	}
	top := &c.stack[len(c.stack)-1]
	c.m.dirty = true
	if top.leaving {
		c.leave()
		return
	}
	line, phase := top.line, top.phase
	top.phase++
	wait, done := line.Handler.Run(phase)
	top = &c.stack[len(c.stack)-1]
	if done {
		top.leaving = true
		wait = c.m.Cycles(line.Exit)
	}
	c.wait(wait)
}

// leave returns from the running handler.
func (c *CPU) leave() {
	n := len(c.stack) - 1
	top := c.stack[n]
	c.stack = c.stack[:n]
	stay := c.m.now - top.entered
	top.line.Busy += stay
	top.line.up = false // a flag that still stands counts from now
	c.m.Log.put(Mark{At: top.entered, To: c.m.now, Kind: Handled, Who: top.line.number, Serial: -1})
	if n > 0 {
		c.wait(c.stack[n-1].left)
		return
	}
	c.Busy += stay
	if c.owed {
		c.owed = false
		c.look()
	}
}

// stall keeps the running handler waiting while the engine has the bus.
func (c *CPU) stall(t quantity.Time) {
	if t <= 0 {
		return
	}
	if n := len(c.stack); n > 0 {
		c.stack[n-1].due += t
		c.gen++
		c.m.at(c.stack[n-1].due, stepped, 0, c.gen)
	}
}

// SetLoop gives the main loop something to do.
func (m *Machine) SetLoop(l *Loop) {
	m.CPU.loop = l
	m.CPU.turn = 0
	m.CPU.lookN++
	m.at(l.Phase, looked, 0, m.CPU.lookN)
}

// StopLoop ends it.
func (m *Machine) StopLoop() {
	m.CPU.loop = nil
	m.CPU.lookN++
}

func (c *CPU) looked(gen uint32) {
	if c.loop == nil || gen != c.lookN {
		return
	}
	if len(c.stack) > 0 || c.Hung {
		c.owed = true
		return
	}
	c.look()
}

func (c *CPU) look() {
	l := c.loop
	if l == nil {
		return
	}
	cost := l.Look()
	c.Busy += cost
	if cost > 0 {
		c.m.Log.put(Mark{At: c.m.now, To: c.m.now + cost, Kind: Looked, Serial: -1})
	}
	c.m.dirty = true
	if c.loop != l {
		return
	}
	if l.Period <= 0 {
		c.m.at(c.m.now+max(cost, 1), looked, 0, c.lookN)
		return
	}
	// A look that came late leaves out those that are past.
	c.turn = max(c.turn+1, int((c.m.now+cost-l.Phase+l.Period-1)/l.Period))
	c.m.at(l.Phase+quantity.Time(c.turn)*l.Period, looked, 0, c.lookN)
}

// Running gives the interrupts whose handlers are entered, the innermost last.
func (c *CPU) Running() []*Interrupt {
	var out []*Interrupt
	for i := range c.stack {
		out = append(out, c.stack[i].line)
	}
	return out
}

package sim

import (
	"context"
	"sync"
	"time"

	"gavrix/core/bench"
	"gavrix/core/capture"
	"gavrix/core/link"
	"gavrix/core/quantity"
)

// Headless is a session on a world whose time goes on only while somebody
// waits, as fast as it can.
type Headless struct {
	World *World
	Bench *bench.Bench
}

// NewHeadless gives a session on a new world.
func NewHeadless(b *bench.Bench) *Headless {
	return &Headless{World: New(b, capture.NewStore(MetaOf(b))), Bench: b}
}

// Store implements link.Session.
func (h *Headless) Store() *capture.Store { return h.World.store }

// Now implements link.Session.
func (h *Headless) Now() quantity.Time { return h.World.now }

// Info implements link.Session.
func (h *Headless) Info(uint16) link.Info { return simInfo }

var simInfo = link.Info{Simulated: true, Role: "MCU", Levels: true, Marks: "all", Open: true}

// Send implements link.Session.
func (h *Headless) Send(l uint16, data []byte) error {
	return h.World.Put(Input{Link: h.World.names[l], Send: data})
}

// Wait implements link.Session.
func (h *Headless) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	seen := uint64(0)
	for {
		if v := h.World.store.Version(); v != seen {
			seen = v
			if cond(h.World.store.Snapshot()) {
				return nil
			}
		}
		if h.World.now >= until {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		h.World.RunTo(min(until, max(h.World.NextEvent(), h.World.now+1)))
	}
}

// Pace says how virtual time goes on.
type Pace struct {
	Running bool
	// Speed is virtual seconds a second; 1 is real time.
	Speed float64
	// Reached is the speed that the machine really manages.
	Reached float64
}

// Runner ties a world to the wall clock. Its methods may be called from any
// goroutine.
type Runner struct {
	world *World
	store *capture.Store

	mu     sync.Mutex
	pace   Pace
	wall   time.Time // wall time and virtual time from which the pace counts
	origin quantity.Time
	halt   *capture.Trigger // stops time; nil when none is armed
	halted *Halt            // by it, until somebody asked

	stop chan struct{}
	done chan struct{}
	once sync.Once
}

// Halt is where a trigger stopped time.
type Halt struct {
	Link uint16
	At   quantity.Time
}

const beat = 4 * time.Millisecond

// NewRunner gives a runner of the world; Run must be started by the caller.
func NewRunner(w *World) *Runner {
	return &Runner{world: w, store: w.store, pace: Pace{Running: true, Speed: 1, Reached: 1}, stop: make(chan struct{}), done: make(chan struct{})}
}

// Run lets time go on until Stop.
func (r *Runner) Run() {
	defer close(r.done)
	r.mu.Lock()
	r.restart()
	r.mu.Unlock()
	t := time.NewTicker(beat)
	defer t.Stop()
	for {
		select {
		case <-r.stop:
			return
		case <-t.C:
			r.mu.Lock()
			r.advance()
			r.mu.Unlock()
		}
	}
}

// Stop ends Run and waits for it.
func (r *Runner) Stop() {
	r.once.Do(func() { close(r.stop) })
	<-r.done
}

func (r *Runner) restart() { r.wall, r.origin = time.Now(), r.world.now }

// advance runs the world to where the pace says it should be, in slices, so
// that a speed which the machine can't reach does not hold up the callers.
func (r *Runner) advance() {
	if !r.pace.Running {
		return
	}
	start := time.Now()
	target := r.origin + quantity.Time(start.Sub(r.wall).Seconds()*r.pace.Speed*float64(quantity.Second))
	for r.world.now < target {
		slice := max(quantity.Time(float64(quantity.Millisecond)*r.pace.Speed), 1)
		if r.halt == nil {
			r.world.RunTo(min(target, r.world.now+slice))
		} else if r.watched(min(target, r.world.now+slice)) {
			return
		}
		if time.Since(start) > 3*beat {
			missing := float64(target-r.world.now) / float64(quantity.Second)
			if span := start.Sub(r.wall).Seconds(); missing > 0.1*r.pace.Speed && span > 0 {
				r.pace.Reached = float64(r.world.now-r.origin) / float64(quantity.Second) / span
				r.restart()
			}
			return
		}
	}
	r.pace.Reached = r.pace.Speed
}

// watched runs the world event by event, and says whether the trigger stopped it.
func (r *Runner) watched(to quantity.Time) bool {
	for r.world.now < to {
		before := r.store.Version()
		r.world.RunTo(min(to, max(r.world.NextEvent(), r.world.now+1)))
		if r.store.Version() == before {
			continue
		}
		if link, at, ok := r.halt.Fired(r.store.Snapshot()); ok {
			r.halt, r.halted, r.pace.Running = nil, &Halt{link, at}, false
			return true
		}
	}
	return false
}

// StopAt lets time go on until the trigger fires; nil disarms it.
func (r *Runner) StopAt(t *capture.Trigger) {
	r.do(func() {
		r.halt, r.halted = t, nil
		if t != nil {
			r.pace.Running = true
		}
	})
}

// Halted gives, once, where a trigger stopped time.
func (r *Runner) Halted() (Halt, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.halted == nil {
		return Halt{}, false
	}
	h := *r.halted
	r.halted = nil
	return h, true
}

// do runs f between two events, at the present moment of the pace.
func (r *Runner) do(f func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.advance()
	f()
	r.restart()
}

// Pace gives the present pace.
func (r *Runner) Pace() Pace {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.pace
}

// SetRunning starts or stops time.
func (r *Runner) SetRunning(on bool) { r.do(func() { r.pace.Running = on }) }

// SetSpeed sets the virtual seconds a second, from a nanosecond to a thousand
// seconds.
func (r *Runner) SetSpeed(s float64) {
	r.do(func() { r.pace.Speed = min(max(s, 1e-9), 1000); r.pace.Reached = r.pace.Speed })
}

// StepChar stops time and goes on to the end of the next character.
func (r *Runner) StepChar() {
	r.do(func() { r.pace.Running = false; r.world.StepChar(quantity.Second) })
}

// StepBit stops time and goes on by one bit of a link.
func (r *Runner) StepBit(l uint16) {
	r.do(func() { r.pace.Running = false; r.world.RunTo(r.world.now + r.world.Bit(l)) })
}

// Apply brings a changed bench into the world.
func (r *Runner) Apply(b *bench.Bench) (err error) {
	r.do(func() { err = r.world.Apply(b) })
	return err
}

// Wire breaks or mends a wire of a link.
func (r *Runner) Wire(l uint16, w Wire) (err error) {
	r.do(func() { err = r.world.Put(Input{Link: r.world.names[l], Wire: &w}) })
	return err
}

// Hold makes a can bus stick dominant, or lets it go.
func (r *Runner) Hold(name string, on bool) (err error) {
	r.do(func() { err = r.world.Put(Input{Link: name, Hold: &on}) })
	return err
}

// Store implements link.Session.
func (r *Runner) Store() *capture.Store { return r.store }

// Info implements link.Session.
func (r *Runner) Info(uint16) link.Info { return simInfo }

// Now implements link.Session.
func (r *Runner) Now() quantity.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.world.now
}

// Send implements link.Session.
func (r *Runner) Send(l uint16, data []byte) (err error) {
	r.do(func() { err = r.world.Put(Input{Link: r.world.names[l], Send: append([]byte(nil), data...)}) })
	return err
}

// Wait implements link.Session. While time is stopped it waits on.
func (r *Runner) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	return link.WaitOn(ctx, r.store, r.Now, until, cond)
}

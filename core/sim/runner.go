package sim

import (
	"context"
	"math"
	"sync"
	"sync/atomic"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
)

// Pace says how virtual time goes on.
type Pace struct {
	Running bool
	// Speed is virtual seconds a second; 1 is real time.
	Speed float64
	// Reached is the speed that the machine really manages.
	Reached float64
}

// Runner ties a world to the wall clock. It is a link.Port for all simulated links.
// Its methods may be called from any goroutine; those that only look wait for
// nothing.
type Runner struct {
	world *World
	store *capture.Store
	// bound: the time of the world is that of the wall clock, whatever happens; when
	// the machine falls behind it catches up.
	bound bool

	now  atomic.Int64 // virtual time
	pace atomic.Pointer[Pace]
	info atomic.Pointer[[]link.Info]

	waiting atomic.Int32 // callers that want to do something between two events

	mu     sync.Mutex // of the world and of what follows
	wall   time.Time  // wall time and virtual time from which the pace counts
	origin quantity.Time
	slice  quantity.Time // of virtual time that the machine runs in about a millisecond
	halt   Trigger       // stops time; nil when none is armed
	halted *Halt         // by it, until somebody asked

	changed chan struct{} // the pace did
	stop    chan struct{}
	done    chan struct{}
	once    sync.Once
	started atomic.Bool
}

// Halt is where a trigger stopped time.
type Halt struct {
	Link uint16
	At   quantity.Time
}

// beat is the wall time after which time goes on; most is how long one go may take;
// weighed is the time over which the pace that is reached is measured.
const (
	beat    = 10 * time.Millisecond
	most    = 8 * time.Millisecond
	weighed = 250 * time.Millisecond
)

// NewRunner gives a runner of the world; Run must be started by the caller. With
// bound its time is that of the wall clock since start.
func NewRunner(w *World, bound bool, start time.Time) *Runner {
	r := &Runner{world: w, store: w.store, bound: bound, wall: start, slice: quantity.Millisecond, changed: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{})}
	r.setPace(Pace{Running: true, Speed: 1, Reached: 1})
	r.look()
	return r
}

func (r *Runner) setPace(p Pace) { r.pace.Store(&p) }

// Run implements link.Port: it lets time go on until Close.
func (r *Runner) Run() {
	r.started.Store(true)
	defer close(r.done)
	r.mu.Lock()
	if !r.bound {
		r.restart()
	}
	r.mu.Unlock()
	t := time.NewTicker(beat)
	defer t.Stop()
	for {
		next := t.C
		if !r.Pace().Running {
			next = nil
		}
		select {
		case <-r.stop:
			return
		case <-r.changed:
		case <-next:
			// Where the machine can't reach the pace there is nothing to wait for.
			for behind := true; behind; {
				r.mu.Lock()
				behind = r.advance(most)
				r.mu.Unlock()
				select {
				case <-r.stop:
					return
				default:
				}
			}
		}
	}
}

// Close implements link.Port.
func (r *Runner) Close() {
	r.once.Do(func() { close(r.stop) })
	if r.started.Load() {
		<-r.done
	}
}

func (r *Runner) restart() { r.wall, r.origin = time.Now(), r.world.now }

// advance runs the world to where the pace says it should be, in slices, so
// that a speed which the machine can't reach does not hold up the callers: it goes on
// for so long at most, and not while one of them waits. Behind says that the limit ended it.
func (r *Runner) advance(limit time.Duration) (behind bool) {
	defer func() { r.now.Store(int64(r.world.now)) }()
	p := r.Pace()
	if !p.Running {
		return false
	}
	start := time.Now()
	target := r.origin + quantity.Time(start.Sub(r.wall).Seconds()*p.Speed*float64(quantity.Second))
	for r.world.now < target {
		before, from := time.Now(), r.world.now
		to := min(target, from+r.slice)
		if r.halt == nil {
			r.world.RunTo(to)
		} else if r.watched(to) {
			return false
		}
		r.now.Store(int64(r.world.now))
		if took := time.Since(before); to == from+r.slice && took > 0 {
			// The next slice is to take about a millisecond.
			r.slice = quantity.Time(min(max(float64(r.slice)*float64(time.Millisecond)/float64(took), float64(r.slice)/4), 2*float64(r.slice), float64(quantity.Second)))
			r.slice = max(r.slice, quantity.Microsecond)
		}
		if r.waiting.Load() > 0 {
			return false
		}
		if time.Since(start) > limit {
			if span := start.Sub(r.wall); span >= weighed {
				if reached := float64(r.world.now-r.origin) / float64(quantity.Second) / span.Seconds(); reached < 0.9*p.Speed {
					p.Reached = reached
					r.setPace(p)
					if !r.bound {
						r.restart()
					}
				}
			}
			return true
		}
	}
	// Just after a restart there is nothing yet to be reached.
	if math.Abs(p.Reached-p.Speed) > 0 && start.Sub(r.wall) >= beat {
		p.Reached = p.Speed
		r.setPace(p)
	}
	return false
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
			p := r.Pace()
			p.Running = false
			r.halt, r.halted = nil, &Halt{link, at}
			r.setPace(p)
			return true
		}
	}
	return false
}

// Trigger says whether what it waits for is in a capture that grows, on which link, and at what time
// it was complete.
type Trigger interface {
	Fired(s *capture.Snapshot) (link uint16, at quantity.Time, ok bool)
}

// StopAt lets time go on until the trigger fires; nil disarms it.
func (r *Runner) StopAt(t Trigger) {
	r.do(func(p *Pace) {
		r.halt, r.halted = t, nil
		if t != nil {
			p.Running = true
		}
	})
}

// Halted gives, once, where a trigger stopped time.
func (r *Runner) Halted() (Halt, bool) {
	if r.Pace().Running {
		return Halt{}, false
	}
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
func (r *Runner) do(f func(p *Pace)) {
	r.waiting.Add(1)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.waiting.Add(-1)
	r.advance(most / 4)
	p := r.Pace()
	f(&p)
	r.setPace(p)
	select {
	case r.changed <- struct{}{}:
	default:
	}
	r.look()
	r.now.Store(int64(r.world.now))
	if !r.bound {
		r.restart()
	}
}

// Pace gives the present pace.
func (r *Runner) Pace() Pace { return *r.pace.Load() }

// SetRunning starts or stops time.
func (r *Runner) SetRunning(on bool) { r.do(func(p *Pace) { p.Running = on }) }

// SetSpeed sets the virtual seconds a second, from a nanosecond to a thousand
// seconds.
func (r *Runner) SetSpeed(s float64) {
	r.do(func(p *Pace) { p.Speed = min(max(s, 1e-9), 10_000); p.Reached = p.Speed })
}

// StepChar stops time and goes on to the end of the next character.
func (r *Runner) StepChar() {
	r.do(func(p *Pace) { p.Running = false; r.world.StepChar(quantity.Second) })
}

// StepBit stops time and goes on by one bit of a link.
func (r *Runner) StepBit(l uint16) {
	r.do(func(p *Pace) { p.Running = false; r.world.RunTo(r.world.now + r.world.Bit(l)) })
}

// Configure implements link.Port.
func (r *Runner) Configure(b *bench.Bench) (err error) {
	r.do(func(*Pace) { err = r.world.Apply(b) })
	return err
}

// Do implements link.Port. While time is stopped it waits on.
func (r *Runner) Do(ctx context.Context, l uint16, i link.Intent) (link.Outcome, error) {
	over := make(chan link.Outcome, 1)
	var err error
	r.do(func(*Pace) { err = r.world.Do(r.world.names[l], i, func(o link.Outcome) { over <- o }) })
	if err != nil {
		return link.Outcome{}, err
	}
	select {
	case out := <-over:
		return out, nil
	case <-ctx.Done():
		return link.Outcome{}, link.Ended(ctx)
	case <-r.stop:
		return link.Outcome{}, context.Canceled
	}
}

// DoAt implements link.Timed.
func (r *Runner) DoAt(ctx context.Context, at quantity.Time, l uint16, i link.Intent) (link.Outcome, error) {
	type ended struct {
		link.Outcome
		err error
	}
	over := make(chan ended, 1)
	r.do(func(*Pace) {
		r.world.DoAt(ctx, at, r.world.names[l], i, func(o link.Outcome, err error) { over <- ended{o, err} })
	})
	select {
	case e := <-over:
		return e.Outcome, e.err
	case <-ctx.Done():
		return link.Outcome{}, link.Ended(ctx)
	case <-r.stop:
		return link.Outcome{}, context.Canceled
	}
}

// Store implements link.Session.
func (r *Runner) Store() *capture.Store { return r.store }

// Info implements link.Port.
func (r *Runner) Info(l uint16) link.Info {
	if all := *r.info.Load(); int(l) < len(all) {
		return all[l]
	}
	return link.Info{}
}

// look takes down what the links can do, for Info.
func (r *Runner) look() {
	all := make([]link.Info, len(r.world.links))
	for i := range all {
		all[i] = r.world.Info(uint16(i))
	}
	r.info.Store(&all)
}

// Now implements link.Session.
func (r *Runner) Now() quantity.Time { return quantity.Time(r.now.Load()) }

// Wait implements link.Session. While time is stopped it waits on.
func (r *Runner) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	return link.WaitOn(ctx, r.store, r.Now, until, cond)
}

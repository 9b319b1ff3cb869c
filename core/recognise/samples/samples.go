// Package samples makes captures whose truth is known, and judges what was
// recognised in them: random buses, settings and payloads, clocks up to 1 % off,
// spikes, lines in random order. The same seed gives the same capture.
package samples

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/wire"
)

// Sample is a capture with its truth.
type Sample struct {
	Seed  uint64
	Kind  string
	About string // the settings in short, for a table
	Lines []recognise.Line
	// Hard is what makes it hard; "" of the usual ones.
	Hard  string
	truth truth
}

// truth is what there is to recognise.
type truth struct {
	same  map[string]string // second names of lines
	roles map[string]string // line by role
	rate  float64           // bit rate on the wire, Bd; 0: does not matter
	data  float64           // of the data phase
	frame string            // uart
	mode  int               // spi
	word  int
}

// Buses are the kinds of samples, in the order in which seeds go round them.
var Buses = []string{"uart", "spi", "i2c", "can"}

// bauds are the rates of the uart samples.
var bauds = []float64{1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 115200, 230400, 460800, 921600, 1e6, 2e6, 3e6}

// line is one line being made.
type line struct {
	high    bool
	toggles []quantity.Time
}

// maker holds what all kinds of samples need.
type maker struct {
	*rand.Rand
	s     Sample
	at    quantity.Time
	lines map[string]*line
	// frames are those of a can bus.
	frames []frame
	// length is how many times the usual traffic there is.
	length int
	hard   string
}

// Make gives the sample of a seed. Bus is one of Buses.
func Make(bus string, seed uint64) Sample {
	m := &maker{Rand: rand.New(rand.NewPCG(seed, uint64(len(bus))<<32|uint64(bus[0]))), lines: map[string]*line{}, length: 1}
	if m.IntN(50) == 0 {
		m.length = 200
	}
	m.s = Sample{Seed: seed, Kind: bus, truth: truth{roles: map[string]string{}}}
	bit := m.bus()
	if m.length > 1 {
		m.s.About += ", long"
	}
	m.finish(bit)
	return m.s
}

// bus makes the traffic of the sample's bus, and returns its shortest usual pulse.
func (m *maker) bus() quantity.Time {
	switch m.s.Kind {
	case "uart":
		return m.uart()
	case "spi":
		return m.spi()
	case "i2c":
		return m.i2c()
	}
	return m.can()
}

func (m *maker) line(role string, high bool) *line {
	l := &line{high: high}
	m.lines[role] = l
	return l
}

// off gives a factor up to 1 % beside 1.
func (m *maker) off() float64 { return 1 + (m.Float64()*2-1)*0.01 }

// payload gives n bytes: random ones, text, numbers, or a counter.
func (m *maker) payload(n int) []byte {
	out := make([]byte, n)
	kind := m.IntN(4)
	for i := range out {
		switch kind {
		case 0:
			out[i] = byte(m.Uint32())
		case 1:
			out[i] = "the lower gate is closed, level 4.82 m\r\n"[m.IntN(40)]
		case 2:
			out[i] = "0123456789;-."[m.IntN(13)]
		default:
			out[i] = byte(i*7 + m.IntN(3))
		}
	}
	return out
}

func (m *maker) uart() quantity.Time {
	f := uart.Frame{Data: 8, Stop: 1}
	switch m.IntN(6) {
	case 0:
		f.Data, f.Parity = 7, uart.Even
	case 1:
		f.Data, f.Parity = 8, uart.Even
	case 2:
		f.Data, f.Parity = 7, uart.Odd
	case 3:
		f.Data, f.Parity, f.Stop = 5+m.IntN(5), uart.ParityRule(m.IntN(int(uart.Rules))), 1+m.IntN(2)
	}
	f.Inverted = m.IntN(4) == 0
	rate := bauds[m.IntN(len(bauds))] * m.off()
	period := quantity.PeriodOf(quantity.FromBd(rate))
	l := m.line("uart", !f.Inverted)
	m.at = period.Times(20 + m.Int64N(100))
	for data := m.payload(m.length * m.bytes(40+m.IntN(160))); len(data) > 0; {
		n := min(1+m.IntN(30), len(data))
		var chars []uint16
		for _, b := range data[:n] {
			c := uint16(b)
			if f.Data == 9 {
				c |= uint16(m.IntN(2)) << 8
			}
			chars = append(chars, c&f.Mask())
		}
		l.toggles, m.at = uart.Encode(l.toggles, f, period, m.at, chars...)
		m.at += period.Times(12+m.Int64N(60)) + quantity.Time(m.Int64N(int64(period/1000)))
		data = data[n:]
	}
	m.s.truth.frame, m.s.truth.rate = f.String(), rate
	m.s.About = fmt.Sprintf("%s %.0f Bd", f, rate)
	return period.Times(1)
}

func (m *maker) spi() quantity.Time {
	set := spi.Mode(m.IntN(4))
	set.Word = []int{8, 8, 8, 16, 12, 10, 18, 24}[m.IntN(8)]
	set.LSBFirst = m.IntN(4) == 0
	if m.IntN(4) == 0 {
		set.Select = spi.ActiveHigh
	}
	half := quantity.Time(float64(quantity.Microsecond) * []float64{0.05, 0.1, 0.25, 0.5, 1, 5}[m.IntN(6)] * m.off())
	delay := quantity.Time(float64(half) * (0.05 + 0.4*m.Float64()))
	clock, sel := m.line("clock", set.ClockIdleHigh), m.line("select", set.Select == spi.ActiveLow)
	out, in := m.line("out", false), m.line("in", false)
	m.at = 50 * half
	for done, all := 0, m.length*m.bytes(40); done < all; {
		n := 1 + m.IntN(6)
		l, end := spi.Encode(set, m.at, half, m.words(n, set.Word), m.words(n, set.Word))
		clock.toggles = append(clock.toggles, l.Clock...)
		sel.toggles = append(sel.toggles, l.Select...)
		out.toggles = append(out.toggles, l.Out...)
		for _, t := range l.In {
			in.toggles = append(in.toggles, t+delay)
		}
		m.at = end + half*quantity.Time(4+m.IntN(100))
		done += n * set.Word / 8
	}
	m.selects(set, sel, clock)
	m.s.truth.mode, m.s.truth.word = set.Mode(), set.Word
	m.s.About = fmt.Sprintf("mode %d, %d bits, %s, half clock %s", set.Mode(), set.Word, set.Select, half.Round(3))
	return half
}

func (m *maker) words(n, bits int) []uint32 {
	out := make([]uint32, n)
	for i := range out {
		out[i] = m.Uint32() & (1<<bits - 1)
		if m.IntN(8) == 0 {
			out[i] = 0
		}
	}
	return out
}

func (m *maker) i2c() quantity.Time {
	bit := quantity.Time(float64(quantity.Microsecond) * []float64{10, 2.5, 1}[m.IntN(3)] * m.off())
	clock, data := m.line("clock", true), m.line("data", true)
	m.at = 50 * bit
	broken := 0.0
	if m.IntN(5) == 0 {
		broken = 0.4 * m.Float64()
		m.s.About = fmt.Sprintf("%.0f %% of the transactions interrupted, ", 100*broken)
	}
	addresses := []byte{0x96, 0xA0, 0x40, 0x1A}[:1+m.IntN(4)]
	for done, all := 0, m.length*m.bytes(40); done < all; {
		a := addresses[m.IntN(len(addresses))]
		bytes := []i2c.Byte{{Value: a, Acked: true, Start: true}}
		for _, b := range m.payload(1 + m.IntN(4)) {
			bytes = append(bytes, i2c.Byte{Value: b, Acked: true})
		}
		if m.IntN(2) == 0 { // a combined read
			bytes = append(bytes, i2c.Byte{Value: a | 1, Acked: true, Start: true})
			for _, b := range m.payload(1 + m.IntN(6)) {
				bytes = append(bytes, i2c.Byte{Value: b, Acked: true})
			}
			bytes[len(bytes)-1].Acked = false
		} else if m.IntN(10) == 0 {
			bytes = bytes[:1]
			bytes[0].Acked = false
		}
		c, d, end := i2c.Encode(m.at, bit, bytes, true)
		if m.Float64() < broken {
			c, d, end = m.interrupted(c, d, m.at, end, bit)
		}
		clock.toggles = append(clock.toggles, c...)
		data.toggles = append(data.toggles, d...)
		m.at = end + bit*quantity.Time(2+m.IntN(100))
		done += len(bytes)
	}
	m.s.About += fmt.Sprintf("bit %s, %d addresses", bit.Round(3), len(addresses))
	return bit / 4
}

func (m *maker) can() quantity.Time {
	nominal := []float64{50e3, 100e3, 125e3, 250e3, 500e3, 1e6}[m.IntN(6)]
	data := 0.0
	if m.IntN(3) == 0 {
		data = nominal * []float64{2, 4, 5, 8}[m.IntN(4)]
	}
	if m.hard == "fast data" {
		data = nominal * []float64{10, 12, 16}[m.IntN(3)]
	}
	off := m.off()
	t := can.UsualTiming(quantity.FromBd(nominal*off), quantity.FromBd(data*off))
	l := m.line("line", true)
	m.at = t.Nominal.Bit.Times(30)
	extended := m.IntN(4)
	m.s.truth.rate = nominal * off
	broken := 0.0
	if m.IntN(5) == 0 {
		broken = 0.5 * m.Float64()
		m.s.About = fmt.Sprintf("%.0f %% of the frames broken, ", 100*broken)
	}
	for done, all := 0, m.length*m.bytes(40); done < all; {
		f := can.Frame{ID: m.Uint32() & 0x7ff, Extended: m.IntN(4) < extended, Data: m.payload(m.IntN(9))}
		if f.Extended {
			f.ID = m.Uint32() & (1<<29 - 1)
		}
		if data > 0 && m.IntN(3) > 0 {
			f.FD, f.Switched = true, true
			f.Data = m.payload([]int{0, 4, 8, 12, 16, 32, 64}[m.IntN(7)])
			if len(f.Data) > 0 {
				m.s.truth.data = data * off
			}
		} else if len(f.Data) == 0 && m.IntN(4) == 0 {
			f.Remote, f.DLC = true, m.IntN(9)
		}
		b := can.Build(f, true)
		spoiled := m.Float64() < broken && !f.FD
		if spoiled {
			b.Bits = m.breakOff(b.Bits)
		}
		from := m.at
		l.toggles, m.at = can.Encode(l.toggles, b, t, m.at)
		if !spoiled {
			m.frames = append(m.frames, frame{from, m.at, f.Switched && len(f.Data) > 0})
		}
		m.at += t.Nominal.Bit.Times(3 + m.Int64N(100))
		done += len(f.Data) + 2
	}
	m.s.About = fmt.Sprintf("%s%.0f bit/s", m.s.About, nominal*off)
	if m.s.truth.data > 0 {
		m.s.About += fmt.Sprintf(" and %.0f", data*off)
		return t.Data.Bit.Times(1)
	}
	return t.Nominal.Bit.Times(1)
}

// breakOff ends a frame anywhere behind its identifier with an error flag.
func (m *maker) breakOff(bits []can.Bit) []can.Bit {
	bits = slices.Clone(bits[:13+m.IntN(len(bits)-25)])
	for range 6 + m.IntN(7) {
		bits = append(bits, can.Bit{Field: can.EndOfFrame})
	}
	for range 8 {
		bits = append(bits, can.Bit{Field: can.EndOfFrame, Recessive: true})
	}
	return bits
}

// interrupted ends levels of a transaction at a moment; both lines are let go a little
// later, the clock first, so that it looks like a stop.
func (m *maker) interrupted(clock, data []quantity.Time, start, end, bit quantity.Time) (c, d []quantity.Time, at quantity.Time) {
	at = start + quantity.Time(m.Int64N(int64(end-start)))
	i, _ := slices.BinarySearch(clock, at)
	k, _ := slices.BinarySearch(data, at)
	c, d = clock[:i], data[:k]
	at += bit / 2
	if len(c)%2 == 1 { // low
		c = append(slices.Clone(c), at)
	}
	if len(d)%2 == 1 {
		d = append(slices.Clone(d), at+bit/2)
	}
	return c, d, at + bit
}

// count adds the lower bits of a counter, which no bus drives.
func (m *maker) count(bit quantity.Time) {
	half := quantity.Time(float64(bit) * (0.3 + 8*m.Float64()))
	for i := range 2 + m.IntN(3) {
		l := m.line(fmt.Sprintf("counter%d", i), m.IntN(2) == 0)
		for at := m.at / 7; at < m.at && len(l.toggles) < 30000; at += half << i {
			l.toggles = append(l.toggles, at)
		}
	}
	m.s.About += ", with a counter"
}

// finish puts spikes on the lines, adds idle ones, and gives all of them names
// in random order.
func (m *maker) finish(bit quantity.Time) {
	end := m.at + 200*bit
	spikes := 0
	for _, role := range slices.Sorted(m.roles()) {
		l := m.lines[role]
		for range m.IntN(4) * m.IntN(2) {
			l.spike(quantity.Time(m.Int64N(int64(end))), max(bit/50+quantity.Time(m.Int64N(int64(bit/8)+1)), 1))
			spikes++
		}
	}
	if m.IntN(3) == 0 {
		step := max(bit/quantity.Time(6+m.IntN(40)), 1)
		for _, role := range slices.Sorted(m.roles()) {
			m.lines[role].sampled(step)
		}
		m.s.About += fmt.Sprintf(", sampled every %s", step.Round(3))
	}
	if m.IntN(6) == 0 {
		m.count(bit)
	}
	for i := range m.IntN(3) {
		m.line(fmt.Sprintf("idle%d", i), m.IntN(2) == 0)
	}
	// Captures are cut anywhere, or end at their last change.
	begin := quantity.Time(0)
	if m.IntN(3) == 0 {
		begin, end = quantity.Time(m.Int64N(int64(m.at)/5+1)), m.at-quantity.Time(m.Int64N(int64(m.at)/5+1))
		if m.IntN(2) == 0 {
			last := begin
			for role := range m.roles() {
				for _, t := range m.lines[role].toggles {
					if t < end {
						last = max(last, t)
					}
				}
			}
			end = last + 1
		}
		whole, switched := m.within(begin, end)
		if len(m.frames) > 0 && whole < 2 {
			begin, end = 0, m.at+200*bit // hardly anything would be left
		} else {
			m.s.About += ", cut"
		}
		if len(m.frames) > 0 && whole >= 2 && switched == 0 {
			m.s.truth.data = 0
		}
		for role := range m.roles() {
			m.lines[role].cut(begin, end)
		}
	}
	if m.IntN(4) == 0 {
		roles := slices.Sorted(m.roles())
		role := roles[m.IntN(len(roles))]
		m.lines["copy of "+role] = &line{high: m.lines[role].high, toggles: slices.Clone(m.lines[role].toggles)}
		m.s.About += ", one line twice"
	}
	names := m.Perm(len(m.lines))
	for i, role := range slices.Sorted(m.roles()) {
		l := m.lines[role]
		name := fmt.Sprintf("d%d", names[i])
		m.s.truth.roles[role] = name
		m.s.Lines = append(m.s.Lines, recognise.Line{Name: name, Levels: wire.Window{From: begin, To: end, High: l.high, Toggles: l.toggles}})
	}
	m.s.truth.same = map[string]string{}
	for role, name := range m.s.truth.roles {
		if of, is := strings.CutPrefix(role, "copy of "); is {
			m.s.truth.same[name] = m.s.truth.roles[of]
		}
	}
	slices.SortFunc(m.s.Lines, func(a, b recognise.Line) int { return strings.Compare(a.Name, b.Name) })
	if spikes > 0 {
		m.s.About += fmt.Sprintf(", %d spikes", spikes)
	}
}

func (m *maker) roles() func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for r := range m.lines {
			if !yield(r) {
				return
			}
		}
	}
}

// frame is one on the bus, and whether it changed to the data rate.
type frame struct {
	from, to quantity.Time
	switched bool
}

// within counts the frames that lie whole in a stretch, behind the eleven recessive bits
// that a reader waits for first.
func (m *maker) within(from, to quantity.Time) (whole, switched int) {
	for i, f := range m.frames {
		before := quantity.Time(0)
		if i > 0 {
			before = m.frames[i-1].to
		}
		if f.from-max(from, before) < (f.to-f.from)/8 || f.from < from || f.to >= to {
			continue
		}
		whole++
		if f.switched {
			switched++
		}
	}
	return whole, switched
}

// cut keeps a stretch.
func (l *line) cut(from, to quantity.Time) {
	i, _ := slices.BinarySearch(l.toggles, from+1)
	k, _ := slices.BinarySearch(l.toggles, to)
	l.high = l.high != (i%2 == 1)
	l.toggles = slices.Clone(l.toggles[i:max(i, k)])
}

// sampled puts the edges where samples at fixed distances see them.
func (l *line) sampled(step quantity.Time) {
	out := l.toggles[:0]
	for _, t := range l.toggles {
		t = (t + step - 1) / step * step
		if n := len(out); n > 0 && out[n-1] == t {
			out = out[:n-1] // the pulse falls between two samples
			continue
		}
		out = append(out, t)
	}
	l.toggles = out
}

// spike turns the level round for a moment where no other edge is near.
func (l *line) spike(at, width quantity.Time) {
	i, _ := slices.BinarySearch(l.toggles, at)
	if i > 0 && at-l.toggles[i-1] < 2*width || i < len(l.toggles) && l.toggles[i]-at < 3*width {
		return
	}
	l.toggles = slices.Insert(l.toggles, i, at, at+width)
}

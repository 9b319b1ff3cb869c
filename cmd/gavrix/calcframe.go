package main

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
)

// frameResult is what `calc frame` says about one exchange.
type frameResult struct {
	Bus      string  `json:"bus"`
	Bits     float64 `json:"bits"` // on the wire
	Plain    float64 `json:"bits_without_stuffing"`
	Stuffed  int     `json:"stuff_bits"`
	AtMost   int     `json:"stuff_bits_at_most,omitempty"`
	Padding  int     `json:"padding_bytes,omitempty"`
	Check    string  `json:"check_sequence,omitempty"`
	Wire     string  `json:"wire,omitempty"` // the bits, stuff bits in brackets
	Duration float64 `json:"duration_us"`
	// Of a message that comes again and again, and is waited for.
	PerSecond float64 `json:"messages_per_s_at_most,omitempty"`
	Load      float64 `json:"load_percent,omitempty"`
	TimeOut   float64 `json:"least_time_out_us,omitempty"`
	text      string
	time      quantity.Time
	bytes     int
	unit      quantity.Time // a character more that a time-out must wait; 0: none
	pause     quantity.Time // before the next may begin
}

// frameRate reads the bit rate of a bus; that of one whose clock a line carries is a
// frequency, which may be higher.
func frameRate(bus, text string) (quantity.Rate, error) {
	if bus != "spi" {
		return quantity.ParseRate(text)
	}
	if r, err := quantity.ParseRate(text); err == nil {
		return r, nil
	}
	f, err := quantity.ParseClock(text)
	if err != nil {
		if f, err = quantity.ParseClock(text + "Hz"); err != nil {
			return 0, fmt.Errorf("%q is no rate of a clock, as 42 MHz", text)
		}
	}
	return quantity.FromBd(f.Hz()), nil
}

// again adds what follows for a message that comes once in a while, or that somebody
// waits for; it says whether that does not fit.
func (r *frameResult) again(every, within quantity.Time) (unfit bool) {
	taken := r.time + r.pause
	r.PerSecond = 1 / taken.Seconds()
	if r.bytes > 0 {
		r.text += fmt.Sprintf("back to back: %.1f such messages a second, %.0f bytes a second\n", r.PerSecond, r.PerSecond*float64(r.bytes))
	}
	if every > 0 {
		r.Load = 100 * taken.Seconds() / every.Seconds()
		r.text += fmt.Sprintf("one every %s: %.3g %% of the link\n", every, r.Load)
		if taken > every {
			r.text += fmt.Sprintf("✗ that is more than there is: one every %s at most\n", taken.Round(4))
			unfit = true
		}
	}
	if within > 0 {
		least := r.time + r.unit
		r.TimeOut = least.Seconds() * 1e6
		if within < least {
			r.text += fmt.Sprintf("✗ a time-out of %s is too short: it takes %s on the line alone; wait at least %s, and the other end's own time\n", within, r.time.Round(4), least.Round(4))
			return true
		}
		r.text += fmt.Sprintf("a time-out of %s leaves the other end %s\n", within, (within - least).Round(4))
	}
	return unfit
}

// mostFrameBytes bounds the length of a message.
const mostFrameBytes = 1 << 20

// frameFlags are the flags that say something of a frame on each kind of bus.
var frameFlags = map[string][]string{
	"uart": {"rate", "frame", "length"}, "spi": {"rate", "word", "gap", "length"}, "i2c": {"rate", "length"}, "pulse": {"settings"},
	"can": {"rate", "data-rate", "id", "extended", "fd", "switch", "remote", "length-code"},
}

// frameAsked is what `calc frame` is asked for.
type frameAsked struct {
	rate, dataRate, id, data, frame, settings string
	every, within, gap                        string
	extended, remote, fd, brs, asJSON         bool
	dlc, word, length                         int
}

func calcFrame() *cobra.Command {
	var o frameAsked
	c := &cobra.Command{
		Use:   "frame uart|spi|i2c|can|pulse",
		Short: "Count the bits of a frame on the wire, and its time",
		Example: `  gavrix calc frame can --id 2A5 --data 3C81 --rate 250k
  gavrix calc frame i2c --data 961281 --rate 400k
  gavrix calc frame pulse --data 0A5F00 --settings 'zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us element=12'
  gavrix calc frame uart --data 534E41500A --frame 7E1 --rate 28.8k
  gavrix calc frame uart --length 48 --rate 57.6k --every 10ms --within 25ms`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return o.run(cmd, args[0]) },
	}
	fl := c.Flags()
	fl.StringVar(&o.rate, "rate", "", "bit rate")
	fl.StringVar(&o.dataRate, "data-rate", "", "can: bit rate of the data phase")
	fl.StringVar(&o.id, "id", "0", "can: identifier in hex")
	fl.StringVar(&o.data, "data", "", "bytes in hex")
	fl.StringVar(&o.frame, "frame", "8N1", "UART: data bits, parity, stop bits")
	fl.StringVar(&o.settings, "settings", "", "pulse: the line's limits, as after decode --link")
	fl.StringVar(&o.gap, "gap", "", "SPI: time between the words of one select, as 500ns")
	fl.IntVar(&o.word, "word", 8, "SPI: bits per word")
	fl.IntVar(&o.dlc, "length-code", 0, "can: length code of a remote frame, or one of 9 to 15 with 8 bytes")
	fl.IntVar(&o.length, "length", 0, "number of bytes, whatever they are, in place of --data")
	fl.StringVar(&o.every, "every", "", "how often the message comes, as 10ms")
	fl.StringVar(&o.within, "within", "", "the time-out with which it is waited for, as 25ms")
	fl.BoolVar(&o.extended, "extended", false, "can: 29-bit identifier")
	fl.BoolVar(&o.remote, "remote", false, "can: remote frame")
	fl.BoolVar(&o.fd, "fd", false, "can: flexible data rate format")
	fl.BoolVar(&o.brs, "switch", false, "can: with a rate switch")
	fl.BoolVar(&o.asJSON, "json", false, "print JSON")
	return c
}

func (o *frameAsked) run(cmd *cobra.Command, bus string) error {
	if err := o.allowed(cmd, bus); err != nil {
		return err
	}
	bytes, err := o.bytes(cmd)
	if err != nil {
		return err
	}
	spans := map[string]quantity.Time{}
	for name, text := range map[string]string{"every": o.every, "within": o.within, "gap": o.gap} {
		if text == "" {
			continue
		}
		if spans[name], err = quantity.ParseSpan(text); err != nil || spans[name] == 0 {
			return fmt.Errorf("--%s: %q is no time, as 10ms", name, text)
		}
	}
	var r quantity.Rate
	if bus != "pulse" {
		if r, err = frameRate(bus, o.rate); err != nil {
			return fmt.Errorf("--rate: %w", err)
		}
	}
	var out frameResult
	switch bus {
	case "can":
		out, err = o.can(r, bytes)
	case "uart":
		out, err = o.uart(r, bytes)
	case "i2c":
		out, err = o.i2c(r, bytes)
	case "pulse":
		out, err = pulseFrame(o.settings, bytes)
	case "spi":
		out, err = o.spi(r, bytes, spans["gap"])
	default:
		err = fmt.Errorf("%q: write uart, spi, i2c, can or pulse", bus)
	}
	if err != nil {
		return err
	}
	unfit := false
	if out.bytes = len(bytes); out.time > 0 {
		unfit = out.again(spans["every"], spans["within"])
	}
	if o.asJSON {
		err = printJSON(out)
	} else {
		_, err = fmt.Fprint(stdout, out.text)
	}
	if err == nil && unfit {
		return exitStatus(found)
	}
	return err
}

// allowed refuses flags that mean nothing on the bus.
func (o *frameAsked) allowed(cmd *cobra.Command, bus string) error {
	if flags, known := frameFlags[bus]; known {
		if err := active(cmd, "on "+bus, append(flags, "data", "every", "within", "json")...); err != nil {
			return err
		}
	}
	if bus == "can" && !o.brs {
		if err := idle(cmd, "without --switch", "data-rate"); err != nil {
			return err
		}
	}
	if longer := o.dlc > 8 && !o.fd; bus == "can" && !o.remote && !longer {
		return idle(cmd, "without --remote, or above 8 with 8 bytes", "length-code")
	}
	return nil
}

// bytes gives what is sent, or as many bytes as are asked for.
func (o *frameAsked) bytes(cmd *cobra.Command) ([]byte, error) {
	bytes, err := hex.DecodeString(strings.ReplaceAll(o.data, " ", ""))
	if err != nil {
		return nil, fmt.Errorf("--data: %q is not bytes in hex", o.data)
	}
	if !cmd.Flags().Changed("length") {
		return bytes, nil
	}
	if err := idle(cmd, "with --length", "data"); err != nil {
		return nil, err
	}
	if o.length < 1 || o.length > mostFrameBytes {
		return nil, fmt.Errorf("--length %d: give 1 to %d bytes", o.length, mostFrameBytes)
	}
	return make([]byte, o.length), nil
}

func (o *frameAsked) can(r quantity.Rate, bytes []byte) (frameResult, error) {
	if !o.remote && o.dlc > 8 && len(bytes) != 8 {
		return frameResult{}, fmt.Errorf("--length-code %d: codes above 8 stand for 8 bytes, and there are %d", o.dlc, len(bytes))
	}
	f := can.Frame{Extended: o.extended, Remote: o.remote, FD: o.fd, Switched: o.brs, DLC: o.dlc, Data: bytes}
	n, err := can.ParseID(o.id)
	if err != nil {
		return frameResult{}, fmt.Errorf("--id: %w", err)
	}
	f.ID = n.ID
	_, padding, _ := can.Code(len(bytes), o.fd)
	if o.fd {
		f.Data = append(f.Data, make([]byte, padding)...)
	}
	var dr quantity.Rate
	if o.dataRate != "" {
		if dr, err = quantity.ParseRate(o.dataRate); err != nil {
			return frameResult{}, fmt.Errorf("--data-rate: %w", err)
		}
	}
	out, err := canFrame(f, can.UsualTiming(r, dr))
	if err == nil && padding > 0 {
		out.Padding = padding
		out.text = fmt.Sprintf("padded with %s of 00 to a length of %d\n", quantity.Count(padding, "byte"), len(f.Data)) + out.text
	}
	return out, err
}

func (o *frameAsked) uart(r quantity.Rate, bytes []byte) (frameResult, error) {
	f, err := uart.ParseFrame(o.frame)
	if err != nil {
		return frameResult{}, fmt.Errorf("--frame: %w", err)
	}
	for _, b := range bytes {
		if err := f.Fits(uint16(b)); err != nil {
			return frameResult{}, fmt.Errorf("--data: %w", err)
		}
	}
	s := uart.Settings{Rate: r, Frame: f}
	out := plainFrame("uart", float64(len(bytes))*f.Bits(), uart.Duration(s, len(bytes)))
	out.unit = uart.MinTimeout(s, len(bytes), 0) - out.time
	return out, nil
}

func (o *frameAsked) i2c(r quantity.Rate, bytes []byte) (frameResult, error) {
	if len(bytes) == 0 {
		return frameResult{}, errors.New("--data: give the bytes on the wire, the address byte first")
	}
	out := plainFrame("i2c", float64(9*len(bytes)+2), i2c.Duration(quantity.PeriodOf(r).Times(1), len(bytes)))
	if o.length == 0 {
		out.Check = fmt.Sprintf("%02X", i2c.PEC(bytes))
		out.text += fmt.Sprintf("packet error code over these bytes: %s\n", out.Check)
	}
	return out, nil
}

func (o *frameAsked) spi(r quantity.Rate, bytes []byte, gap quantity.Time) (frameResult, error) {
	s := spi.Mode(0)
	s.Word = o.word
	if err := s.Check(); err != nil {
		return frameResult{}, err
	}
	size := (o.word + 7) / 8
	if len(bytes)%size != 0 {
		return frameResult{}, fmt.Errorf("--data: %d bytes are no whole number of words of %d bits", len(bytes), o.word)
	}
	n := len(bytes) / size
	gaps := gap * quantity.Time(max(n-1, 0))
	out := plainFrame("spi", float64(n*o.word), spi.Duration(s, quantity.PeriodOf(r).Halves(1), n)+gaps)
	if gaps > 0 {
		out.text += fmt.Sprintf("%s of it are gaps between words\n", gaps.Round(4))
	}
	return out, nil
}

// pulseFrame counts elements given bit after bit; the times are the middles of
// their ranges.
func pulseFrame(settings string, data []byte) (frameResult, error) {
	set, err := settingsOf(pulse.Kind, settings)
	if err != nil {
		return frameResult{}, fmt.Errorf("--settings: %w", err)
	}
	s := set.(pulse.Settings)
	elements, err := elementsOf(s, data)
	if err != nil {
		return frameResult{}, err
	}
	_, end := pulse.Encode(nil, s, 0, elements...)
	r := plainFrame("pulse", float64(len(elements)*s.Element), end+s.Latch)
	least, most := pulse.Duration(s, len(elements))
	r.text += fmt.Sprintf("%d elements, with the latch; other values take %s to %s\n", len(elements), least.Round(4), most.Round(4))
	return r, nil
}

func plainFrame(bus string, bits float64, d quantity.Time) frameResult {
	r := frameResult{Bus: bus, Bits: bits, Plain: bits, Duration: d.Seconds() * 1e6, time: d}
	r.text = fmt.Sprintf("%s: %g bits, %s\n", bus, bits, d.Round(5))
	return r
}

func canFrame(f can.Frame, t can.Timing) (frameResult, error) {
	if err := f.Check(); err != nil {
		return frameResult{}, err
	}
	if err := t.Check(); err != nil {
		return frameResult{}, err
	}
	b := can.Build(f, true)
	var wire strings.Builder
	field := can.SOF
	for _, x := range b.Bits {
		if x.Field != field {
			wire.WriteByte(' ')
			field = x.Field
		}
		c := "0"
		if x.Recessive {
			c = "1"
		}
		if x.Stuff {
			c = "[" + c + "]"
		}
		wire.WriteString(c)
	}
	d := can.Duration(f, t)
	stuffed := b.Stuffed + b.Fixed
	r := frameResult{
		Bus: "can", Bits: float64(len(b.Bits)), Plain: float64(len(b.Bits) - stuffed), Stuffed: stuffed, AtMost: can.MostStuffBits(f) + b.Fixed,
		Check: fmt.Sprintf("%0*X", (b.Width+3)/4, b.Check), Wire: wire.String(), Duration: d.Seconds() * 1e6, time: d, pause: t.Nominal.Bit.Times(3),
	}
	r.text = fmt.Sprintf("can: %g bits to the end of frame, %g without stuffing, %d stuff bits (at most %d for this length)\ncheck sequence %s (%d bits)\n%s\n%s\n",
		r.Bits, r.Plain, r.Stuffed, r.AtMost, r.Check, b.Width, d.Round(5), r.Wire)
	return r, nil
}

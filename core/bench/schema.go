package bench

import (
	"fmt"
	"strings"

	"gavrix/core/bus/all"
	"gavrix/core/bus/uart"
	"gavrix/core/check"
	"gavrix/core/clock"
	"gavrix/core/doc"
	"gavrix/core/startup"
)

var onOffLeave = doc.Enum("on", "off", "leave")

// Schema of a bench file.
var Schema = doc.Map(
	doc.Key{Name: "bench", Doc: "name of the board and its surroundings", Type: doc.NameType, Required: true},
	doc.Key{Name: "about", Doc: "what it is for", Type: doc.AnyText},
	doc.Key{Name: "seed", Doc: "start of the random numbers of the simulation", Type: doc.Int(0, 1<<31-1), Default: "1"},
	doc.Key{Name: "mcu", Doc: "the microcontroller", Type: mcuSchema, Required: true},
	doc.Key{Name: "links", Doc: "the links by name", Type: doc.MapOf(linkSchema), Required: true},
	doc.Key{Name: "observed", Doc: "buses by name that are known from captures only, of any kind", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "kind", Doc: "kind of bus", Type: doc.Enum(all.Names()...), Required: true},
		doc.Key{Name: "lines", Doc: "the lines of a capture by their part on the bus, each a name or a boolean expression", Type: doc.MapOf(doc.NameType), Required: true},
		doc.Key{Name: "settings", Doc: "frame settings, as the kind of bus has them", Type: doc.MapOf(doc.AnyText)},
	))},
)

var mcuSchema = doc.Map(
	doc.Key{Name: "name", Doc: "name of the MCU", Type: doc.NameType, Required: true},
	doc.Key{Name: "registers", Doc: "file with its control registers, a .csv table or a .svd, beside the bench", Type: doc.Scalar("a file name below the bench's folder", checkFile)},
	doc.Key{Name: "options", Doc: "lasting option words by name, which no run-time write changes", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "register", Doc: "register that shows the word", Type: doc.NameType, Required: true},
		doc.Key{Name: "programmed", Doc: "the word that the part has now", Type: doc.Int(0, 1<<53), Required: true},
		doc.Key{Name: "wanted", Doc: "the word that it should have; absent: as it is", Type: doc.Int(0, 1<<53)},
		doc.Key{Name: "source", Doc: "document and page, or who read it", Type: doc.AnyText},
	))},
	doc.Key{Name: "clocks", Doc: "clocks by name, each a source or made from another", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "source", Doc: "frequency of a crystal or oscillator", Type: doc.ClockType},
		doc.Key{Name: "from", Doc: "the clock that this one is made from", Type: doc.NameType},
		doc.Key{Name: "times", Doc: "factor of a multiplier", Type: doc.Int(1, 1024)},
		doc.Key{Name: "divide", Doc: "factor of a divider", Type: doc.Int(1, 65536)},
		doc.Key{Name: "divide-option", Doc: "OPTION.FIELD of a lasting option that holds the factor; its meanings are the factors", Type: fieldType},
		doc.Key{Name: "of", Doc: "the clocks that a selector chooses from; `from` is the one that is chosen", Type: doc.ListOf(doc.NameType, 2)},
		doc.Key{Name: "select", Doc: "REGISTER.FIELD that takes the choice; its meanings are the clocks' names", Type: fieldType},
		doc.Key{Name: "measured", Doc: "what this clock was measured at; all behind it follows", Type: doc.ClockType},
		doc.Key{Name: "plus-minus", Doc: "uncertainty of the measurement, as 0.01 MHz", Type: doc.FreqType},
		doc.Key{Name: "most", Doc: "the most that it may run at", Type: doc.ClockType},
		doc.Key{Name: "sheet", Doc: "document and page", Type: doc.AnyText},
		doc.Key{Name: "unproven", Doc: "assumed only, not checked yet", Type: doc.Enum("yes", "no"), Default: "no"},
	)), Required: true},
	doc.Key{Name: "units", Doc: "bus units by name", Type: doc.MapOf(doc.ByKey("kind", "kind of bus",
		doc.Kind{Name: "uart", Type: unitSchema(uartControls()).With(uartUnit.Keys()...)},
		doc.Kind{Name: "spi", Type: unitSchema(spiControls).With(spiUnit.Keys()...)},
		doc.Kind{Name: "i2c", Type: unitSchema(nil).With(i2cUnit.Keys()...)},
		doc.Kind{Name: "can", Type: unitSchema(nil).With(canUnit.Keys()...)},
	)), Required: true},
)

// unitSchema is what units of all kinds say; the controls are the settings of the
// kind that go into register fields.
func unitSchema(controls []doc.Key) *doc.Type {
	return doc.Map(
		doc.Key{Name: "clock", Doc: "the clock that feeds it", Type: doc.NameType, Required: true},
		doc.Key{Name: "control", Doc: "where its settings go, each REGISTER.FIELD; the field's meanings are the settings' words", Type: doc.Map(append(controls, startKeys()...)...)},
		doc.Key{Name: "locked", Doc: "rate and frame take no writes while the unit is on", Type: doc.Enum("yes", "no"), Default: "no"},
		doc.Key{Name: "latched", Doc: "the second register of the rate takes effect when the first is written", Type: doc.Enum("yes", "no"), Default: "no"},
		doc.Key{Name: "source", Doc: "document and page", Type: doc.AnyText},
	)
}

// uartUnit are the rate generators of a uart.
var uartUnit = doc.Map(
	doc.Key{Name: "oversampling", Doc: "receiver samples a bit that can be chosen", Type: doc.ListOf(doc.Enum("16", "8", "4"), 1), Default: "[16]"},
	doc.Key{Name: "divider", Doc: "a rate generator that divides by whole numbers", Type: doc.Map(
		doc.Key{Name: "least", Doc: "smallest divider", Type: doc.Int(1, 1<<24), Default: "1"},
		doc.Key{Name: "most", Doc: "largest divider", Type: doc.Int(1, 1<<24), Required: true},
		doc.Key{Name: "plus-one", Doc: "the register holds the divider less one", Type: doc.Enum("yes", "no"), Default: "no"},
		doc.Key{Name: "register", Doc: "register that takes the value", Type: doc.NameType},
		doc.Key{Name: "field", Doc: "bit field that takes the value", Type: doc.NameType},
	)},
	doc.Key{Name: "fractional", Doc: "a rate generator that divides by a whole number and a fraction of 2^bits", Type: doc.Map(
		doc.Key{Name: "least", Doc: "smallest whole part", Type: doc.Int(1, 1<<20), Default: "1"},
		doc.Key{Name: "most", Doc: "largest whole part", Type: doc.Int(1, 1<<20), Required: true},
		doc.Key{Name: "bits", Doc: "bits of the fraction", Type: doc.Int(1, 16), Required: true},
		doc.Key{Name: "register", Doc: "register of the whole part; of both where there is no other", Type: doc.NameType},
		doc.Key{Name: "field", Doc: "bit field of the whole part", Type: doc.NameType},
		doc.Key{Name: "fraction-register", Doc: "register of the fraction, where it is another", Type: doc.NameType},
		doc.Key{Name: "fraction-field", Doc: "bit field of the fraction, where it is another", Type: doc.NameType},
	)},
	doc.Key{Name: "reload", Doc: "a timer that counts up from a reload value; its overflows clock the bits", Type: doc.Map(
		doc.Key{Name: "width", Doc: "bits of the timer", Type: doc.Int(4, 32), Required: true},
		doc.Key{Name: "before", Doc: "fixed division in front of the timer", Type: doc.Int(1, 65536), Default: "1"},
		doc.Key{Name: "factor", Doc: "overflows a bit, or two to choose from: without and with doubling", Type: doc.ListOf(doc.Int(4, 256), 1), Required: true},
		doc.Key{Name: "register", Doc: "register of the reload value", Type: doc.NameType},
		doc.Key{Name: "field", Doc: "its bit field", Type: doc.NameType},
		doc.Key{Name: "double-register", Doc: "register of the doubling", Type: doc.NameType},
		doc.Key{Name: "double-field", Doc: "its bit field", Type: doc.NameType},
	)},
	doc.Key{Name: "chain", Doc: "a counter that clocks a receiver which divides once more", Type: doc.Map(
		doc.Key{Name: "factors", Doc: "what the receiver can divide by", Type: doc.ListOf(doc.Int(1, 256), 1), Required: true},
		doc.Key{Name: "least", Doc: "smallest count", Type: doc.Int(1, 1<<24), Default: "1"},
		doc.Key{Name: "most", Doc: "largest count", Type: doc.Int(1, 1<<24), Required: true},
		doc.Key{Name: "register", Doc: "register of the count", Type: doc.NameType},
		doc.Key{Name: "field", Doc: "its bit field", Type: doc.NameType},
		doc.Key{Name: "factor-register", Doc: "register of the factor's number", Type: doc.NameType},
		doc.Key{Name: "factor-field", Doc: "its bit field", Type: doc.NameType},
	)},
	doc.Key{Name: "formula", Doc: "any other rate generator, by an expression that gives the bit rate", Type: doc.Map(
		doc.Key{Name: "rate", Doc: "bit rate in baud, as clock / (16 * (n + 1) * 2 ** m)", Type: doc.NameType, Required: true},
		doc.Key{Name: "samples", Doc: "receiver samples a bit", Type: doc.Int(4, 256), Default: "16"},
		doc.Key{Name: "variables", Doc: "what the expression is written with", Type: doc.MapOf(doc.Map(
			doc.Key{Name: "least", Doc: "smallest value", Type: doc.Int(0, 1<<20), Default: "0"},
			doc.Key{Name: "most", Doc: "largest value", Type: doc.Int(0, 1<<20), Required: true},
			doc.Key{Name: "register", Doc: "register that takes the value", Type: doc.NameType},
			doc.Key{Name: "field", Doc: "its bit field", Type: doc.NameType},
		)), Required: true},
	)},
)

// uartControls are the settings of a uart that go into register fields.
func uartControls() []doc.Key {
	var out []doc.Key
	for _, c := range controls {
		out = append(out, doc.Key{Name: c.name, Doc: c.doc, Type: fieldType})
	}
	return out
}

// startKeys are the start-up steps of a unit.
func startKeys() []doc.Key {
	var out []doc.Key
	for _, r := range startup.Roles {
		switch r.Name {
		case "rate", "rate-fine", "frame", "join":
			continue // the rate generator and the settings above say these
		}
		out = append(out, doc.Key{Name: r.Name, Doc: "start-up: " + r.Title + ", as REGISTER.FIELD, or REGISTER.FIELD = MEANING where that is not `on`", Type: fieldType})
	}
	return out
}

var fieldType = doc.Scalar("REGISTER.FIELD", func(s string) error {
	if i := strings.LastIndexByte(s, '.'); i < 1 || i == len(s)-1 {
		return fmt.Errorf("%q names no field: write REGISTER.FIELD", s)
	}
	return nil
})

var linkSchema = doc.ByKey("kind", "kind of bus",
	doc.Kind{Name: "uart", Type: characterLink},
	doc.Kind{Name: "spi", Type: spiBus},
	doc.Kind{Name: "i2c", Type: i2cBus},
	doc.Kind{Name: "can", Type: canBus},
)

var unitKey = doc.Key{Name: "unit", Doc: "the MCU's bus unit", Type: doc.NameType, Required: true}

// startedKeys are what the MCU's end of every kind says of its firmware.
var startedKeys = []doc.Key{
	{Name: "source", Doc: "document and page, or who chose it", Type: doc.AnyText},
	{Name: "receive", Doc: "how received words leave the unit", Type: doc.Enum(startup.Interrupt, startup.Polled, startup.DMA), Default: startup.Interrupt},
	{Name: "handler", Doc: "the unit whose interrupt handler the firmware has for this link; absent: its own", Type: doc.NameType},
	{Name: "startup", Doc: "the start-up steps that the firmware does, in their order, separated by commas; absent: all that are needed, in an order that works", Type: doc.Scalar("names of steps, separated by commas", func(s string) error {
		_, err := startup.Parse(s)
		return err
	})},
}

var characterLink = doc.Map(
	unitKey,
	doc.Key{Name: "mcu", Doc: "the MCU's end", Type: uart.Schema.With(
		doc.Key{Name: "divisor", Doc: "divider chosen by hand, as 87 or 21 + 22/32; absent: the best is taken", Type: doc.Scalar("a divisor, as 87 or 21 + 22/32", func(s string) error {
			_, err := clock.ParseDivisor(s)
			return err
		})},
		doc.Key{Name: "service", Doc: "time until the handler has emptied the receive register", Type: doc.TimeType, Default: "5 µs"},
		doc.Key{Name: "left-over", Doc: "a character, in hex, that waits in the unit from an earlier run", Type: hexType(false)},
		doc.Key{Name: "ask", Doc: "what the firmware sends by itself", Type: doc.Map(
			doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
			doc.Key{Name: "text", Doc: "the text, with its line end", Type: doc.NameType, Required: true},
		)},
	).With(startedKeys...), Required: true},
	doc.Key{Name: "device", Doc: "the device's end", Type: doc.Map(
		doc.Key{Name: "file", Doc: "its device file, beside the bench", Type: doc.Scalar("a file name below the bench's folder", checkFile), Required: true},
		doc.Key{Name: "rate", Doc: "bit rate, where it differs from the device file", Type: doc.RateType},
		doc.Key{Name: "frame", Doc: "frame, where it differs from the device file", Type: frameType()},
		doc.Key{Name: "source", Doc: "document and page", Type: doc.AnyText},
		doc.Key{Name: "clock-off", Doc: "how far this part's clock is off, as 0.4 %", Type: doc.PPMType, Default: "0 ppm"},
	), Required: true},
	doc.Key{Name: "lines", Doc: "names of its lines in captures; absent: LINK.mcu and LINK.device", Type: doc.Map(
		doc.Key{Name: "mcu", Doc: "line that the MCU drives", Type: doc.NameType},
		doc.Key{Name: "device", Doc: "line that the device drives", Type: doc.NameType},
	)},
	doc.Key{Name: "delay", Doc: "propagation delay of the wires", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "port", Doc: "a real port in the place of the simulation", Type: doc.Map(
		doc.Key{Name: "path", Doc: "path of the port", Type: doc.NameType, Required: true},
		doc.Key{Name: "flow", Doc: "flow control", Type: doc.Enum("none", "rts-cts", "xon-xoff"), Default: "none"},
		doc.Key{Name: "dtr", Doc: "modem line DTR on opening", Type: onOffLeave, Default: "leave"},
		doc.Key{Name: "rts", Doc: "modem line RTS on opening", Type: onOffLeave, Default: "leave"},
	)},
	doc.Key{Name: "checks", Doc: "expectations by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "send", Doc: "text to send", Type: doc.NameType},
		doc.Key{Name: "send-hex", Doc: "bytes to send, as 53 4E 0A", Type: hexType(false)},
		doc.Key{Name: "expect", Doc: "text expected", Type: doc.Scalar("a text", func(s string) error {
			if s == "" {
				return fmt.Errorf("the text is empty")
			}
			return nil
		})},
		doc.Key{Name: "any", Doc: "the character that stands for any byte in expect", Type: doc.Scalar("one ASCII character", func(s string) error {
			if len(s) != 1 {
				return fmt.Errorf("%q is not one character", s)
			}
			return nil
		})},
		doc.Key{Name: "expect-hex", Doc: "bytes expected, .. for any", Type: hexType(true)},
		doc.Key{Name: "within", Doc: "time from the end of sending to the last expected byte", Type: doc.TimeType, Required: true},
	))},
)

func frameType() *doc.Type {
	for _, k := range uart.Schema.Keys() {
		if k.Name == "frame" {
			return k.Type
		}
	}
	return doc.AnyText
}

func hexType(any bool) *doc.Type {
	return doc.Scalar("bytes in hex", func(s string) error { _, err := check.ParseHex(s, any); return err })
}

func checkFile(s string) error {
	if strings.TrimSpace(s) == "" {
		return fmt.Errorf("the name is empty")
	}
	if strings.HasPrefix(s, "/") || strings.Contains(s, "..") || strings.Contains(s, `\`) {
		return fmt.Errorf("%q leaves the bench's folder", s)
	}
	return nil
}

package picture

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/scene"
)

// Look says what of a link's timing is drawn.
type Look struct {
	Device  int    // on a bus: the device with the index
	Data    bool   // of can: the data phase
	FromMCU bool   // of a character link: the way from the MCU
	Value   uint16 // of a character link: the character
}

// timings draw the timing of links, by the name of their kind: a frame, a valid
// window, a period of the clock, a bit.
var timings = map[string]func(l *bench.Link, look Look) *scene.Scene{
	"uart": func(l *bench.Link, k Look) *scene.Scene {
		return Frame(Ends(l.Model.(*bench.UART), k.FromMCU), k.Value)
	},
	"spi": func(l *bench.Link, k Look) *scene.Scene {
		m := l.Model.(*bench.SPI)
		return SPITiming(l, m.Devices[min(k.Device, len(m.Devices)-1)], m.Clocking.Unit)
	},
	"i2c":   func(l *bench.Link, _ Look) *scene.Scene { return I2CTiming(l.Name, l.Model.(*bench.I2C)) },
	"pulse": func(l *bench.Link, _ Look) *scene.Scene { return PulseTiming(l.Model.(*bench.Pulse)) },
	"can":   func(l *bench.Link, k Look) *scene.Scene { return CANTiming(l.Name, l.Model.(*bench.CAN), k.Data) },
}

// Timing draws the timing of a link; nil where there is no such picture.
func Timing(l *bench.Link, look Look) *scene.Scene { return timings[l.Kind.Name](l, look) }

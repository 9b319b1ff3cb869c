package picture

import (
	"gavrix/core/bench"
	"gavrix/core/scene"
)

// Bus is the timing of a bus: of spi with the device that has the index, of can
// in the nominal or the data phase.
func Bus(l *bench.Bus, dev int, data bool) *scene.Scene {
	switch {
	case l.SPI != nil && dev < len(l.SPI.Devices):
		return SPITiming(l.SPI.Devices[dev], l.Unit.SPI.Unit)
	case l.I2C != nil:
		return I2CTiming(l.Name, l.I2C)
	case l.CAN != nil:
		return CANTiming(l.Name, l.CAN, data)
	}
	return nil
}

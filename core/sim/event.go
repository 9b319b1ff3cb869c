package sim

// eventKind says what is due.
type eventKind uint8

const (
	sent    eventKind = iota // a sender finished a character
	look                     // a line's receivers want to be fed
	again                    // a line's receivers are fed at a time of its own
	acts                     // the device does something by itself
	asks                     // the firmware sends by itself
	service                  // the handler has emptied the receive register
	turn                     // the firmware may begin its next exchange
	cleared                  // what an end says with its ready line is at the other
	drains                   // the MCU's queue may be empty enough to go on
	worked                   // the device is done with a character
	letGo                    // an end's driver leaves the shared wire
	busRuns                  // a shared bus is read, and does what is due
)

// event is what is due.
type event struct {
	kind  eventKind
	arg   uint8
	actor uint16
}

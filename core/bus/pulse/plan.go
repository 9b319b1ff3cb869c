package pulse

import (
	"errors"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const planHelp = `3C0 3C1 .. 010   elements in hex, .. for any`

// plan gives the levels of elements and their latch as the receiver wants them, whatever
// the sender makes.
func plan(ends []bus.Settings, text string, _ quantity.Time, fill bool) ([]wire.Window, error) {
	s := bus.At(ends, 1).(Settings)
	elements, err := ParseElements(s, text, &fill)
	if err != nil {
		return nil, err
	}
	tog, end := Encode(nil, s, s.Latch/4, elements...)
	return []wire.Window{{To: end + 2*s.Latch, Toggles: tog}}, nil
}

// ParseElements reads elements in hex. Open ones are filled with zeros or with ones;
// with nil they are refused, as what is sent is never open.
func ParseElements(s Settings, text string, fill *bool) ([]uint32, error) {
	var out []uint32
	for _, w := range strings.Fields(text) {
		if w == bus.Open && fill == nil {
			return nil, errors.New(".. is no element: say what is sent")
		}
		v, err := bus.PlannedByte(w, s.Element, fill != nil && *fill)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	if len(out) == 0 {
		return nil, errors.New("no elements are planned")
	}
	return out, nil
}

package device

import (
	"fmt"
	"math/big"
	"strings"

	"gavrix.org/gavrix/core/doc"
)

// Effect is how what a part does is shown beside the bits that do it.
type Effect struct {
	// Switches are what the bits of the value switch, one each; "" where they switch nothing.
	Switches string
	// Low: a bit that is 0 switches on.
	Low bool
	// Bar: the value is a position between two ends.
	Bar bool
}

// effectKeys are the keys of what a value does.
func effectKeys() []doc.Key {
	return []doc.Key{
		{Name: "switches", Doc: "what the bits switch, one each, as valves or lamps: they are shown side by side", Type: doc.AnyText},
		{Name: "active", Doc: "the level of a bit that switches on", Type: doc.Enum("high", "low"), Default: "high"},
		{Name: "bar", Doc: "it is a position between its ends, and shown as one", Type: doc.YesNo, Default: "no"},
	}
}

// effect reads what a value does.
func (x *mapper) effect(v *Value, n *doc.Node) {
	v.Effect = Effect{Switches: strings.TrimSpace(n.Text("switches")), Low: doc.Of[string](n, "active") == "low", Bar: doc.Of[bool](n, "bar")}
	switch e := v.Effect; {
	case e.Switches != "" && e.Bar:
		x.fault("bad-effect", n.Get("bar"), "keep one", "%s: it is bits that switch, or a position, not both", v.Name)
	case e.Switches != "" && (v.Scaled() || len(v.Codes) > 0):
		x.fault("bad-effect", n.Get("switches"), "leave scale and codes out", "%s: bits that switch something are no number with a scale", v.Name)
	case e.Low && e.Switches == "":
		x.fault("bad-effect", n.Get("active"), "add `switches:`", "%s: active says which level switches on what `switches` names", v.Name)
	}
}

// bar is how many steps a position is shown in.
const bar = 20

// Shown gives what the value's bits do as text: a mark for each thing that is switched, the
// highest bit first, or a position between two ends; "" where it does nothing that is
// described.
func (v *Value) Shown(raw uint64) string {
	switch {
	case v.Switches != "":
		marks := strings.Builder{}
		on := 0
		for i := v.Bits - 1; i >= 0; i-- {
			if (raw>>i&1 == 1) != v.Low {
				on++
				marks.WriteRune('●')
			} else {
				marks.WriteRune('○')
			}
			if i > 0 && i%4 == 0 {
				marks.WriteByte(' ')
			}
		}
		return fmt.Sprintf("%s  %d of %d %s on", marks.String(), on, v.Bits, v.Switches)
	case v.Effect.Bar:
		d := v.Format.Decode(raw)
		least, most := v.Format.Range()
		if v.Least != nil {
			least = v.Least
		}
		if v.Most != nil {
			most = v.Most
		}
		if d.Number == nil || least.Cmp(most) >= 0 {
			return ""
		}
		part := new(big.Rat).Quo(new(big.Rat).Sub(d.Number, least), new(big.Rat).Sub(most, least))
		f, _ := part.Float64()
		at := min(max(int(f*bar+0.5), 0), bar)
		return "├" + strings.Repeat("─", at) + "◆" + strings.Repeat("─", bar-at) + "┤  " + d.Meaning()
	}
	return ""
}

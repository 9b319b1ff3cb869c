package picture

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

func ends(sender, receiver string, sRate, rRate float64) FrameEnds {
	s, _ := uart.ParseFrame(sender)
	r, _ := uart.ParseFrame(receiver)
	return FrameEnds{
		Sender: "S", Receiver: "R", SenderRate: quantity.FromBd(sRate), ReceiverRate: quantity.FromBd(rRate),
		SenderSet: uart.Settings{Frame: s, Oversampling: 16}, ReceiverSet: uart.Settings{Frame: r, Oversampling: 16},
	}
}

// TestTheLevelsAreThoseOfTheCells: the line drawn at the middle of each cell is
// the bit that the cell names.
func TestTheLevelsAreThoseOfTheCells(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		e := ends(rapid.SampledFrom([]string{"8N1", "7E1", "8O2", "9E2"}).Draw(rt, "frame"), "8N1", 57600, 57600)
		e.Inverted = rapid.Bool().Draw(rt, "inverted")
		v := rapid.Uint16().Draw(rt, "value") & e.SenderSet.Frame.Mask()
		s := Frame(e, v)
		word := e.SenderSet.Frame.Levels(v)
		for i, c := range s.Lanes[0].Cells {
			mid := (c.From + c.To) / 2
			high := s.Lanes[1].Levels.High
			for _, at := range s.Lanes[1].Levels.Toggles {
				if at <= mid {
					high = !high
				}
			}
			require.Equal(rt, word>>i&1 == 1, high != e.Inverted, c.Label)
		}
	})
}

func TestMarksFollowTheDrift(t *testing.T) {
	tone := func(off float64) scene.Tone {
		s := Frame(ends("8N1", "8N1", 10000, 10000/(1+off)), 'A')
		m := s.Lanes[3].Marks
		return m[len(m)-1].Tone
	}
	assert.Equal(t, scene.Plain, tone(0.01))
	assert.Equal(t, scene.Doubt, tone(0.05), "between the limits of the worst and the best phase")
	assert.Equal(t, scene.Differ, tone(0.08))
	assert.Equal(t, scene.Differ, tone(-0.08))
}

func TestNotesSayWhatIsStored(t *testing.T) {
	assert.Equal(t, "R stores B4, no error flag.", Frame(ends("7E1", "8N1", 28800, 28800), '4').Notes[0])
	assert.Equal(t, "R stores 34, as sent.", Frame(ends("7E1", "7E1", 28800, 28800), '4').Notes[0])
	assert.Contains(t, Frame(ends("8N1", "7E1", 28800, 28800), 'T').Notes[0], "with parity error")
	s := Frame(ends("7E1", "8N1", 28800, 28800), '4')
	assert.Equal(t, scene.Differ, s.Lanes[2].Cells[8].Tone)
	assert.Equal(t, "'↵' (0A)", Named('\n'))
	assert.Equal(t, "1FF", Named(0x1ff))
}

// TestParityRulesThatDiffer: both ends' parity cells are marked where their rules differ,
// and only there.
func TestParityRulesThatDiffer(t *testing.T) {
	for a := uart.None; a < uart.Rules; a++ {
		for b := uart.None; b < uart.Rules; b++ {
			e := FrameEnds{Sender: "a", Receiver: "b", SenderRate: 9600 * quantity.Baud, ReceiverRate: 9600 * quantity.Baud}
			e.SenderSet.Frame, e.ReceiverSet.Frame = uart.Frame{Data: 7, Parity: a, Stop: 1}, uart.Frame{Data: 7, Parity: b, Stop: 1}
			s := Frame(e, '4')
			for _, lane := range []int{0, 2} {
				for _, c := range s.Lanes[lane].Cells {
					if c.Label == uart.ParityCell && a != uart.None && b != uart.None {
						assert.Equal(t, a != b, c.Tone == scene.Differ, "%s %s", a, b)
					}
				}
			}
		}
	}
}

package ui

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/draw/cells"
)

var modified = []tea.KeyPressMsg{
	{Code: 'd', Mod: tea.ModAlt}, {Code: tea.KeyDelete, Mod: tea.ModAlt}, {Code: 'b', Mod: tea.ModAlt}, {Code: 'f', Mod: tea.ModAlt}, {Code: tea.KeyBackspace, Mod: tea.ModAlt},
	{Code: 'w', Mod: tea.ModCtrl}, {Code: 'u', Mod: tea.ModCtrl}, {Code: 'k', Mod: tea.ModCtrl}, {Code: 'a', Mod: tea.ModCtrl}, {Code: 'e', Mod: tea.ModCtrl}, {Code: 'd', Mod: tea.ModCtrl},
	{Code: 't', Mod: tea.ModCtrl}, {Code: 'h', Mod: tea.ModCtrl}, {Code: tea.KeyLeft, Mod: tea.ModAlt}, {Code: tea.KeyRight, Mod: tea.ModAlt}, {Code: tea.KeyLeft, Mod: tea.ModCtrl}, {Code: tea.KeyRight, Mod: tea.ModCtrl},
	{Code: tea.KeyLeft}, {Code: tea.KeyRight}, {Code: tea.KeyHome}, {Code: tea.KeyEnd}, {Code: tea.KeyUp}, {Code: tea.KeyDown}, {Code: tea.KeyBackspace}, {Code: tea.KeyDelete}, {Code: tea.KeyTab},
}

// TestEntryStandsAnyKeys at any place of any text.
func TestEntryStandsAnyKeys(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		e := NewEntry()
		grid := cells.New(40, 1)
		for range rapid.IntRange(1, 60).Draw(rt, "keys") {
			switch rapid.IntRange(0, 3).Draw(rt, "what") {
			case 0:
				r := rapid.SampledFrom([]rune("ab é漢 \t")).Draw(rt, "rune")
				e.Key(tea.KeyPressMsg{Code: r, Text: string(r)})
			case 1:
				if rapid.IntRange(0, 9).Draw(rt, "keep") == 0 {
					e.Keep()
				}
			default:
				e.Key(rapid.SampledFrom(modified).Draw(rt, "key"))
			}
			e.Draw(grid.All(), 0, 0, "x")
		}
	})
}

func TestDeleteWord(t *testing.T) {
	for _, c := range []struct {
		text string
		at   int
		want string
	}{{"abc def", 0, " def"}, {"abc def", 3, "abc"}, {"abc def", 4, "abc "}, {"abc def", 6, "abc de"}, {"abc", 3, "abc"}, {"abc  ", 3, "abc"}, {"", 0, ""}} {
		e := NewEntry()
		e.Set(c.text)
		e.input.SetCursor(c.at)
		e.Key(tea.KeyPressMsg{Code: 'd', Mod: tea.ModAlt})
		require.Equal(t, c.want, e.Text(), c)
		require.Equal(t, c.at, e.input.Position())
	}
}

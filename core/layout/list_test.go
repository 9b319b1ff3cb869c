package layout

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/coding"
)

// TestLists: a list has as many members as the message has room for, and no more than it may have;
// what is left over is said to have no meaning; what is written is read back.
func TestLists(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		most, front := rapid.IntRange(1, 6).Draw(rt, "most"), rapid.IntRange(0, 3).Draw(rt, "front")
		way, flag := &Field{Name: "way", Letter: 'w', List: most, LowFirst: rapid.Bool().Draw(rt, "low first")}, &Field{Name: "flag", Letter: 'f', List: most}
		fields := []*Field{way, flag}
		rows := []Row{{front, front + 1, "wwwwwwww"}, {front + 2, front + 2, "f......."}}
		if front > 0 {
			fields = append(fields, &Field{Name: "head", Letter: 'h'})
			rows = append(rows, Row{0, 0, "hhhhhhhh"})
		}
		l, fault := Draw(8, rows, fields)
		require.Nil(rt, fault)
		l.Mean()
		words := Words(rapid.SliceOfN(rapid.Byte(), 0, front+3*most+5).Draw(rt, "message"))
		got := map[string]uint64{}
		for _, v := range l.Decode(words) {
			require.Equal(rt, v.Name == "head" && len(words) == 0, v.Missing, v.Name)
			got[v.Name] = v.Raw
		}
		whole := min(max(len(words)-front, 0)/3, most)
		for k := range whole {
			at := front + 3*k
			a, b := words[at], words[at+1]
			if way.LowFirst {
				a, b = b, a
			}
			require.Equal(rt, a<<8|b, got[fmt.Sprintf("way-%d", k+1)])
			require.Equal(rt, words[at+2]>>7, got[fmt.Sprintf("flag-%d", k+1)])
		}
		for k := whole; k < most; k++ {
			require.NotContains(rt, got, fmt.Sprintf("flag-%d", k+1))
			require.NotContains(rt, got, fmt.Sprintf("way-%d", k+1))
		}
		for w := front + 3*whole; w < len(words); w++ {
			require.Contains(rt, l.Unexplained(len(words)), w)
		}
		n := rapid.IntRange(1, most).Draw(rt, "written")
		to := map[string]string{fmt.Sprintf("way-%d", n): "0x1234"}
		out, err := l.Encode(nil, to)
		require.NoError(rt, err)
		require.Len(rt, out, front+3*n)
		require.Equal(rt, uint64(0x1234), l.Decode(out)[min(front, 1)+2*(n-1)].Raw)
	})
	_, fault := Draw(8, []Row{{0, 0, "aaaaaaaa"}, {1, 1, "bbbbbbbb"}}, []*Field{{Name: "a", Letter: 'a', List: 2}, {Name: "b", Letter: 'b'}})
	require.Contains(t, fault.Text, "a list is the last of a message")
	_, fault = Draw(8, []Row{{0, 0, "aaaaaaaa"}, {1, 1, "bbbbbbbb"}}, []*Field{{Name: "a", Letter: 'a', List: 2}, {Name: "b", Letter: 'b', List: 3}})
	require.Contains(t, fault.Text, "of one list")
}

// TestListsInTexts: as many numbers as a line has are read, each by its place; more than the list may
// have are refused with their place; what is said is read back.
func TestListsInTexts(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		between := rapid.SampledFrom([]string{",", "; ", "|"}).Draw(rt, "between")
		most := rapid.IntRange(1, 5).Draw(rt, "most")
		numbers := rapid.SliceOfN(rapid.IntRange(-99, 99), 1, 6).Draw(rt, "numbers")
		l, fault := Write("N={way} m", []*Field{{Name: "way", List: most, Between: between, Format: coding.Format{Bits: 64}}})
		require.Nil(rt, fault)
		l.Mean()
		var words []string
		given := map[string]string{}
		for i, n := range numbers {
			words = append(words, fmt.Sprint(n))
			given[fmt.Sprintf("way-%d", i+1)] = fmt.Sprint(n)
		}
		text := "N=" + strings.Join(words, between) + " m"
		values, why := l.Read([]byte(text))
		if len(numbers) > most {
			require.Contains(rt, why, fmt.Sprintf("more than %d of way", most))
			return
		}
		require.Empty(rt, why)
		require.Len(rt, values, len(numbers))
		for i, v := range values {
			require.Equal(rt, fmt.Sprintf("way-%d", i+1), v.Name)
			require.Equal(rt, words[i], text[v.From:v.To])
			f, ok := v.Float()
			require.True(rt, ok)
			require.InDelta(rt, numbers[i], f, 1e-9)
		}
		said, err := l.Say(given)
		require.NoError(rt, err)
		require.Equal(rt, text, string(said))
	})
}

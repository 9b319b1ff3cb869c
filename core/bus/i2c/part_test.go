package i2c

import (
	"fmt"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAddressesAreAskedAbout: the byte with the direction bit, and what may be decimal,
// are no addresses.
func TestAddressesAreAskedAbout(t *testing.T) {
	for text, want := range map[string]string{"0x96": "did you mean 0x4B", "0x97": "did you mean 0x4B", "96": "did you mean 0x4B (96 is the byte with the direction bit), or 0x60 (96 in decimal)", "4B": "did you mean 0x4B", "150": "write two digits in hex", "": "write two digits", "0x": "write two digits", "75": "0x75, or 0x4B"} {
		_, err := ParseAddress(text)
		require.Regexp(t, "(?i)"+regexp.QuoteMeta(want), err.Error(), text)
	}
	for text, want := range map[string]int{"0x4B": 0x4b, "0X4b": 0x4b, "0x7F": 0x7f, "0x03": 3} {
		n, err := ParseAddress(text)
		require.NoError(t, err)
		require.Equal(t, Address(want), n)
	}
}

// TestAddressesOnTheWire: each address of either size gives the bytes of the standard's
// tables, and only it.
func TestAddressesOnTheWire(t *testing.T) {
	seen := map[string]bool{}
	for n := range 0x80 {
		a, err := ParseAddress(fmt.Sprintf("0x%02X", n))
		require.NoError(t, err)
		require.Equal(t, []byte{byte(2 * n)}, a.Wire(false))
		require.Equal(t, []byte{byte(2*n + 1)}, a.Wire(true))
		seen[a.OnWire()] = true
	}
	for n := range 0x400 {
		a, err := ParseAddress(fmt.Sprintf("10-bit 0x%X", n))
		require.NoError(t, err)
		require.True(t, a.Ten())
		require.Equal(t, n, a.Number())
		w := a.Wire(false)
		require.Equal(t, n, int(w[0]&^0xF0>>1)<<8|int(w[1]))
		require.Equal(t, []byte{w[0] | 1}, a.Wire(true))
		seen[a.OnWire()] = true
	}
	require.Len(t, seen, 0x480)
	for _, s := range []string{"10-bit 1A3", "10-bit 0x400", "10-bit", "0x1A3"} {
		_, err := ParseAddress(s)
		require.ErrorContains(t, err, "10-bit", s)
	}
}

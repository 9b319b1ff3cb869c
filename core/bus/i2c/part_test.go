package i2c

import (
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
		require.Equal(t, want, n)
	}
}

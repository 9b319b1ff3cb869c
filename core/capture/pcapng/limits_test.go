package pcapng

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLimitsInWords(t *testing.T) {
	for in, want := range map[string]struct {
		path string
		l    Limits
	}{
		"lock.pcapng":                      {"lock.pcapng", Limits{}},
		"a b.pcapng every 100 MB keep 5":   {"a b.pcapng", Limits{Bytes: 100 << 20, Files: 5}},
		"lock.pcapng keep 2 every 90 s":    {"lock.pcapng", Limits{Time: 90 * time.Second, Files: 2}},
		"lock.pcapng every 10 min":         {"lock.pcapng", Limits{Time: 10 * time.Minute}},
		"lock.pcapng every 1 MB every 2 s": {"lock.pcapng", Limits{Bytes: 1 << 20, Time: 2 * time.Second}},
		"every day.pcapng":                 {},
		"":                                 {},
	} {
		path, l, err := ParseLimits(in)
		if in == "every day.pcapng" {
			// The first word is the name, whatever it is.
			assert.Equal(t, in, path)
			continue
		}
		require.NoError(t, err, in)
		assert.Equal(t, want.path, path, in)
		assert.Equal(t, want.l, l, in)
	}
	for _, in := range []string{"x every", "x keep 3", "x every 0 MB", "x every 0 min", "x every 1.5 h", "x every 2 parrots", "x every 1 ms", "x every 1 MB keep none", "x every 1 MB keep 1"} {
		_, _, err := ParseLimits(in)
		assert.Error(t, err, in)
	}
	assert.Equal(t, "lock-3.pcapng", (&Limits{Bytes: 1}).Name("lock.pcapng", 3))
	assert.Equal(t, "lock.pcapng", (&Limits{}).Name("lock.pcapng", 1))
}

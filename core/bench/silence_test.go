package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSilence(t *testing.T) {
	b := demoBench(t)
	assert.Equal(t, []string{"lower-gauge", "pump", "winch", "gate", "hull", "depth-strip"}, b.Speaks())
	require.NoError(t, b.Silence())
	assert.Empty(t, b.Speaks())
	require.NoError(t, b.Silence())
	assert.Nil(t, b.Link("lower-gauge").Model.(*UART).Ask)
	assert.Empty(t, b.Link("gate").Model.(*SPI).Asks)
	assert.Empty(t, b.Link("pump").Model.(*CAN).Nodes[0].Messages)
}

package guard

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPanicIsReportedAfterTheRescue(t *testing.T) {
	out, err := os.Create(filepath.Join(t.TempDir(), "err"))
	require.NoError(t, err)
	done := make(chan int, 1)
	exit, errOut = func(code int) { done <- code }, out
	defer func() { exit, errOut = os.Exit, os.Stderr }()
	var order []int
	OnPanic(func() { order = append(order, 1) })
	OnPanic(func() { panic("in the rescue") })
	remove := OnPanic(func() { order = append(order, 3) })
	OnPanic(func() { order = append(order, 2) })
	remove()
	Go(func() { panic("boom") })
	assert.Equal(t, 2, <-done)
	assert.Equal(t, []int{2, 1}, order)
	text, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	assert.Contains(t, string(text), "boom")
	assert.Contains(t, string(text), "guard_test.go")
}

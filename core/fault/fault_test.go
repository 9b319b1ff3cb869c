package fault

import (
	"encoding/csv"
	"encoding/xml"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCSV(t *testing.T) {
	for text, want := range map[string]string{
		"a,b\n\"x":     "line 2, column 3: a text in double quotes is not closed",
		"a,b\nx\"y,1":  "line 2, column 2: a double quote stands inside",
		"a,b\n1,2,3\n": "line 2, column 1: this row has another number of columns",
	} {
		_, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.Error(t, err, text)
		assert.ErrorContains(t, CSV(err), want, text)
	}
	other := errors.New("disk")
	assert.Equal(t, other, CSV(other))
}

func TestXML(t *testing.T) {
	for text, want := range map[string]string{
		"":                "holds no element",
		"<a><b>":          "ends before all tags are closed",
		"<a></b>":         "closed by another one's name",
		"<a>&nope;</a>":   "an entity",
		"<a>\xff\xfe</a>": "no UTF-8",
		"<a b></a>":       "this is no XML",
	} {
		var v struct{}
		dec := xml.NewDecoder(strings.NewReader(text))
		err := dec.Decode(&v)
		require.Error(t, err, text)
		line, column := dec.InputPos()
		got := XML(err, line, column)
		assert.ErrorContains(t, got, want, text)
		assert.NotContains(t, got.Error(), "syntax error")
	}
}

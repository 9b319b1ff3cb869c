package record

import "strings"

// LostText is what the text of a gap begins with that stands for a record which can't be read
// from where it was kept.
const LostText = "a record can't be read: "

// Lost reports whether a record is such a gap.
func (r *Record) Lost() bool {
	return r.Kind == Gap && r.Origin == FromGavrix && strings.HasPrefix(r.Text, LostText)
}

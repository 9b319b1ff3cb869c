package device

import (
	"fmt"

	"gavrix.org/gavrix/core/doc"
)

// mostMembers bounds a group.
const mostMembers = 256

// groupsKey describes registers that a part has several times, as one set for each channel.
func groupsKey(register, value []doc.Key) doc.Key {
	return doc.Key{Name: "groups", Doc: "registers and values that there are several times, as for each channel, by the name that the members begin with: CH makes CH1-GAIN, CH2-GAIN", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "count", Doc: "how many members there are", Type: doc.Int(1, mostMembers), Required: true},
		doc.Key{Name: "first", Doc: "number of the first member", Type: doc.Int(0, 1000), Default: "1"},
		doc.Key{Name: "step", Doc: "what is added to the number of a register from one member to the next", Type: numberType, Required: true},
		doc.Key{Name: "registers", Doc: "those of the first member, by name", Type: doc.MapOf(doc.Map(register...)), Required: true},
		doc.Key{Name: "values", Doc: "quantities of each member; their bits stand in registers of the member, or in others", Type: doc.MapOf(doc.Map(value...))},
	))}
}

// eachMember calls f for each member of each group, whose names and numbers are then those of the
// member.
func (x *mapper) eachMember(root *doc.Node, f func(group *doc.Node)) {
	for _, g := range root.Get("groups").All() {
		before := len(x.faults)
		for i := range doc.Of[int](g, "count") {
			x.prefix = fmt.Sprintf("%s%d-", g.Key, doc.Of[int](g, "first")+i)
			x.shift = uint64(i) * doc.Of[uint64](g, "step")
			if f(g); len(x.faults) > before {
				break // the others have the same
			}
		}
		x.prefix, x.shift = "", 0
	}
}

package device

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/register"
)

// TableOf gives the name of the file with registers that the text of a device file names,
// as it stands beside that file; "" where it names none.
func TableOf(name string, text []byte) string {
	file, _ := doc.Parse(name, text)
	if file == nil || file.Root == nil {
		return ""
	}
	n := file.Root.Get("table")
	if n == nil || n.Scalar == "" {
		return ""
	}
	return path.Join(path.Dir(name), n.Scalar)
}

var tableType = doc.Checked("a .csv or .svd file beside the device file", func(s string) error {
	if strings.TrimSpace(s) == "" || strings.HasPrefix(s, "/") || strings.Contains(s, "..") || strings.Contains(s, `\`) {
		return fmt.Errorf("%q: name a file below the folder of the device file", s)
	}
	return nil
})

// table takes registers from a file beside the device file.
func (x *mapper) table(dir fs.FS, d *Device, n *doc.Node) {
	if n == nil {
		return
	}
	name := path.Join(path.Dir(d.File), n.Scalar)
	if dir == nil {
		x.fault("table-unreadable", n, "read the device file from its folder", "the registers in %s can't be read from here", name)
		return
	}
	text, err := doc.ReadFile(dir, name)
	if err != nil {
		x.fault("table-unreadable", n, "put the file there or correct the name", "the registers can't be read: %v", err)
		return
	}
	m, err := register.Read(path.Ext(name), bytes.NewReader(text))
	if err != nil {
		x.fault("bad-table", n, "correct the file", "%s: %v", name, err)
		return
	}
	for _, from := range m.Registers {
		r := &Register{Register: from, Numbered: true, Access: accessOf(&from)}
		if slices.ContainsFunc(r.Fields, func(f register.Field) bool { return strings.ContainsAny(f.Name, " []|") }) || strings.ContainsAny(r.Name, " []|") {
			x.fault("bad-name", n, "take letters, digits and dashes", "%s: %s or one of its fields can't be named in patterns and operations", name, r.Name)
			continue
		}
		for _, o := range x.m.Registers {
			if o.Address == r.Address {
				x.fault("number-twice", n, "give each register a number of its own", "%s: %s and %s have the number 0x%X", name, o.Name, r.Name, r.Address)
			}
		}
		x.m.Registers = append(x.m.Registers, r)
		x.m.Values = append(x.m.Values, &Value{Name: r.Name, About: r.About, Pieces: []Piece{{r, 0, r.Bits}}, Format: coding.Format{Bits: r.Bits}})
		for _, f := range r.Fields {
			x.m.Values = append(x.m.Values, &Value{Name: r.Name + "." + f.Name, About: f.About, Pieces: []Piece{{r, f.Low, f.Bits}}, Format: coding.Format{Bits: f.Bits, Codes: f.Meanings}})
		}
	}
}

// accessOf gives the access of bits outside of fields: that of the fields, where they have
// all the same.
func accessOf(r *register.Register) register.Access {
	for i := range r.Fields {
		if cmp.Compare(r.Fields[i].Access, r.Fields[0].Access) != 0 {
			return register.ReadWrite
		}
	}
	if len(r.Fields) > 0 {
		return r.Fields[0].Access
	}
	return register.ReadWrite
}

// refine gives a register of the table a meaning as a whole, or a page.
func (x *mapper) refine(r *Register, n *doc.Node) {
	for _, key := range []string{"number", "width", "reset", "fields"} {
		if at := n.Get(key); at != nil {
			x.fault("twice-described", at, "leave it out, or take the register out of the table", "%s: its %s stands in the table", r.Name, key)
		}
	}
	if at := n.Get("access"); at != nil {
		r.Access, _ = register.ParseAccess(doc.As[string](at))
	}
	if at := n.Get("page"); at != nil {
		r.Paged, r.Page = true, doc.As[uint64](at)
	}
	v := x.m.Value(r.Name)
	x.format(v, n, r.Bits)
	if about := n.Text("about"); about != "" {
		v.About, r.About = about, about
	}
}

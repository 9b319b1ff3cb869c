package device

import (
	"cmp"
	"fmt"
	"io/fs"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

var accessType = doc.Enum("read-write", "read-only", "write-only", "write-1-to-clear", "clear-on-read", "write-1-to-start")

var numberType = doc.Scalar("a number, as 0x1F", func(s string) (uint64, error) {
	if index, sub, has := strings.Cut(s, " sub "); has {
		i, err := strconv.ParseUint(strings.TrimSpace(index), 0, 16)
		k, err2 := strconv.ParseUint(strings.TrimSpace(sub), 0, 8)
		if err != nil || err2 != nil {
			return 0, fmt.Errorf("%q: write index and sub-index, as 0x2001 sub 1", s)
		}
		return objects.Object{Index: uint16(i), Sub: uint8(k)}.Number(), nil
	}
	n, err := strconv.ParseUint(strings.ReplaceAll(s, "_", ""), 0, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no whole number from 0 on", s)
	}
	return n, nil
})

type amount struct {
	*big.Rat
	unit string
}

var amountType = doc.Scalar("a number or a fraction with its unit, as 0.25 Pa or 1/128 °C", func(s string) (amount, error) {
	r, unit, err := coding.ParseQuantity(s)
	return amount{r, unit}, err
})

// meaning are the keys of what bits mean.
func meaning() []doc.Key {
	return append(effectKeys(), append(formatKeys(),
		doc.Key{Name: "warn", Doc: "contents with which something is to be known: their numbers and what", Type: doc.MapOf(doc.AnyText)},
	)...)
}

// formatKeys are those of what a number stands for.
func formatKeys() []doc.Key {
	return []doc.Key{
		{Name: "about", Doc: "what it is", Type: doc.AnyText},
		{Name: "coding", Doc: "how the number stands in the bits", Type: doc.Enum(coding.Names()...), Default: "unsigned"},
		{Name: "scale", Doc: "what one count is, with its unit, as 0.25 Pa or 1/128 °C", Type: amountType},
		{Name: "offset", Doc: "what is added to the scaled number, as 25 °C", Type: amountType},
		{Name: "codes", Doc: "values with a meaning of their own: their numbers and words", Type: doc.MapOf(doc.AnyText)},
		{Name: "least", Doc: "the least that may be written", Type: amountType},
		{Name: "greatest", Doc: "the greatest that may be written", Type: amountType},
	}
}

// mapKeys are what a device file says of registers.
func mapKeys(messages bool) []doc.Key {
	field := append([]doc.Key{
		{Name: "bits", Doc: "its place in the register, as 7:4, or 3 for one bit", Type: doc.Scalar("bits, as 7:4 or 3", parseBits), Required: true},
		{Name: "access", Doc: "what reading and writing do; absent: as the register", Type: accessType},
	}, meaning()...)
	reg := append([]doc.Key{
		{Name: "number", Doc: "the number by which it is reached; absent: it stands in patterns by its name", Type: numberType},
		{Name: "width", Doc: "its bits", Type: doc.Int(1, 64), Default: "8"},
		{Name: "in-turn", Doc: "it is wider than what is moved at once: it goes in pieces under its number, one after the other, and which comes first", Type: doc.Enum("high-first", "low-first")},
		{Name: "page", Doc: "the page on which it is; absent: it is on all of them", Type: numberType},
		{Name: "access", Doc: "what reading and writing do", Type: accessType, Default: "read-write"},
		{Name: "reset", Doc: "content after power-up", Type: numberType, Default: "0"},
		{Name: "fields", Doc: "its bit fields, by name", Type: doc.MapOf(doc.Map(field...))},
	}, meaning()...)
	value := append([]doc.Key{
		{Name: "bits", Doc: "registers, or bits of them, that make it up, the most significant first: PRES_1 PRES_0[7:4]", Type: doc.Scalar("names of registers, with bits in brackets", parsePieces)},
		{Name: "from", Doc: "in place of bits: an expression of other values' names", Type: doc.AnyText},
		{Name: "unit", Doc: "unit of what the expression gives", Type: doc.AnyText},
		{Name: "unit-by", Doc: "the value whose word is its unit, where a setting decides that: codes: {0: °C, 1: °F}", Type: doc.NameType},
	}, meaning()...)
	operation := []doc.Key{
		{Name: "out", Doc: "what the bus controller sends: reg.7 1 | skip.8", Type: doc.AnyText},
		{Name: "in", Doc: "what the part sends in the same columns: skip.8 | value.8 ...", Type: doc.AnyText},
		{Name: "about", Doc: "what it is for", Type: doc.AnyText},
	}
	wear := doc.Key{Name: "endurance", Doc: "how often it may be done, where it wears something out; absent: not stated", Type: doc.Int(1, 1<<40)}
	operation = append(operation, wear)
	if messages {
		operation = []doc.Key{
			wear,
			{Name: "out", Doc: "the content of the request: 'L?' or 40 reg.8", Type: doc.AnyText, Required: true},
			{Name: "in", Doc: "the content of the answer: 'L=' LEVEL.point3; absent: none comes", Type: doc.AnyText},
			{Name: "after", Doc: "how long the simulated part takes to answer it; absent: 1 ms, on can as its frames say", Type: doc.TimeType},
			{Name: "most", Doc: "how many registers, or bytes of a memory, one request may be about; absent: any number", Type: doc.Int(1, 4096)},
			{Name: "split", Doc: "more than `most` are asked for in several requests; no: they are refused", Type: doc.YesNo, Default: "yes"},
			{Name: "about", Doc: "what it is for", Type: doc.AnyText},
		}
	}
	return []doc.Key{
		{Name: "access", Doc: "operations by name, as they stand on the bus", Type: doc.MapOf(doc.Map(operation...))},
		{Name: "table", Doc: "a .csv table or a .svd with registers, beside the device file; those below `registers` come in addition, or say what one of them means as a whole", Type: tableType},
		{Name: "registers", Doc: "registers by name", Type: doc.MapOf(doc.Map(reg...))},
		{Name: "values", Doc: "quantities that several registers make up, or parts of one, by name", Type: doc.MapOf(doc.Map(value...))},
		groupsKey(reg, value),
		{Name: "pages", Doc: "the value that says on which page the part is: it is written before registers of a page", Type: doc.NameType},
		{Name: "identity", Doc: "what tells the part from others", Type: doc.Map(
			doc.Key{Name: "read", Doc: "the value to read", Type: doc.NameType, Required: true},
			doc.Key{Name: "expect", Doc: "its bits, as 0xB7", Type: numberType, Required: true},
		)},
		{Name: "memory", Doc: "bytes that are reached by their number", Type: doc.Map(
			doc.Key{Name: "size", Doc: "bytes", Type: doc.Int(1, 1<<24), Required: true},
			doc.Key{Name: "page", Doc: "bytes that one writing may reach: after the last of a page it goes on at its first; absent: all", Type: doc.Int(1, 1<<24)},
			doc.Key{Name: "write", Doc: "time that writing takes, in which the part does not answer", Type: doc.TimeType, Default: "0 ms"},
			doc.Key{Name: "endurance", Doc: "how often a page may be written; absent: not stated", Type: doc.Int(1, 1<<40)},
			doc.Key{Name: "lasting", Doc: "it keeps its bytes without supply", Type: doc.YesNo, Default: "yes"},
			doc.Key{Name: "power-cut", Doc: "what is left of a writing that the end of the supply interrupts: of each byte the old or the new one, all old, all new, or anything in the whole page", Type: CutType, Default: string(CutMixed)},
			areasKey, protectKey,
		)},
		{Name: "jobs", Doc: "what writing a bit starts, by name", Type: doc.MapOf(doc.Map(
			doc.Key{Name: "start", Doc: "the bit that starts it when 1 is written", Type: doc.NameType, Required: true},
			doc.Key{Name: "lasts", Doc: "how long it takes at most", Type: doc.TimeType, Required: true},
			doc.Key{Name: "times", Doc: "what `lasts` is multiplied by, where settings decide how long it takes: 2 ^ CTRL.OSR", Type: doc.AnyText},
			doc.Key{Name: "busy", Doc: "the bit that is 1 meanwhile", Type: doc.NameType},
			doc.Key{Name: "ready", Doc: "bits that are 1 when it is over", Type: doc.ListOf(doc.NameType, 1)},
			doc.Key{Name: "clash", Doc: "the bit that comes up when it is started while it runs", Type: doc.NameType},
			doc.Key{Name: "gives", Doc: "values that it measures: they stand still until the next", Type: doc.ListOf(doc.NameType, 1)},
			doc.Key{Name: "about", Doc: "what it is for", Type: doc.AnyText},
		))},
		{Name: "retry", Doc: "what fails without harm is sent again: nobody answered, or a check did not fit", Type: doc.Map(
			doc.Key{Name: "times", Doc: "how often, after the first", Type: doc.Int(1, 100), Required: true},
			doc.Key{Name: "after", Doc: "time before each", Type: doc.TimeType, Default: "0 ms"},
		)},
		{Name: "power-up", Doc: "time from supply to the first answer", Type: doc.TimeType, Default: "0 ms"},
		{Name: "wrap", Doc: "after the register with the last number the one with the first follows", Type: doc.YesNo, Default: "no"},
		{Name: "refuses", Doc: "numbers of no register are not acknowledged", Type: doc.YesNo, Default: "no"},
	}
}

type bitRange struct{ low, bits int }

func parseBits(s string) (bitRange, error) {
	low, bits, err := register.ParseBits(s)
	return bitRange{low, bits}, err
}

type namedBits struct {
	name string
	bitRange
	all bool
}

func parsePieces(s string) ([]namedBits, error) {
	var out []namedBits
	for _, w := range strings.Fields(s) {
		p := namedBits{name: w, all: true}
		if open := strings.IndexByte(w, '['); open > 0 && strings.HasSuffix(w, "]") {
			r, err := parseBits(w[open+1 : len(w)-1])
			if err != nil {
				return nil, err
			}
			p = namedBits{name: w[:open], bitRange: r}
		}
		if strings.ContainsAny(p.name, "[],") {
			return nil, fmt.Errorf("%q: write the name of a register, with bits as NAME[7:4], and blanks between several", w)
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no register is named")
	}
	return out, nil
}

// mapper reads what a device file says of registers.
type mapper struct {
	m      *Map
	faults []finding.Finding
	// Of a member of a group: what stands before its names, and what is added to its numbers.
	prefix string
	shift  uint64
}

func (x *mapper) fault(code string, n *doc.Node, change, format string, args ...any) {
	x.faults = append(x.faults, finding.Finding{Severity: finding.Error, Code: code, Where: n.Place(), Seen: fmt.Sprintf(format, args...), Change: change})
}

// faultOf is fault at the key of something that goes over several lines.
func (x *mapper) faultOf(code string, n *doc.Node, change, format string, args ...any) {
	x.faults = append(x.faults, finding.Finding{Severity: finding.Error, Code: code, Where: n.KeyPlace(), Seen: fmt.Sprintf(format, args...), Change: change})
}

// bindMap reads the registers of a device file that was validated; nil where it names
// none.
func bindMap(dir fs.FS, d *Device, root *doc.Node) []finding.Finding {
	if root.Get("registers") == nil && root.Get("table") == nil && root.Get("access") == nil && root.Get("texts") == nil {
		for _, key := range []string{"values", "identity", "memory", "jobs"} {
			if n := root.Get(key); n != nil {
				return []finding.Finding{{Severity: finding.Error, Code: "no-registers", Where: n.KeyPlace(), Seen: key + " without registers", Change: "add `registers:` and `access:`"}}
			}
		}
		return unused(root)
	}
	retry := root.Map("retry")
	x := &mapper{m: &Map{
		Retries: doc.Of[int](retry, "times"), RetryAfter: doc.Of[quantity.Time](retry, "after"),
		PowerUp: doc.Of[quantity.Time](root, "power-up"), Wrap: doc.Of[bool](root, "wrap"), Refuses: doc.Of[bool](root, "refuses"),
		about: map[*access.Pattern]string{}, endures: map[*access.Pattern]int{},
	}}
	if bind := reaches[d.Kind.Name].bind; bind != nil {
		bind(x, d, root)
		if x.m.Dialogue == nil {
			return x.faults
		}
		x.m.Dialogue.After = map[*access.Pattern]quantity.Time{}
	}
	x.table(dir, d, root.Get("table"))
	tabled := len(x.m.Registers)
	for _, n := range root.Get("registers").All() {
		if r := x.m.Named(n.Key); r != nil && slices.Index(x.m.Registers, r) < tabled {
			x.refine(r, n)
			continue
		}
		x.register(n)
	}
	x.eachMember(root, func(g *doc.Node) {
		for _, n := range g.Get("registers").All() {
			x.register(n)
		}
	})
	slices.SortStableFunc(x.m.Registers, func(a, b *Register) int {
		switch {
		case a.Numbered != b.Numbered:
			if a.Numbered {
				return -1
			}
			return 1
		case a.Address < b.Address:
			return -1
		case a.Address > b.Address:
			return 1
		}
		return cmp.Compare(a.Page, b.Page)
	})
	// What builds on something that has a fault is not looked at.
	for _, stage := range []func(){
		func() {
			for _, n := range root.Get("values").All() {
				if n.Get("from") == nil {
					x.value(n)
				}
			}
			x.eachMember(root, func(g *doc.Node) {
				for _, n := range g.Get("values").All() {
					x.value(n)
				}
			})
		},
		func() {
			for _, n := range root.Get("values").All() {
				if n.Get("from") != nil {
					x.value(n)
				}
			}
			if n := root.Get("memory"); n != nil {
				x.memory(n)
			}
			for _, n := range root.Get("texts").All() {
				x.text(n)
			}
			rules := x.rules(d)
			if x.m.Dialogue == nil {
				rules.Checking = x.checking(d, root)
			}
			for _, n := range root.Get("access").All() {
				x.pattern(rules, n)
			}
			if x.m.Dialogue != nil && x.m.Dialogue.Objects {
				x.objectPatterns(rules, root)
			}
			if x.m.Dialogue != nil {
				x.refusals(rules, root)
			}
		},
		func() { x.chain(d, root) },
		func() { x.idles(d.Kind.Selects, root) },
		func() { x.turns(root) },
		func() { x.reachable(root) },
		func() {
			x.pages(root)

			for _, n := range root.Get("jobs").All() {
				x.job(n)
			}
			x.identity(root.Get("identity"))
		},
	} {
		if len(x.faults) > 0 {
			return x.faults
		}
		stage()
	}
	if len(x.faults) == 0 {
		d.Map = x.m
	}
	return x.faults
}

// named says whether a name can stand in patterns and operations.
func (x *mapper) named(n *doc.Node) bool {
	if strings.ContainsAny(n.Key, " []|") {
		x.fault("bad-name", n, "take letters, digits and dashes", "%q can't be named in patterns and operations", n.Key)
		return false
	}
	return true
}

func (x *mapper) register(n *doc.Node) {
	r := &Register{Register: register.Register{Name: x.prefix + n.Key, Bits: doc.Of[int](n, "width"), Reset: doc.Of[uint64](n, "reset"), About: n.Text("about")}}
	r.Access, _ = register.ParseAccess(doc.Of[string](n, "access"))
	if !x.named(n) {
		return
	}
	if slices.Contains([]string{"reg", "value", "more", "skip", "check", "count", "echo", "why", "text", "_"}, n.Key) {
		x.fault("bad-name", n, "take another name", "%s has a meaning of its own in patterns", n.Key)
		return
	}
	if at := n.Get("in-turn"); at != nil {
		r.Turn, r.LowFirst = -1, doc.As[string](at) == "low-first" // its size is known with the patterns
	}
	if at := n.Get("page"); at != nil {
		r.Paged, r.Page = true, doc.As[uint64](at)
		if n.Get("number") == nil {
			x.fault("bad-page", at, "give it a number", "%s is reached by no number: a page has no effect", r.Name)
		}
	}
	if at := n.Get("number"); at != nil {
		r.Numbered, r.Address = true, doc.As[uint64](at)+x.shift
		for _, o := range x.m.Registers {
			if o.Numbered && o.Address == r.Address && (!o.Paged || !r.Paged || o.Page == r.Page) && !x.sides(o, r, n) {
				x.fault("number-twice", at, "give each register a number of its own", "%s and %s have the number 0x%X", o.Name, r.Name, r.Address)
			}
		}
	}
	if o := x.m.Named(r.Name); o != nil {
		x.fault("name-twice", n, "names differ by more than capitals", "two registers are called %s", r.Name)
	}
	whole := &Value{Name: r.Name, About: r.About, Pieces: []Piece{{r, 0, r.Bits}}}
	x.format(whole, n, r.Bits)
	values := []*Value{whole}
	for _, f := range n.Get("fields").All() {
		if !x.named(f) {
			continue
		}
		at := doc.Of[bitRange](f, "bits")
		field := register.Field{Name: f.Key, Low: at.low, Bits: at.bits, Access: r.Access, About: f.Text("about")}
		if a := f.Text("access"); a != "" {
			field.Access, _ = register.ParseAccess(a)
		}
		v := &Value{Name: r.Name + "." + f.Key, About: field.About, Pieces: []Piece{{r, at.low, at.bits}}}
		x.format(v, f, at.bits)
		field.Meanings = v.Codes
		if o := r.Field(f.Key); o != nil {
			x.fault("name-twice", f, "names differ by more than capitals", "%s has two fields %s", r.Name, f.Key)
		}
		r.Fields = append(r.Fields, field)
		if err := r.Check(); err != nil {
			x.fault("bad-field", f.Get("bits"), "fix its bits", "%v", err)
			r.Fields = r.Fields[:len(r.Fields)-1]
			continue
		}
		values = append(values, v)
	}
	if err := r.Check(); err != nil {
		where := n.Get("reset")
		if where == nil {
			where = n
		}
		x.fault("bad-register", where, "fix it", "%v", err)
		return
	}
	x.m.Registers = append(x.m.Registers, r)
	x.m.Values = append(x.m.Values, values...)
}

// sides says whether two registers share a number because one is read and the other one
// written.
func (x *mapper) sides(o, r *Register, n *doc.Node) bool {
	for _, f := range n.Get("fields").All() {
		if f.Get("access") != nil {
			return false
		}
	}
	if o.Side != BothSides {
		return false
	}
	all := func(r *Register, a register.Access) bool {
		return r.Access == a && !r.some(func(b register.Access) bool { return b != a })
	}
	switch {
	case all(o, register.WriteOnly) && r.Access == register.ReadOnly:
		o.Side, r.Side = WriteSide, ReadSide
	case all(o, register.ReadOnly) && r.Access == register.WriteOnly:
		o.Side, r.Side = ReadSide, WriteSide
	default:
		return false
	}
	return true
}

// format reads what the bits of a value mean, and what they do.
func (x *mapper) format(v *Value, n *doc.Node, bits int) {
	x.means(v, n, bits)
	x.effect(v, n)
}

// means reads what the bits of a value mean.
func (x *mapper) means(v *Value, n *doc.Node, bits int) {
	v.Bits = bits
	v.Coding, _ = coding.Parse(doc.Of[string](n, "coding"))
	if err := v.Coding.Check(bits); err != nil {
		at := n.Get("coding")
		if at == nil {
			at = n
		}
		x.fault("bad-coding", at, "take another coding, or other bits", "%s: %v", v.Name, err)
	}
	units := map[string]*doc.Node{}
	for key, to := range map[string]**big.Rat{"scale": &v.Scale, "offset": &v.Offset, "least": &v.Least, "greatest": &v.Most} {
		at := n.Get(key)
		if at == nil {
			continue
		}
		a := doc.As[amount](at)
		*to = a.Rat
		if a.unit != "" {
			units[a.unit] = at
			v.Unit = a.unit
		}
	}
	if len(units) > 1 {
		x.fault("units-differ", n, "write one unit", "%s: scale, offset and bounds have different units", v.Name)
	}
	if v.Scale != nil && v.Scale.Sign() == 0 {
		x.fault("bad-scale", n.Get("scale"), "write what one count is", "%s: a scale of 0", v.Name)
		v.Scale = nil
	}
	for _, c := range n.Get("warn").All() {
		raw, err := strconv.ParseUint(c.Key, 0, 64)
		if err != nil || raw&^ones(bits) != 0 || strings.TrimSpace(c.Scalar) == "" {
			x.fault("bad-code", c, "write a number of its bits, and what is to be known", "%s: warn %s: %q", v.Name, c.Key, c.Scalar)
			continue
		}
		if v.Warns == nil {
			v.Warns = map[uint64]string{}
		}
		v.Warns[raw] = c.Scalar
	}
	words := map[string]bool{}
	for _, c := range n.Get("codes").All() {
		raw, err := strconv.ParseUint(c.Key, 0, 64)
		switch word := c.Scalar; {
		case err != nil:
			x.fault("bad-code", c, "write it as a number, as 2, 0x1F or 0b10", "%s: %q is no code", v.Name, c.Key)
		case raw&^ones(bits) != 0:
			x.fault("bad-code", c, "write a code of its bits", "%s: code %s does not fit %d bits", v.Name, c.Key, bits)
		case strings.TrimSpace(word) == "":
			x.fault("bad-code", c, "write its meaning", "%s: code %s has no word", v.Name, c.Key)
		case words[strings.ToLower(word)] || v.Codes[raw] != "":
			x.fault("code-twice", c, "give each code a word of its own", "%s: %s appears twice", v.Name, word)
		default:
			if v.Codes == nil {
				v.Codes = map[uint64]string{}
			}
			v.Codes[raw] = word
			words[strings.ToLower(word)] = true
		}
	}
}

// value reads a value that has a name of its own.
func (x *mapper) value(n *doc.Node) {
	v := &Value{Name: x.prefix + n.Key, About: n.Text("about"), Own: true}
	if !x.named(n) {
		return
	}
	if x.m.Value(x.prefix+n.Key) != nil {
		x.fault("name-twice", n, "take another name", "%s is the name of a register or of another value", x.prefix+n.Key)
		return
	}
	bits, from := n.Get("bits"), n.Get("from")
	switch {
	case (bits == nil) == (from == nil):
		x.fault("value-of-nothing", n, "write `bits:` or `from:`", "%s: give the bits that make it up, or an expression of other values, not both", n.Key)
		return
	case from != nil:
		x.calculated(v, n, from)
		return
	case n.Get("unit") != nil:
		x.fault("unit-without-from", n.Get("unit"), "write it after the scale", "%s: the unit of bits comes after their scale", n.Key)
	}
	total := 0
	used := map[*Register]uint64{}
	for _, p := range doc.As[[]namedBits](bits) {
		r := x.m.Named(x.prefix + p.name)
		if r == nil {
			r = x.m.Named(p.name)
		}
		if r == nil {
			x.fault("unknown-register", bits, x.near(p.name), "%s: there is no register %s", n.Key, p.name)
			return
		}
		if p.all {
			p.bitRange = bitRange{0, r.Bits}
		}
		if p.low+p.bits > r.Bits {
			x.fault("bad-bits", bits, "correct the bits", "%s: %s has %d bits", n.Key, r.Name, r.Bits)
			return
		}
		m := ones(p.bits) << p.low
		if used[r]&m != 0 {
			x.fault("bits-twice", bits, "correct the bits", "%s: bits of %s stand there twice", n.Key, r.Name)
			return
		}
		used[r] |= m
		v.Pieces = append(v.Pieces, Piece{r, p.low, p.bits})
		total += p.bits
	}
	if total > 64 {
		x.fault("value-too-wide", bits, "take fewer bits", "%s has %d bits; at most 64 make a value", n.Key, total)
		return
	}
	x.format(v, n, total)
	x.unitBy(v, n)
	x.m.Values = append(x.m.Values, v)
}

// unitBy reads the value that says the unit of another one.
func (x *mapper) unitBy(v *Value, n *doc.Node) {
	at := n.Get("unit-by")
	if at == nil {
		return
	}
	if v.UnitBy = x.m.Value(x.prefix + at.Scalar); v.UnitBy == nil {
		v.UnitBy = x.bitsValue(at, at.Scalar)
	}
	switch {
	case v.UnitBy == nil:
	case v.Unit != "":
		x.fault("two-units", at, "write the numbers without a unit", "%s: its unit is %s already", v.Name, v.Unit)
	case len(v.UnitBy.Codes) == 0:
		x.fault("unit-without-codes", at, "give it `codes:` whose words are the units", "%s: %s has no words", v.Name, v.UnitBy.Name)
	}
}

var identifier = regexp.MustCompile(`[\pL_][\pL\pN_]*`)

// calculated reads a value that an expression gives.
func (x *mapper) calculated(v *Value, n, from *doc.Node) {
	for _, key := range []string{"coding", "scale", "offset", "least", "greatest", "switches", "active", "bar"} {
		if n.Get(key) != nil {
			x.fault("from-and-"+key, n.Get(key), "put it into the expression", "%s is calculated: %s has no effect on it", n.Key, key)
		}
	}
	if w := n.Get("warn"); w != nil && n.Get("codes") == nil {
		x.fault("from-and-warn", w, "give it codes too", "%s is calculated: its numbers are no contents", n.Key)
	}
	f, known, ok := x.expression(n.Key, from)
	if !ok {
		return
	}
	x.means(v, n, 64)
	v.From, v.Inputs, v.Unit = f, known, n.Text("unit")
	x.unitBy(v, n)
	x.m.Values = append(x.m.Values, v)
}

// inExpressions is a name as expressions write it.
func inExpressions(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, ".", "_"), "-", "_")
}

// expression reads an expression of values; those with a table of codes are their numbers
// there. Names with dots and dashes may stand as they are, or with _ in their places.
func (x *mapper) expression(of string, at *doc.Node) (*formula.Formula, []*Value, bool) {
	text := x.spelled(at.Scalar)
	var names []string
	var known []*Value
	for _, v := range x.variables(text) {
		names, known = append(names, v.name), append(known, v.Value)
	}
	f, err := formula.New(text, names...)
	if err != nil {
		x.fault("bad-expression", at, "values above it are known by their names", "%s: %v", of, err)
	}
	return f, known, err == nil
}

// spelled writes the names of values in an expression as expressions have them, the longest
// name first where one begins with another.
func (x *mapper) spelled(text string) string {
	var own []string // names of the member of a group
	for _, v := range x.m.Values {
		if short, is := strings.CutPrefix(v.Name, x.prefix); is && x.prefix != "" && strings.Contains(text, short) {
			own = append(own, short)
		}
	}
	slices.SortFunc(own, func(a, b string) int { return len(b) - len(a) })
	for _, n := range own {
		text = respelled(text, n, x.prefix+n)
	}
	var names []string
	for _, v := range x.m.Values {
		if v.Name != inExpressions(v.Name) && strings.Contains(text, v.Name) {
			names = append(names, v.Name)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return len(b) - len(a) })
	for _, n := range names {
		text = respelled(text, n, n)
	}
	return text
}

// respelled puts a name as expressions have it in the place of another one.
func respelled(text, name, by string) string {
	whole := regexp.MustCompile(`(^|[^\pL\pN_.-])` + regexp.QuoteMeta(name) + `($|[^\pL\pN_.-])`)
	for whole.MatchString(text) { // neighbours share what is between them
		text = whole.ReplaceAllString(text, "${1}"+inExpressions(by)+"${2}")
	}
	return text
}

func (x *mapper) near(name string) string {
	var names []string
	for _, r := range x.m.Registers {
		names = append(names, r.Name)
	}
	if m := doc.Nearest(name, names); m != "" {
		return fmt.Sprintf("did you mean %s?", m)
	}
	return "describe it below `registers:`"
}

// rules are what patterns of the part are held to.
func (x *mapper) rules(d *Device) access.Rules {
	rules := reaches[d.Kind.Name].rules(d.End)
	rules.Register = func(name string) (int, bool) {
		if r := x.m.Named(name); r != nil {
			return r.Bits, true
		}
		return 0, false
	}
	rules.Signed = func(name string) bool {
		v := x.m.Value(name)
		return v != nil && v.Coding == coding.Signed
	}
	rules.Text = func(name string) (int, bool) {
		if t := x.m.TextNamed(name); t != nil {
			return t.Most, true
		}
		return 0, false
	}
	return rules
}

// pattern reads an operation.
func (x *mapper) pattern(rules access.Rules, n *doc.Node) {
	if !x.named(n) {
		return
	}
	parse := access.Parse
	if x.m.Dialogue != nil {
		parse = access.ParseMessage
	}
	p, err := parse(n.Key, n.Text("out"), n.Text("in"), rules)
	if err != nil {
		x.fault("bad-pattern", n, "correct the pattern", "%s: %v", n.Key, err)
		return
	}
	if x.m.Dialogue != nil {
		if at := n.Get("after"); at != nil {
			x.m.Dialogue.After[p] = doc.As[quantity.Time](at)
		}
		if at := n.Get("most"); at != nil {
			if p.Most = doc.As[int](at); !p.Repeats() {
				x.fault("bad-pattern", at, "leave it out", "%s is about one register at a time: most has no effect", n.Key)
			}
		}
		if p.Whole = !doc.Of[bool](n, "split"); p.Whole && p.Most == 0 {
			x.fault("bad-pattern", n.Get("split"), "give `most`, or leave it out", "%s takes any number in one request: split has no effect", n.Key)
		}
	}
	if _, b, err := access.Distinct(append(slices.Clone(x.m.Patterns), p)); err != nil {
		x.fault("patterns-alike", n, "let the same come back in both until then, or give them a bit in which they differ earlier", "%s can't be told from another operation: %v", b.Name, err)
		return
	}
	x.m.Patterns = append(x.m.Patterns, p)
	x.m.about[p] = n.Text("about")
	if at := n.Get("endurance"); at != nil {
		x.m.endures[p] = doc.As[int](at)
	}
}

// reachable holds registers and patterns against each other.
func (x *mapper) reachable(root *doc.Node) {
	for _, p := range x.m.Patterns {
		if p.Text == nil && p.NumberBits > 0 && !(x.m.Memory != nil && p.ValueBits == 8) && !slices.ContainsFunc(x.m.Registers, func(r *Register) bool { return r.Numbered && r.AtOnce() == p.ValueBits }) {
			x.fault("no-such-register", root.Get("access", p.Name), "correct the pattern, or the width of the registers", "%s is for registers of %d bits; none has that size", p.Name, p.ValueBits)
		}
	}
	for _, p := range x.m.Patterns {
		for _, name := range p.HeldOut {
			if r := x.m.Named(name); r != nil && !r.Writable() {
				x.fault("read-only-sent", root.Get("access", p.Name), "put it into the line `in`, or correct its access", "%s sends %s, which is %s", p.Name, r.Name, r.Access)
			}
		}
	}
	x.memoryReached(root)
	for _, t := range x.m.Texts {
		if !slices.ContainsFunc(x.m.Patterns, func(p *access.Pattern) bool {
			return p.Text != nil && (p.Carries(t.Name) || t.Numbered && p.Text.Name == "" && t.Number&^ones(p.NumberBits) == 0)
		}) {
			x.fault("text-unreachable", root.Get("texts", t.Name), "name it in a pattern, or give it a number and add a pattern with reg and text", "no pattern reads or writes %s", t.Name)
		}
	}
	for _, r := range x.m.Registers {
		n := root.Get("registers", r.Name)
		if !r.Numbered {
			if !slices.ContainsFunc(x.m.Patterns, func(p *access.Pattern) bool {
				return slices.Contains(p.HeldIn, r.Name) || slices.Contains(p.HeldOut, r.Name)
			}) {
				x.fault("register-unreachable", n, "give it a number, or name it in a pattern", "%s has no number, and no pattern names it", r.Name)
			}
			continue
		}
		generic := false
		for _, p := range x.m.Patterns {
			if p.NumberBits == 0 || p.ValueBits != r.AtOnce() {
				continue
			}
			if generic = true; r.Address&^ones(p.NumberBits) != 0 {
				x.fault("number-too-wide", n.Get("number"), "correct the number, or the pattern", "%s: 0x%X does not fit the %d bits that %s has for the number", r.Name, r.Address, p.NumberBits, p.Name)
				break
			}
		}
		if !generic && !slices.ContainsFunc(x.m.Patterns, func(p *access.Pattern) bool {
			return slices.Contains(p.HeldIn, r.Name) || slices.Contains(p.HeldOut, r.Name)
		}) && len(x.faults) == 0 {
			x.fault("register-unreachable", n, "add a pattern, or fix its width", "%s has %d bits; no pattern reads or writes registers of that size", r.Name, r.Bits)
		}
	}
}

// idles refuses operations that do another one with what is sent while their answer comes:
// on a bus whose spans are transactions of their own that would be done.
func (x *mapper) idles(selects bool, root *doc.Node) {
	for _, p := range x.m.Patterns {
		for k := 1; selects && k < len(p.Spans); k++ {
			other, _, found := access.Match(x.m.Patterns, []access.Seen{p.Spans[k].Idle()}, x.m.Fits)
			if found && (other.Pattern.Writes || len(other.Pattern.HeldOut) > 0 || Command(other.Pattern)) {
				x.fault("answer-writes", root.Get("access", p.Name, "out"), "write constants there that are no operation", "%s: what is sent in part %d is the operation %s, which would be done", p.Name, k+1, other.Pattern.Name)
			}
		}
	}
}

// turns finds the sizes of the pieces in which registers go.
func (x *mapper) turns(root *doc.Node) {
	for _, r := range x.m.Registers {
		if r.Turn == 0 {
			continue
		}
		r.Turn = 0
		for _, p := range x.m.Patterns {
			if p.NumberBits > 0 && p.ValueBits > 0 && p.ValueBits < r.Bits && r.Bits%p.ValueBits == 0 {
				r.Turn = max(r.Turn, p.ValueBits)
			}
		}
		if n := root.Get("registers", r.Name, "in-turn"); r.Turn == 0 || !r.Numbered {
			x.fault("bad-turn", n, "give it a number, and a width that is several times what a pattern moves", "%s: no pattern moves a part of its %d bits", r.Name, r.Bits)
		}
	}
}

// pages holds pages and the value that selects them against each other.
func (x *mapper) pages(root *doc.Node) {
	n := root.Get("pages")
	var paged *Register
	for _, r := range x.m.Registers {
		if r.Paged {
			paged = r
		}
	}
	switch {
	case n == nil && paged == nil:
		return
	case n == nil:
		x.fault("no-pages", root.Get("registers", paged.Name, "page"), "add `pages:` with the value that selects them", "%s is on a page, and nothing says how one gets there", paged.Name)
		return
	case paged == nil:
		x.fault("no-pages", n, "leave it out", "no register is on a page")
		return
	}
	v := x.bitsValue(n, n.Scalar)
	if v == nil {
		return
	}
	for _, r := range v.Registers() {
		if r.Paged {
			x.fault("bad-page", n, "take a register that is on all pages", "%s says which page, and is on one itself", r.Name)
		}
	}
	for _, r := range x.m.Registers {
		if r.Paged && r.Page&^ones(v.Bits) != 0 {
			x.fault("bad-page", root.Get("registers", r.Name, "page"), "fix it", "%s: page %d does not fit the %d bits of %s", r.Name, r.Page, v.Bits, v.Name)
		}
	}
	x.m.Pages = v
}

func (x *mapper) identity(n *doc.Node) {
	if n == nil {
		return
	}
	v := x.m.Value(n.Text("read"))
	if v == nil {
		x.fault("unknown-value", n.Get("read"), x.near(n.Text("read")), "identity: there is no value %q", n.Text("read"))
		return
	}
	x.m.Identity = &Identity{v, doc.Of[uint64](n, "expect")}
	if v.From != nil || x.m.Identity.Expect&^ones(v.Bits) != 0 {
		x.fault("bad-identity", n.Get("expect"), "fix it", "identity: 0x%X is no content of %s", x.m.Identity.Expect, v.Name)
	}
}

// bitsValue finds a value that bits hold.
func (x *mapper) bitsValue(at *doc.Node, name string) *Value {
	v := x.m.Value(name)
	if v == nil || v.From != nil {
		change := "write the name of a register, a field or a value"
		if near := doc.Nearest(name, x.m.Names()); near != "" {
			change = "did you mean " + near + "?"
		}
		x.fault("unknown-value", at, change, "there is no value %q that bits hold", name)
		return nil
	}
	return v
}

func (x *mapper) job(n *doc.Node) {
	if !x.named(n) {
		return
	}
	if x.m.Value(n.Key) != nil || x.m.Pattern(n.Key) != nil {
		x.fault("name-twice", n, "take another name", "%s is the name of something else", n.Key)
	}
	j := &Job{Name: n.Key, About: n.Text("about"), Lasts: doc.Of[quantity.Time](n, "lasts"), Start: x.bitsValue(n.Get("start"), n.Text("start"))}
	one := func(key string, to **Value) {
		if at := n.Get(key); at != nil {
			*to = x.bitsValue(at, at.Scalar)
		}
	}
	if at := n.Get("times"); at != nil {
		j.Times = x.condition(n.Key, at)
	}
	one("busy", &j.Busy)
	one("clash", &j.Clash)
	list := func(key string) []*Value {
		var out []*Value
		for _, at := range n.Get(key).All() {
			out = append(out, x.bitsValue(at, at.Scalar))
		}
		return out
	}
	j.Ready, j.Gives = list("ready"), list("gives")
	if j.Start != nil && (len(j.Start.Pieces) != 1 || j.Start.Bits != 1) {
		x.fault("bad-job", n.Get("start"), "name a field of one bit", "%s: %s has %d bits", n.Key, j.Start.Name, j.Start.Bits)
	} else if j.Start != nil {
		r := j.Start.Pieces[0].Register
		_, bit := j.Start.Into(r, 0, 1)
		r.Each(func(mask uint64, a register.Access) {
			if mask&bit != 0 && (a == register.ReadOnly || a == register.ReadClears) {
				x.fault("bad-job", n.Get("start"), "give it an access with which it can be written", "%s starts when 1 is written to %s, which is %s", n.Key, j.Start.Name, a)
			}
		})
	}
	x.m.Jobs = append(x.m.Jobs, j)
}

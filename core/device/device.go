// Package device reads device files: the frame settings of an external part
// and how it behaves, and runs that behaviour for the simulation.
package device

import (
	"fmt"
	"io/fs"
	"regexp"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"

	"gavrix/core/bus/can"
	"gavrix/core/bus/i2c"
	"gavrix/core/bus/spi"
	"gavrix/core/bus/uart"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// Device is a described part.
type Device struct {
	Name, About, Source string
	File                string
	Kind                string        // of bus
	End                 uart.Settings // of a uart device
	// The ends of devices on other buses; nil for all but one.
	SPI *spi.End
	I2C *i2c.End
	CAN *can.End
	// Tolerance is how far the part's own clock may be off.
	Tolerance quantity.PPM
	// LineEnd ends each message, as `\n`.
	LineEnd []byte
	// Limit is the longest command that the part takes.
	Limit   int
	values  []value
	stream  *stream
	answers []answer
	other   *answer
}

type value struct {
	name    string
	program *vm.Program
}

type stream struct {
	every       quantity.Time
	least, most int
	text        []piece
}

type answer struct {
	to    string
	after quantity.Time
	text  []piece
}

// piece is fixed text, or a value with a number of decimals.
type piece struct {
	text     string
	value    string
	decimals int
}

// Schema of a device file.
var Schema = doc.ByKey("kind", "kind of bus",
	doc.Kind{Name: "uart", Type: schema(uart.Schema.With(
		doc.Key{Name: "tolerance", Doc: "how far its clock may be off, as 1 %", Type: doc.PPMType, Default: "0 ppm"},
	)).With(doc.Key{Name: "behaviour", Doc: "what the simulated part does", Type: behaviourSchema})},
	doc.Kind{Name: "spi", Type: schema(spi.EndSchema)},
	doc.Kind{Name: "i2c", Type: schema(i2c.EndSchema)},
	doc.Kind{Name: "can", Type: schema(can.EndSchema)},
)

// schema is what all device files say.
func schema(end *doc.Type) *doc.Type {
	return doc.Map(
		doc.Key{Name: "device", Doc: "name of the part", Type: doc.NameType, Required: true},
		doc.Key{Name: "about", Doc: "what it is", Type: doc.AnyText},
		doc.Key{Name: "source", Doc: "document and page that the facts come from", Type: doc.AnyText},
		doc.Key{Name: "end", Doc: "the part's end of the link, as its sheet words it", Type: end, Required: true},
	)
}

var behaviourSchema = doc.Map(
	doc.Key{Name: "values", Doc: "names and expressions of t, the time in seconds", Type: doc.MapOf(doc.Scalar("an expression", checkExpr))},
	doc.Key{Name: "line-end", Doc: "the bytes that end a message", Type: doc.Scalar("a text of 1 to 4 characters", func(s string) error {
		if len(s) < 1 || len(s) > 4 {
			return fmt.Errorf("%q has %d bytes", s, len(s))
		}
		return nil
	}), Default: `"\n"`},
	doc.Key{Name: "limit", Doc: "longest command in characters", Type: doc.Int(1, 4096), Default: "32"},
	doc.Key{Name: "stream", Doc: "messages sent unasked", Type: doc.Map(
		doc.Key{Name: "every", Doc: "time from burst to burst", Type: doc.TimeType, Required: true},
		doc.Key{Name: "lines", Doc: "lines a burst, as 1 to 3", Type: doc.Scalar("a number, or a range as 1 to 3", func(s string) error { _, _, err := parseRange(s); return err }), Default: "1"},
		doc.Key{Name: "text", Doc: "one line, values in braces with their decimals: {level .3}", Type: textType, Required: true},
	)},
	doc.Key{Name: "answers", Doc: "commands and their answers", Type: doc.ListOf(doc.Map(
		doc.Key{Name: "to", Doc: "the command without its line end", Type: doc.NameType, Required: true},
		doc.Key{Name: "after", Doc: "time from the end of the command to the answer", Type: doc.TimeType, Default: "0 ms"},
		doc.Key{Name: "text", Doc: "the answer without its line end", Type: textType, Required: true},
	), 1)},
	doc.Key{Name: "otherwise", Doc: "the answer to an unknown command", Type: textType},
)

var textType = doc.Scalar("a text with values in braces", func(s string) error { _, err := parseText(s); return err })

var slot = regexp.MustCompile(`\{([^{}]*)\}`)
var slotForm = regexp.MustCompile(`^([a-z][a-z0-9_]*)(?: \.([0-9]))?$`)

func parseText(s string) ([]piece, error) {
	var out []piece
	at := 0
	for _, m := range slot.FindAllStringSubmatchIndex(s, -1) {
		if m[0] > at {
			out = append(out, piece{text: s[at:m[0]]})
		}
		inner := s[m[2]:m[3]]
		f := slotForm.FindStringSubmatch(inner)
		if f == nil {
			return nil, fmt.Errorf("{%s} is no value: write {name} or {name .3} for three decimals", inner)
		}
		p := piece{value: f[1]}
		if f[2] != "" {
			p.decimals = int(f[2][0] - '0')
		}
		out = append(out, p)
		at = m[1]
	}
	if rest := s[at:]; rest != "" {
		out = append(out, piece{text: rest})
	}
	for _, p := range out {
		if strings.ContainsAny(p.text, "{}") {
			return nil, fmt.Errorf("a brace stands alone in %q", s)
		}
	}
	return out, nil
}

func parseRange(s string) (least, most int, err error) {
	a, b, ranged := strings.Cut(s, " to ")
	least, err = strconv.Atoi(strings.TrimSpace(a))
	most = least
	if err == nil && ranged {
		most, err = strconv.Atoi(strings.TrimSpace(b))
	}
	if err != nil || least < 0 || most < least || most > 1000 {
		return 0, 0, fmt.Errorf("%q is no number or range from 0 to 1000", s)
	}
	return least, most, nil
}

// environment is what an expression may use: the time in seconds, the sine,
// and the constant π.
func environment(t float64) map[string]any {
	return map[string]any{"t": t, "sin": sin, "pi": pi}
}

func checkExpr(s string) error {
	_, err := compile(s)
	return err
}

func compile(s string) (*vm.Program, error) {
	p, err := expr.Compile(s, expr.Env(environment(0)), expr.AsFloat64())
	if err != nil {
		line, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("%q is no expression of t: %s", s, line)
	}
	return p, nil
}

// Load reads the device file with the name below dir.
func Load(dir fs.FS, name string) (*Device, []finding.Finding) {
	text, err := fs.ReadFile(dir, name)
	if err != nil {
		return nil, []finding.Finding{{
			Severity: finding.Error, Code: "device-file-unreadable", Where: finding.Place{File: name},
			Seen: fmt.Sprintf("the device file can't be read: %v", err), Change: "put the file there or mend the name in the bench",
		}}
	}
	file, faults := doc.Parse(name, text)
	if file == nil {
		return nil, faults
	}
	return bind(file)
}

func bind(file *doc.File) (*Device, []finding.Finding) {
	root := file.Root
	if faults := Schema.Validate(root); len(faults) > 0 {
		return nil, faults
	}
	d := &Device{Name: root.Text("device"), About: root.Text("about"), Source: root.Text("source"), File: file.Name, Kind: root.Text("kind")}
	if d.Kind != uart.Kind.Name {
		if err := d.bus(root.Get("end")); err != nil {
			return nil, []finding.Finding{{
				Severity: finding.Error, Code: "bad-end", Where: root.Get("end").KeyPlace(), Seen: err.Error(), Change: "mend the end",
			}}
		}
		return d, nil
	}
	d.End, d.LineEnd, d.Limit = uart.Parse(root.Get("end")), []byte("\n"), 32
	var faults []finding.Finding
	if t := root.Text("end", "tolerance"); t != "" {
		d.Tolerance, _ = quantity.ParsePPM(t)
	}
	b := root.Get("behaviour")
	if s := b.Text("line-end"); s != "" {
		d.LineEnd = []byte(s)
	}
	if n, err := strconv.Atoi(b.Text("limit")); err == nil {
		d.Limit = n
	}
	known := map[string]bool{}
	for _, v := range b.Get("values").All() {
		p, _ := compile(v.Scalar)
		d.values = append(d.values, value{v.Key, p})
		known[v.Key] = true
	}
	text := func(n *doc.Node) []piece {
		out, _ := parseText(n.Scalar)
		for _, p := range out {
			if p.value != "" && !known[p.value] {
				var names []string
				for k := range known {
					names = append(names, k)
				}
				change := "add it to behaviour.values"
				if m := doc.Nearest(p.value, names); m != "" {
					change = fmt.Sprintf("did you mean {%s}?", m)
				}
				faults = append(faults, finding.Finding{
					Severity: finding.Error, Code: "unknown-value", Where: n.Place(),
					Seen: fmt.Sprintf("{%s} is no value of this device", p.value), Change: change,
				})
			}
		}
		return out
	}
	if s := b.Get("stream"); s != nil {
		st := &stream{least: 1, most: 1, text: text(s.Get("text"))}
		st.every, _ = quantity.ParseTime(s.Text("every"))
		if st.every < quantity.Microsecond {
			faults = append(faults, finding.Finding{
				Severity: finding.Error, Code: "stream-too-fast", Where: s.Get("every").Place(),
				Seen: fmt.Sprintf("a burst every %s", st.every), Change: "write at least 1 µs",
			})
		}
		if r := s.Text("lines"); r != "" {
			st.least, st.most, _ = parseRange(r)
		}
		d.stream = st
	}
	for _, a := range b.Get("answers").All() {
		x := answer{to: a.Text("to"), text: text(a.Get("text"))}
		if t := a.Text("after"); t != "" {
			x.after, _ = quantity.ParseTime(t)
		}
		d.answers = append(d.answers, x)
	}
	if o := b.Get("otherwise"); o != nil {
		d.other = &answer{text: text(o)}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return d, nil
}

// bus reads the end of a device on a bus with several devices.
func (d *Device) bus(n *doc.Node) error {
	switch d.Kind {
	case spi.Kind.Name:
		e, err := spi.ParseEnd(n, d.Name)
		d.SPI = &e
		return err
	case i2c.Kind.Name:
		e, err := i2c.ParseEnd(n, d.Name)
		d.I2C = &e
		return err
	}
	e, err := can.ParseEnd(n, d.Name)
	d.CAN = &e
	return err
}

// Commands lists the commands that the device answers.
func (d *Device) Commands() []string {
	var out []string
	for _, a := range d.answers {
		out = append(out, a.to)
	}
	return out
}

// Streams says whether the device sends unasked, and how often.
func (d *Device) Streams() (every quantity.Time, ok bool) {
	if d.stream == nil {
		return 0, false
	}
	return d.stream.every, true
}

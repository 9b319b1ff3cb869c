package register

import (
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/fault"
)

// The parts of a system view description that are read.
type svdDevice struct {
	XMLName     xml.Name        `xml:"device"`
	Size        string          `xml:"size"`
	ResetValue  string          `xml:"resetValue"`
	Peripherals []svdPeripheral `xml:"peripherals>peripheral"`
}

type svdPeripheral struct {
	Name      string        `xml:"name"`
	From      string        `xml:"derivedFrom,attr"`
	Base      string        `xml:"baseAddress"`
	Size      string        `xml:"size"`
	Registers []svdRegister `xml:"registers>register"`
}

type svdRegister struct {
	Name        string     `xml:"name"`
	Description string     `xml:"description"`
	Offset      string     `xml:"addressOffset"`
	Size        string     `xml:"size"`
	Reset       string     `xml:"resetValue"`
	Access      string     `xml:"access"`
	Dim         string     `xml:"dim"`
	DimStep     string     `xml:"dimIncrement"`
	DimIndex    string     `xml:"dimIndex"`
	Fields      []svdField `xml:"fields>field"`
}

type svdField struct {
	Name        string `xml:"name"`
	Description string `xml:"description"`
	Offset      string `xml:"bitOffset"`
	Width       string `xml:"bitWidth"`
	Low         string `xml:"lsb"`
	High        string `xml:"msb"`
	Range       string `xml:"bitRange"`
	Access      string `xml:"access"`
	OnWrite     string `xml:"modifiedWriteValues"`
	OnRead      string `xml:"readAction"`
	Values      []struct {
		Name  string `xml:"name"`
		Value string `xml:"value"`
	} `xml:"enumeratedValues>enumeratedValue"`
}

// ReadSVD reads the registers of a system view description. They are called
// PERIPHERAL.REGISTER.
func ReadSVD(in io.Reader) (*Map, error) {
	var d svdDevice
	dec := xml.NewDecoder(in)
	if err := dec.Decode(&d); err != nil {
		line, column := dec.InputPos()
		return nil, fault.XML(err, line, column)
	}
	byName := map[string]*svdPeripheral{}
	for i := range d.Peripherals {
		byName[d.Peripherals[i].Name] = &d.Peripherals[i]
	}
	m := &Map{}
	for _, p := range d.Peripherals {
		regs := p.Registers
		if p.From != "" && len(regs) == 0 {
			from := byName[p.From]
			if from == nil {
				return nil, fmt.Errorf("peripheral %s is derived from %q, which is not there", p.Name, p.From)
			}
			regs = from.Registers
		}
		base, err := svdNumber(p.Base, "0")
		if err != nil {
			return nil, fmt.Errorf("peripheral %s: base address: %w", p.Name, err)
		}
		for _, r := range regs {
			if err := m.svd(&d, &p, &r, base); err != nil {
				return nil, fmt.Errorf("%s.%s: %w", p.Name, r.Name, err)
			}
		}
	}
	return m, m.finish()
}

// most bounds the registers of an array.
const most = 1024

func (m *Map) svd(d *svdDevice, p *svdPeripheral, r *svdRegister, base uint64) error {
	offset, err := svdNumber(r.Offset, "0")
	if err != nil {
		return fmt.Errorf("offset: %w", err)
	}
	size, err := svdNumber(first(r.Size, p.Size, d.Size), "32")
	if err != nil || size > 64 {
		return fmt.Errorf("size %q: expected 1 to 64 bits", first(r.Size, p.Size, d.Size))
	}
	reset, err := svdNumber(first(r.Reset, d.ResetValue), "0")
	if err != nil {
		return fmt.Errorf("reset value: %w", err)
	}
	reg := Register{Bits: int(size), Reset: reset & mask(int(size)), About: strings.Join(strings.Fields(r.Description), " ")}
	for _, f := range r.Fields {
		x, err := f.field(r.Access)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		reg.Fields = append(reg.Fields, x)
	}
	count, step, index := uint64(1), uint64(0), []string{""}
	if r.Dim != "" {
		if count, err = svdNumber(r.Dim, ""); err != nil || count > most {
			return fmt.Errorf("dim %q: expected 1 to %d", r.Dim, most)
		}
		if step, err = svdNumber(r.DimStep, "0"); err != nil {
			return fmt.Errorf("dimIncrement: %w", err)
		}
		index = svdIndex(r.DimIndex, int(count))
	}
	for i := range count {
		x := reg
		name := strings.NewReplacer("[%s]", index[i], "%s", index[i]).Replace(r.Name)
		x.Name, x.Address = p.Name+"."+name, base+offset+i*step
		m.Registers = append(m.Registers, x)
	}
	return nil
}

func (f *svdField) field(registerAccess string) (Field, error) {
	out := Field{Name: f.Name, About: strings.Join(strings.Fields(f.Description), " "), Meanings: map[uint64]string{}}
	var err error
	switch {
	case f.Range != "":
		out.Low, out.Bits, err = ParseBits(f.Range)
	case f.High != "":
		out.Low, out.Bits, err = ParseBits(f.High + ":" + f.Low)
	default:
		var low, width uint64
		if low, err = svdNumber(f.Offset, ""); err == nil {
			width, err = svdNumber(f.Width, "1")
		}
		if low > 63 || width > 64 {
			err = fmt.Errorf("bits %s wide at %s are outside any register", f.Width, f.Offset)
		}
		out.Low, out.Bits = int(low), int(width)
	}
	if err != nil {
		return out, err
	}
	switch {
	case f.OnWrite == "oneToClear":
		out.Access = WriteOne
	case f.OnRead == "clear":
		out.Access = ReadClears
	case first(f.Access, registerAccess) == "read-only":
		out.Access = ReadOnly
	case strings.HasPrefix(first(f.Access, registerAccess), "write"):
		out.Access = WriteOnly
	}
	for _, v := range f.Values {
		if n, err := svdNumber(v.Value, ""); err == nil && n <= mask(out.Bits) {
			out.Meanings[n] = v.Name
		}
	}
	return out, nil
}

func first(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// svdNumber reads a number as such files write it: 0x1F, #11, 0b11, 31.
func svdNumber(s, without string) (uint64, error) {
	s = strings.ToLower(strings.TrimSpace(s))
	if s == "" {
		s = without
	}
	if bin, ok := strings.CutPrefix(s, "#"); ok {
		s = "0b" + strings.ReplaceAll(bin, "x", "0")
	}
	n, err := strconv.ParseUint(s, 0, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no number", s)
	}
	return n, nil
}

// svdIndex gives the names of an array's elements: a list, a range, or numbers.
func svdIndex(s string, n int) []string {
	out := strings.Split(s, ",")
	if len(out) != n {
		out = out[:0]
		from, _, _ := strings.Cut(s, "-")
		start, _ := strconv.Atoi(from)
		for i := range n {
			out = append(out, strconv.Itoa(start+i))
		}
	}
	return out
}

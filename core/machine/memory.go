package machine

import (
	"sort"

	"gavrix.org/gavrix/core/quantity"
)

// Region is a memory of the MCU.
type Region struct {
	Name          string
	Start, Bytes  uint64
	DMA, Writable bool // the engine reaches it; it can be written
	Cached        bool
}

// Holds says whether an address lies in the region.
func (r *Region) Holds(a uint64) bool { return a >= r.Start && a-r.Start < r.Bytes }

// Cell is one byte of a buffer and what became of it.
type Cell struct {
	Value   byte
	Serial  int           // of the word that it is from; less than 0: not from the traffic
	Written quantity.Time // when, -1: never
	By      Writer
	Writes  int // how often
	Reads   int // since it was written last
	Lost    int // how often it was overwritten unread
}

// Writer says who wrote a cell.
type Writer uint8

// The writers.
const (
	Nobody Writer = iota
	ByCPU
	ByDMA
)

func (w Writer) String() string { return [...]string{"nobody", "processor", "DMA"}[w] }

// Guard is how many cells behind a buffer are watched.
const Guard = 8

// What untouched memory holds.
const (
	Untouched = 0xEE // in a buffer
	Foreign   = 0xC9 // behind one
	Neighbour = 0xA5 // in registers beside a data register
)

// Buffer is a named stretch of memory, with Guard cells behind it.
type Buffer struct {
	Name    string
	Address uint64
	Bytes   int
	Cells   []Cell // Bytes+Guard
}

// Memory are regions and the buffers in them.
type Memory struct {
	Regions []Region
	Buffers []*Buffer // in the order of their addresses
	Strays  int       // writes to places in no buffer
}

// Add adds a buffer whose cells nobody has written.
func (m *Memory) Add(name string, address uint64, bytes int) *Buffer {
	b := &Buffer{Name: name, Address: address, Bytes: bytes, Cells: make([]Cell, bytes+Guard)}
	b.Clear()
	m.Buffers = append(m.Buffers, b)
	sort.SliceStable(m.Buffers, func(i, j int) bool { return m.Buffers[i].Address < m.Buffers[j].Address })
	return b
}

// Clear makes the buffer as nobody had written it.
func (b *Buffer) Clear() {
	for i := range b.Cells {
		v := byte(Untouched)
		if i >= b.Bytes {
			v = Foreign
		}
		b.Cells[i] = Cell{Value: v, Serial: -1, Written: -1}
	}
}

// Bytes gives the values of the buffer and of the cells behind it.
func (b *Buffer) Values() []byte {
	out := make([]byte, len(b.Cells))
	for i, c := range b.Cells {
		out[i] = c.Value
	}
	return out
}

// Region gives the region of an address; nil where there is none.
func (m *Memory) Region(a uint64) *Region {
	for i := range m.Regions {
		if m.Regions[i].Holds(a) {
			return &m.Regions[i]
		}
	}
	return nil
}

// cell gives the cell of an address; nil where it lies in no buffer.
func (m *Memory) cell(a uint64) *Cell {
	for i := len(m.Buffers) - 1; i >= 0; i-- {
		if b := m.Buffers[i]; a >= b.Address {
			if d := a - b.Address; d < uint64(len(b.Cells)) {
				return &b.Cells[d]
			}
		}
	}
	return nil
}

// Put writes a byte.
func (m *Memory) Put(a uint64, v byte, serial int, by Writer, at quantity.Time) {
	c := m.cell(a)
	if c == nil {
		m.Strays++
		return
	}
	if c.Written >= 0 && c.Serial >= 0 && c.Reads == 0 {
		c.Lost++
	}
	c.Value, c.Serial, c.Written, c.By, c.Reads = v, serial, at, by, 0
	c.Writes++
}

// Get reads a byte; a place in no buffer holds zero.
func (m *Memory) Get(a uint64) (v byte, serial int) {
	c := m.cell(a)
	if c == nil {
		return 0, -1
	}
	c.Reads++
	return c.Value, c.Serial
}

// Read reads what was written to the buffer and not read since.
func (b *Buffer) Read() {
	for i := range b.Bytes {
		if c := &b.Cells[i]; c.Written >= 0 && c.Reads == 0 {
			c.Reads++
		}
	}
}

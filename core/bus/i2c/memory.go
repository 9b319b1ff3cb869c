package i2c

// Memory is a device whose bytes stand behind a pointer, as registers and memories
// have it: the first bytes that are written set the pointer, those behind are
// stored, and reading goes on from the pointer. Pointer and bytes wrap.
type Memory struct {
	Bytes   []byte
	Pointer int // bytes that set the pointer: 0, 1 or 2; with 0 it begins at 0

	at, taken int
}

// Begin implements Device.
func (m *Memory) Begin(read bool) {
	m.taken = 0
	if m.Pointer == 0 {
		m.at = 0
	}
}

// Take implements Device.
func (m *Memory) Take(b byte) bool {
	if m.taken < m.Pointer {
		if m.taken == 0 {
			m.at = 0
		}
		m.at = m.at<<8 | int(b)
		m.taken++
		return true
	}
	if n := len(m.Bytes); n > 0 {
		m.Bytes[m.at%n] = b
		m.at = (m.at + 1) % n
	}
	return true
}

// Give implements Device.
func (m *Memory) Give() byte {
	n := len(m.Bytes)
	if n == 0 {
		return 0xff
	}
	b := m.Bytes[m.at%n]
	m.at = (m.at + 1) % n
	return b
}

// End implements Device.
func (m *Memory) End() {}

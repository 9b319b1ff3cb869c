package pcapng

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Types of blocks that are looked at here; the others are passed on.
const (
	blockSection   = 0x0a0d0d0a
	blockInterface = 1
	blockPacket    = 6
)

// mostBlock bounds the length that a block may claim; a longer one is damaged.
const mostBlock = 64 << 20

// blocks reads a file block by block. Each call of Read returns bytes of one block at most, so
// that who reads a packet knows where it stands. What is no block is passed over up to the next
// whole packet.
type blocks struct {
	in  io.Reader
	err error // of in
	// at is where the block began, next where the next one begins, and hole where what was
	// passed over in front of it began; -1: nothing was.
	at, next, hole int64

	room   []byte
	have   []byte // part of room: read, but not given
	passed int64  // bytes that were no block, before those
	give   []byte // of the block
	// head are the section header and the interfaces with which the file begins.
	head  []byte
	front int  // its length where that is known
	begun bool // they are over

	within bool  // the block is a packet, behind which nobody is to read
	over   error // why no more blocks come
}

// newBlocks reads from in, whose first byte has the number base.
func newBlocks(in io.Reader, base int64) *blocks { return &blocks{in: in, next: base, hole: -1} }

// Read implements io.Reader.
func (b *blocks) Read(p []byte) (int, error) {
	if len(b.give) == 0 {
		if b.within {
			return 0, errors.New("it is longer than its block")
		}
		if b.over = b.advance(); b.over != nil {
			return 0, b.over
		}
	}
	n := copy(p, b.give)
	b.give = b.give[n:]
	return n, nil
}

// packets lets one more packet be read.
func (b *blocks) packets() { b.within = false }

// again lets the section header and the interfaces be read once more, then the next block.
func (b *blocks) again() { b.give, b.within = b.head, false }

// fill reads on until n bytes are there, or no more come.
func (b *blocks) fill(n int) bool {
	for len(b.have) < n && b.err == nil {
		if cap(b.have)-len(b.have) < 1<<15 {
			// What was given is read: its room is free.
			if len(b.room) < 2*len(b.have)+1<<16 {
				b.room = make([]byte, 2*len(b.have)+1<<17)
			}
			b.have = b.room[:copy(b.room, b.have)]
		}
		var k int
		k, b.err = b.in.Read(b.have[len(b.have):cap(b.have)])
		b.have = b.have[:len(b.have)+k]
	}
	return len(b.have) >= n
}

// advance takes the next whole block.
func (b *blocks) advance() error {
	b.at, b.hole = b.next, -1
	if !b.fill(8) && len(b.have) == 0 {
		return b.ended()
	}
	n, sound := b.block(0)
	if !sound {
		if len(b.head) == 0 {
			return errors.New("its beginning is no section header with interfaces")
		}
		skip := b.packet()
		if skip < 0 {
			return b.cut(n)
		}
		b.hole, b.at = b.next, b.next+skip
		n, _ = b.block(0)
	}
	b.give, b.have = b.have[:n], b.have[n:]
	b.next = b.at + int64(n)
	kind := binary.LittleEndian.Uint32(b.give)
	b.within = kind == blockPacket
	if kind != blockSection && kind != blockInterface {
		b.begun = true
	} else if !b.begun {
		b.head = append(b.head, b.give...)
		b.begun = len(b.head) == b.front
	}
	return nil
}

// ended is the end of what is read from.
func (b *blocks) ended() error {
	if b.err == nil || errors.Is(b.err, io.EOF) {
		return io.EOF
	}
	return b.err
}

// cut says how the file ends where no whole block follows.
func (b *blocks) cut(n int) error {
	if err := b.ended(); !errors.Is(err, io.EOF) {
		return err
	}
	left := b.passed + int64(len(b.have))
	b.have = nil
	if int64(n) > left {
		return io.ErrUnexpectedEOF
	}
	return fmt.Errorf("no whole block is in its last %d bytes", left)
}

// block gives the length of the block that begins at a byte of what was read, and whether it is
// whole: its length stands at both of its ends. The length of one that is not may be more than
// there is.
func (b *blocks) block(i int) (n int, whole bool) {
	if !b.fill(i + 8) {
		return 8, false
	}
	length := binary.LittleEndian.Uint32(b.have[i+4:])
	if length < 12 || length%4 != 0 || length > mostBlock {
		return 0, false
	}
	n = int(length)
	if !b.fill(i + n) {
		return n, false
	}
	if !b.begun && i == 0 && len(b.head) == 0 && binary.LittleEndian.Uint32(b.have) != blockSection {
		return n, false
	}
	return n, binary.LittleEndian.Uint32(b.have[i+n-4:]) == length && !b.disguised(b.have[i:i+n])
}

// disguised reports whether a block is a packet of which the type is damaged: how long the packet
// is stands in it twice, in the place in which no block of another type would have that.
func (b *blocks) disguised(block []byte) bool {
	kind := binary.LittleEndian.Uint32(block)
	if len(block) < 32 || kind == blockPacket || !b.begun && (kind == blockSection || kind == blockInterface) {
		return false
	}
	kept, was := binary.LittleEndian.Uint32(block[20:]), binary.LittleEndian.Uint32(block[24:])
	return kept == was && kept >= sum && int64(kept) <= int64(len(block)-32)
}

var packetType = binary.LittleEndian.AppendUint32(nil, blockPacket)

// mostKept bounds what is kept of bytes that are no block.
const mostKept = 1 << 20

// packet takes what is before the next whole packet away, and returns how many bytes that was;
// -1: none follows.
func (b *blocks) packet() int64 {
	b.passed = 0
	for i := 1; ; i++ {
		if i > mostKept && i <= len(b.have) {
			b.passed, b.have, i = b.passed+int64(i), b.have[i:], 0
		}
		k := bytes.Index(b.have[min(i, len(b.have)):], packetType)
		if k < 0 {
			// The type may stand across the end of what was read.
			i = max(i, len(b.have)-len(packetType)+1) - 1
			if !b.fill(len(b.have) + 1) {
				return -1
			}
			continue
		}
		i += k
		if n, whole := b.block(i); whole && n >= 32 {
			if holds := binary.LittleEndian.Uint32(b.have[i+20:]); int64(holds) <= int64(n-32) {
				b.passed, b.have = b.passed+int64(i), b.have[i:]
				return b.passed
			}
		}
	}
}

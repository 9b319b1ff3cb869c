package objects

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// dict is a dictionary in memory.
type dict struct {
	holds    map[Object][]byte
	segments bool
	refuses  Code
}

func (d *dict) Read(o Object) ([]byte, bool, Code) {
	data, has := d.holds[o]
	if !has {
		return nil, false, NoObject
	}
	return data, d.segments, 0
}

func (d *dict) Write(o Object, data []byte) Code {
	if d.refuses != 0 {
		return d.refuses
	}
	d.holds[o] = data
	return 0
}

func (d *dict) MayWrite(Object, int) Code { return d.refuses }

// line runs a client against a server, with a follower beside it; spoil may change or
// drop frames on their way. It gives all frames, and what the follower saw last.
func line(t require.TestingT, c *Client, s *Server, spoil func(fromClient bool, f *Frame) bool) (frames []string, seen Transfer, over bool) {
	var w Follower
	pass := func(fromClient bool, f *Frame) bool {
		if spoil != nil && !spoil(fromClient, f) {
			return false
		}
		way := map[bool]string{true: "> ", false: "< "}[fromClient]
		frames = append(frames, way+strings.ToUpper(hex.EncodeToString(f[:])))
		if x, done, known := w.Take(fromClient, *f); known {
			seen, over = x, over || done
		}
		return true
	}
	for range 20000 {
		f, has := c.Next()
		if !has {
			return frames, seen, over
		}
		if !pass(true, &f) {
			return frames, seen, over
		}
		if a, answers := s.Take(f); answers {
			if !pass(false, &a) {
				return frames, seen, over
			}
			c.Take(a)
		}
	}
	require.Fail(t, "it never ends")
	return nil, seen, false
}

// TestOneFrameEachWay is the coding of CiA 301: the first byte says how many of the four
// bytes count.
func TestOneFrameEachWay(t *testing.T) {
	o := Object{0x3104, 2}
	for size, first := range map[int][2]string{1: {"4F", "2F"}, 2: {"4B", "2B"}, 3: {"47", "27"}, 4: {"43", "23"}} {
		data := []byte{0x91, 0x82, 0x73, 0x64}[:size]
		d := &dict{holds: map[Object][]byte{o: data}}
		c := Read(o)
		frames, _, _ := line(t, c, NewServer(d), nil)
		content := strings.ToUpper(hex.EncodeToString(append(data, 0, 0, 0, 0)[:4]))
		assert.Equal(t, []string{"> 4004310200000000", "< " + first[0] + "043102" + content}, frames)
		assert.Equal(t, data, c.Data)

		c = Write(o, data, false)
		frames, _, _ = line(t, c, NewServer(d), nil)
		assert.Equal(t, []string{"> " + first[1] + "043102" + content, "< 6004310200000000"}, frames)
		assert.True(t, c.Over())
	}
}

// TestSegments walks through a content of nine bytes by hand.
func TestSegments(t *testing.T) {
	o := Object{0x3105, 0}
	d := &dict{holds: map[Object][]byte{o: []byte("sill dry!")}}
	frames, seen, over := line(t, Read(o), NewServer(d), nil)
	assert.Equal(t, []string{
		"> 4005310000000000", "< 4105310009000000",
		"> 6000000000000000", "< 0073696C6C206472",
		"> 7000000000000000", "< 1B79210000000000",
	}, frames)
	assert.True(t, over)
	assert.Equal(t, Transfer{Object: o, Data: []byte("sill dry!")}, seen)

	frames, seen, over = line(t, Write(o, []byte("sill wet!"), false), NewServer(d), nil)
	assert.Equal(t, []string{
		"> 2105310009000000", "< 6005310000000000",
		"> 0073696C6C207765", "< 2000000000000000",
		"> 1B74210000000000", "< 3000000000000000",
	}, frames)
	assert.True(t, over)
	assert.Equal(t, Transfer{Object: o, Write: true, Data: []byte("sill wet!")}, seen)
	assert.Equal(t, "sill wet!", string(d.holds[o]))
}

func TestContentsComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o := Object{rapid.Uint16().Draw(t, "index"), rapid.Uint8().Draw(t, "sub")}
		data := rapid.SliceOfN(rapid.Byte(), 0, 60).Draw(t, "data")
		segments := rapid.Bool().Draw(t, "segments")
		d := &dict{holds: map[Object][]byte{}, segments: segments}
		s := NewServer(d)
		w := Write(o, data, segments)
		_, seen, over := line(t, w, s, nil)
		require.True(t, w.Over() && over)
		require.Zero(t, w.Code)
		assert.Equal(t, string(data), string(d.holds[o]))
		assert.Equal(t, string(data), string(seen.Data))
		r := Read(o)
		_, seen, over = line(t, r, s, nil)
		require.True(t, r.Over() && over)
		assert.Equal(t, string(data), string(r.Data))
		assert.Equal(t, string(data), string(seen.Data))
		assert.Equal(t, o, ObjectOf(o.Number()))
	})
}

// TestDamageIsNeverTakenForContent turns single bits of one frame over, or loses it: the
// client ends without a content, or with the right one, unless the content itself was
// hit; and the next transfer works.
func TestDamageIsNeverTakenForContent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o := Object{0x2001, 3}
		data := rapid.SliceOfN(rapid.Byte(), 8, 40).Draw(t, "data")
		d := &dict{holds: map[Object][]byte{o: data}}
		s := NewServer(d)
		which, bit, loses := rapid.IntRange(0, 12).Draw(t, "frame"), rapid.IntRange(0, 4).Draw(t, "bit"), rapid.Bool().Draw(t, "lost")
		n := 0
		c := Read(o)
		line(t, c, s, func(fromClient bool, f *Frame) bool {
			if n++; n-1 != which {
				return true
			}
			f[0] ^= 1 << (bit + 3) // command or toggle
			return !loses
		})
		if c.Over() && c.Code == 0 {
			assert.Equal(t, data, c.Data)
		} else if c.Over() {
			assert.Empty(t, c.Data)
		}
		again := Read(o)
		line(t, again, s, nil)
		assert.Equal(t, data, again.Data)
	})
}

func TestAWrongToggleEndsIt(t *testing.T) {
	o := Object{0x3105, 0}
	d := &dict{holds: map[Object][]byte{o: []byte("the upper pound")}}
	n := 0
	c := Read(o)
	frames, seen, over := line(t, c, NewServer(d), func(fromClient bool, f *Frame) bool {
		if n++; n == 6 {
			f[0] ^= 1 << 4
		}
		return true
	})
	assert.Equal(t, "> 8005310000000305", frames[len(frames)-1])
	assert.True(t, c.Over() && c.Mine && over && seen.ByClient)
	assert.Equal(t, NoToggle, c.Code)
	assert.Equal(t, NoToggle, seen.Code)
	assert.Empty(t, c.Data)
}

func TestRefusals(t *testing.T) {
	d := &dict{holds: map[Object][]byte{}, refuses: CantBeWritten}
	s := NewServer(d)
	c := Read(Object{0x2345, 1})
	frames, seen, _ := line(t, c, s, nil)
	assert.Equal(t, "< 8045230100000206", frames[1])
	assert.Equal(t, NoObject, c.Code)
	assert.False(t, c.Mine)
	assert.Equal(t, NoObject, seen.Code)
	for _, data := range []string{"ab", "a long text"} {
		c = Write(Object{0x2002, 0}, []byte(data), false)
		frames, _, _ = line(t, c, s, nil)
		assert.Equal(t, "< 8002200002000106", frames[1])
		assert.Equal(t, CantBeWritten, c.Code)
	}
	c = Read(Object{0x2001, 1})
	assert.Equal(t, Foreign, c.Take(carrying(gave, Object{0x2001, 1}, []byte{1})), "before it was asked for")
	c.Next()
	assert.Equal(t, Foreign, c.Take(carrying(gave, Object{0x2001, 2}, []byte{1, 2})))
	assert.Equal(t, Taken, c.Take(carrying(gave, Object{0x2001, 1}, []byte{1})))
	assert.Equal(t, []byte{1}, c.Data)
	assert.NotEmpty(t, Code(0x12345678).String())
}

func FuzzServerAndFollower(f *testing.F) {
	f.Add([]byte("\x40\x05\x31\x00\x00\x00\x00\x00\x60\x00\x00\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, stream []byte) {
		s := NewServer(&dict{holds: map[Object][]byte{{0x3105, 0}: []byte("abcdefghij")}})
		c, w := Read(Object{0x3105, 0}), Follower{}
		c.Next()
		for len(stream) >= 8 {
			f := Frame(stream[:8])
			stream = stream[8:]
			w.Take(len(stream)%16 == 0, f)
			if a, answers := s.Take(f); answers {
				w.Take(false, a)
				c.Take(a)
			}
			c.Take(f)
			c.Next()
			assert.LessOrEqual(t, len(c.Data), most+7)
		}
	})
}

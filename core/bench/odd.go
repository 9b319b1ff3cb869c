package bench

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// parseReally reads how long something really takes.
func parseReally(s string) (quantity.Time, error) {
	if s == "never" {
		return quantity.Forever, nil
	}
	t, err := quantity.ParseTime(s)
	if err == nil && t < 0 {
		err = fmt.Errorf("%q: a time is not negative", s)
	}
	return t, err
}

// mostBad bounds how many bytes of a memory are bad.
const mostBad = 1 << 16

// parseBytes reads numbers of bytes and stretches of them.
func parseBytes(s string) (map[uint64]bool, error) {
	out := map[uint64]bool{}
	for _, w := range strings.Fields(s) {
		first, last, ranged := strings.Cut(w, "..")
		if !ranged {
			last = first
		}
		from, err := strconv.ParseUint(first, 0, 32)
		to, err2 := strconv.ParseUint(last, 0, 32)
		if err != nil || err2 != nil || to < from || to-from >= mostBad || len(out) >= mostBad {
			return nil, fmt.Errorf("%q: write the number of a byte, as 0x40, or the first and the last, as 0x50..0x5F", w)
		}
		for n := from; n <= to; n++ {
			out[n] = true
		}
	}
	return out, nil
}

// oddly gives what the bench says of one very part to the device, and all that in words; nil where
// it says nothing.
func (x *binder) oddly(d *device.Device, n *doc.Node) (change func(*device.Device), with string) {
	odd := device.Odd{Jobs: map[string]quantity.Time{}}
	memory := d.Map != nil && d.Map.Memory != nil
	for _, key := range []string{"power-cut", "write", "bad-bytes"} {
		at := n.Get(key)
		if at == nil {
			continue
		}
		with += key + "=" + at.Scalar + ";"
		if !memory {
			x.fault(key+"-without-memory", at.Place(), "leave it out", "%s has no memory in its file: %s has no effect", d.Name, key)
		}
	}
	if at := n.Get("chain"); at != nil {
		with += "chain=" + at.Scalar + ";"
		odd.Parts = doc.As[int](at)
		if d.Map == nil || d.Map.Chain == 0 {
			x.fault("chain-without-chain", at.Place(), "leave it out", "%s is no chain of parts in its file: chain has no effect", d.Name)
		}
	}
	if at := n.Get("answers"); at != nil {
		with += "answers=" + at.Scalar + ";"
		odd.Answers = device.Answers(doc.As[string](at))
		if why := d.CantAnswer(odd.Answers); why != "" {
			x.fault("answers-without-effect", at.Place(), "leave it out", "answers of %s can't be %s: %s", d.Name, odd.Answers, why)
		}
	}
	for _, at := range n.Get("jobs").All() {
		with += at.Key + "=" + at.Scalar + ";"
		if d.Map == nil || d.Map.Job(at.Key) == nil {
			x.fault("unknown-job", at.KeyPlace(), "name a job of its file", "%s has no job %s in its file", d.Name, at.Key)
			continue
		}
		odd.Jobs[d.Map.Job(at.Key).Name], _ = parseReally(at.Scalar)
	}
	if with == "" {
		return nil, ""
	}
	if at := n.Get("write"); at != nil {
		odd.Write = doc.As[quantity.Time](at)
	}
	if at := n.Get("bad-bytes"); at != nil {
		odd.Bad, _ = parseBytes(at.Scalar)
		for b := range odd.Bad {
			if memory && b >= uint64(d.Map.Memory.Size) {
				x.fault("area-outside", at.Place(), "correct the numbers", "byte 0x%X: the last of %s is 0x%X", b, d.Name, d.Map.Memory.Size-1)
				break
			}
		}
	}
	cut := n.Get("power-cut")
	return func(d *device.Device) {
		d.Odd = &odd
		if cut == nil || !memory {
			return
		}
		m, memory := *d.Map, *d.Map.Memory
		memory.Cut = device.Cut(doc.As[string](cut))
		m.Memory = &memory
		d.Map = &m
	}, with
}

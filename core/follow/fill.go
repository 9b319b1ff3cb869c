package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
)

// Fills runs the receiving transfers of a bench against records that come one by one. It is not
// safe for use by several goroutines.
type Fills struct{ f *Follower }

// Fill is how many bytes wait behind a transfer.
type Fill struct {
	*bench.Transfer
	Bytes int
}

// NewFills gives one for the links of a capture; bench may be nil.
func NewFills(b *bench.Bench, meta *capture.Meta) *Fills {
	x := &Fills{f: New(b, meta)}
	for link, all := range x.f.byLink {
		var in []*Followed
		for _, t := range all {
			if t.Transfer.Plan.Receive {
				in = append(in, t)
			}
		}
		x.f.byLink[link] = in
	}
	return x
}

// Take follows a record, of which there is no other reading, and says what waits at its end; of
// one that brings nothing to the MCU it is nil.
func (x *Fills) Take(r *record.Record) (out []Fill) {
	list := x.f.byLink[r.Link]
	if len(list) == 0 || r.Kind != list[0].kind.whole {
		return nil
	}
	before := x.f.Words
	x.f.follow(list, r)
	if x.f.Words == before {
		return nil
	}
	for _, t := range list {
		out = append(out, Fill{t.Transfer, t.Live.Fill()})
	}
	return out
}

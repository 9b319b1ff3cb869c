package pcapng

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"sync/atomic"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/regular"
)

// memory is what the records of a file may take in memory: the file itself is at hand.
var memory = 64 << 20

// Opening is a capture file that is being read. Its store can be used from the beginning.
type Opening struct {
	Store *capture.Store
	// Known says that an index told what the file holds; Why, where there is one that does
	// not hold, what is wrong with it.
	Known bool
	Why   error

	path   string
	file   *os.File
	size   int64
	shelf  *shelf
	part   *part
	g      *gatherer
	state  *capture.State
	first  uint32 // number of arrival of the record that comes next
	read   atomic.Int64
	ended  bool
	failed error // before Load
	// whole are the damaged places of all of the file, once Verify has read it.
	whole atomic.Pointer[damages]
}

// Open begins to read a file. What its index tells is in the store then; the rest is read by
// Load.
func Open(path string) (*Opening, error) {
	f, err := regular.Open(path)
	if err != nil {
		return nil, fmt.Errorf("the capture can't be read: %w", err)
	}
	o, err := open(path, f)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return o, nil
}

func open(path string, f *os.File) (*Opening, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("this is no file")
	}
	o := &Opening{path: path, file: f, size: info.Size()}
	d := &damages{}
	r, err := newReader(nil, newBlocks(f, 0), d)
	if err != nil {
		return nil, err
	}
	o.shelf = &shelf{meta: r.meta, damages: d}
	o.Store = capture.NewStore(*r.meta)
	o.Store.BoundRecords(memory)
	o.Store.Keep(o.shelf)
	x, p, err := readIndex(path, f, o.size, r.b.head, r.meta)
	switch {
	case err == nil:
		o.Known, o.state, o.part = true, x.State, p
		_, o.first = p.placed(x.Again)
		o.Store.Restore(x.State)
		if r, err = p.reader(r.meta, x.Again, o.size, d); err != nil {
			return nil, err
		}
	case !errors.Is(err, fs.ErrNotExist):
		o.Why = err
		fallthrough
	default:
		o.part = &part{path: path, file: f, head: r.b.head, end: r.b.next}
	}
	o.shelf.begin(o.part)
	o.g = gather(r, o.Store)
	o.read.Store(o.part.end)
	if o.Known {
		// Those that came before the index was written are needed at once, in their order.
		for o.first < o.state.Total && !o.ended {
			o.failed = o.step() // Load says so
		}
	}
	return o, nil
}

// step reads a packet.
func (o *Opening) step() error {
	rec, soFar, err := o.g.next()
	if err != nil {
		o.ended = true
		return err
	}
	if rec == nil {
		return nil
	}
	at, to := o.g.at, o.g.to
	if !o.g.put(rec, soFar, at) {
		return nil
	}
	seq := o.first
	o.first++
	if seq >= o.part.count {
		o.shelf.mu.Lock()
		o.part.add(at, to)
		o.shelf.mu.Unlock()
	}
	if o.state != nil && seq < o.state.Total {
		// In a segment of the index already?
		if n := len(o.state.Segments); n > 0 {
			last := o.state.Segments[n-1].Last
			if rec.End < last.End || rec.End == last.End && seq <= last.Seq {
				return nil
			}
		}
		o.Store.PutAs(seq, rec, true)
	} else {
		o.Store.PutAs(seq, rec, false)
	}
	o.Store.Advance(rec.End)
	return nil
}

// Path is the file's.
func (o *Opening) Path() string { return o.path }

// Share is how much of the file is read, 0 to 1.
func (o *Opening) Share() float64 { return float64(o.read.Load()) / float64(max(o.size, 1)) }

// Load reads what is not in the store yet, and keeps an index of a large file beside it for the
// next time. When the file ends in the middle, or what follows is no file any more, the store holds
// what stood before, and the error says where it ended; of single records that can't be read it
// is a Damage. Tell, which may be nil, is called now and
// then.
func (o *Opening) Load(ctx context.Context, tell func()) error {
	err := o.failed
	for n := 0; err == nil && !o.ended; n++ {
		if n%1024 == 0 {
			o.read.Store(o.g.to)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if tell != nil {
				tell()
			}
		}
		err = o.step()
	}
	if errors.Is(err, io.EOF) {
		if err = o.Damage(); err == nil {
			err = o.g.ended(uint64(o.first))
		}
	}
	o.index()
	o.g.rest()
	o.read.Store(o.size)
	return err
}

// index writes an index where one is worth it.
func (o *Opening) index() {
	// How damage looks depends on where reading begins; levels are read from the beginning on.
	if o.Damage() != nil || o.g.levels {
		return
	}
	if o.part.count < leastIndexed || o.Known && o.part.count < o.state.Total+leastIndexed {
		return
	}
	x, err := indexOf(o.part, o.Store.Snapshot(), o.shelf)
	if err == nil {
		// What was not finished is read again each time.
		for _, u := range o.g.soFar {
			at, _ := o.part.placed(u.at)
			x.Again = min(x.Again, at)
		}
		err = writeIndex(o.path, x)
	}
	if err != nil {
		slog.Warn("the index was not written", "file", o.path, "why", err.Error())
	}
}

// Verify reads the whole of a file of which an index told, and keeps none of it: Damage knows all
// of the file's then. It may be called once Load has returned.
func (o *Opening) Verify(ctx context.Context) error {
	d := &damages{}
	r, err := newReader(nil, newBlocks(io.NewSectionReader(o.file, 0, o.size), 0), d)
	if err != nil {
		return err
	}
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if _, _, err := r.next(); err != nil {
			o.whole.Store(d)
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return err
		}
	}
}

// Damage says what could not be read so far, as a Damage or otherwise; nil: all that was read is
// as it was written. What an index tells of is only read when somebody looks at it, or by Verify.
func (o *Opening) Damage() error {
	if err := o.Store.Unread(); err != nil {
		return err
	}
	if d := o.whole.Load(); d != nil {
		return d.err()
	}
	return o.shelf.damages.err()
}

// Close lets the file go. Of the records in the store only those in memory can be read then.
func (o *Opening) Close() { o.shelf.close() }

var _ records.Home = (*shelf)(nil)

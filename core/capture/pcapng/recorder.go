package pcapng

import (
	"bufio"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/regular"
)

// Recorder keeps a growing capture in a file, or in several of which each continues the one
// before. The files are readable up to the last beat at any time, and the capture has its older
// records from there when they take too much memory.
type Recorder struct {
	store  *capture.Store
	limits Limits
	path   string
	shelf  *shelf

	mu    sync.Mutex
	file  *os.File
	out   *counted
	w     *Writer
	part  *part
	since time.Time // when the file was begun
	made  int       // files that were begun
	trail records.Trail
	done  int
	// waiting is where the records stand that are not in the part yet.
	waiting  []span
	kept     bool // the capture has its home here
	err      error
	indexing sync.Mutex
	// indexed is how many records the index told of that was written last, and when.
	indexed   uint32
	indexedAt time.Time
	// Whole: records are written when they end, never before. The file of a simulation
	// that runs as fast as it can is then the same each time.
	Whole bool
	// open are the records that go on, with the time since when what they hold is not in
	// the file.
	open   map[running]time.Time
	levels levels
	now    func() time.Time

	stop chan struct{}
	once sync.Once
}

// counted is a file with the number of bytes that were written.
type counted struct {
	*bufio.Writer
	n int64
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	c.n += int64(n)
	return n, err
}

// Record begins to keep the store in a new file at path; an existing file is
// not overwritten. Run must be started by the caller.
func Record(store *capture.Store, path string) (*Recorder, error) {
	return RecordLimited(store, path, Limits{})
}

// RecordLimited is Record with several files: NAME-1.pcapng, NAME-2.pcapng and so on.
func RecordLimited(store *capture.Store, path string, l Limits) (*Recorder, error) {
	if err := l.Check(); err != nil {
		return nil, err
	}
	r := &Recorder{store: store, limits: l, path: path, shelf: &shelf{meta: &store.Meta, damages: &damages{}}, open: map[running]time.Time{}, levels: levels{upTo: map[int]quantity.Time{}}, now: time.Now, stop: make(chan struct{})}
	if err := r.begin(); err != nil {
		return nil, err
	}
	return r, nil
}

// begin begins the next file.
func (r *Recorder) begin() error {
	path := r.limits.Name(r.path, r.made+1)
	f, err := regular.Create(path, 0o600)
	if err != nil {
		return fmt.Errorf("the capture can't be recorded: %w", err)
	}
	out := &counted{Writer: bufio.NewWriterSize(f, 1<<16)}
	meta := r.store.Meta
	if r.limits.cuts() {
		meta.Part = r.made + 1
	}
	w, err := NewWriter(out, &meta)
	if err == nil {
		err = errors.Join(w.Flush(), out.Flush())
	}
	var again *os.File
	if err == nil {
		again, err = os.Open(path)
	}
	if err != nil {
		return f.End(err)
	}
	head, err := preface(again, out.n)
	if err != nil {
		return errors.Join(err, f.Close(), again.Close())
	}
	if r.file != nil {
		if err := r.file.Close(); err != nil {
			return errors.Join(err, f.Close(), again.Close())
		}
	}
	r.file, r.out, r.since = f.File, out, r.now()
	r.w = w
	r.part = &part{path: path, file: again, head: head, end: out.n}
	r.shelf.begin(r.part)
	r.made++
	if r.limits.Files > 0 && r.made > r.limits.Files {
		if err := os.Remove(r.shelf.forget()); err != nil {
			slog.Warn("an old file of the recording was not removed", "why", err.Error())
		}
	}
	return nil
}

// Run writes new records until Close.
func (r *Recorder) Run() {
	t := time.NewTicker(100 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-r.stop:
			return
		case <-t.C:
			r.Beat()
		}
	}
}

// Beat writes what is new and hands it to the operating system. After an
// error, as of a full disk, nothing more is written.
func (r *Recorder) Beat() {
	r.mu.Lock()
	var snap *capture.Snapshot
	if r.err == nil {
		if snap, r.err = r.write(false); r.err != nil {
			r.trim()
			r.shelf.end()
			slog.Error("recording stopped", "file", r.file.Name(), "records", r.done, "why", r.err.Error())
		}
	}
	ok := r.err == nil
	r.mu.Unlock()
	if ok {
		r.index(snap, false)
	}
}

// mostAtOnce bounds how many records are looked up in one go.
const mostAtOnce = 50_000

func (r *Recorder) write(running bool) (*capture.Snapshot, error) {
	if err := r.intact(); err != nil {
		return nil, err
	}
	snap := r.store.Snapshot()
	for more := true; more; {
		var fresh []int
		fresh, more = r.trail.Next(&snap.Reader, mostAtOnce)
		for _, i := range fresh {
			if err := r.put(snap.At(i)); err != nil {
				return nil, err
			}
		}
		if err := r.out.Flush(); err != nil {
			return nil, err
		}
		r.publish(uint32(snap.Mark()) - uint32(r.trail.Behind))
	}
	if r.limits.Levels {
		if err := r.levels.write(r.w, snap); err != nil {
			return nil, err
		}
	}
	if running {
		if err := r.w.end(snap); err != nil {
			return nil, err
		}
	} else if !r.Whole {
		if err := r.soFar(snap.Running); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(r.w.Flush(), r.out.Flush()); err != nil {
		return nil, err
	}
	return snap, nil
}

// trim cuts off what a full disk left of a block in the file; records that are whole stay.
func (r *Recorder) trim() {
	info, err := r.file.Stat()
	if err != nil {
		return
	}
	end := r.part.end
	for _, w := range r.waiting {
		if w.to > info.Size() {
			break
		}
		end = w.to
	}
	if err := r.file.Truncate(min(end, info.Size())); err != nil {
		slog.Warn("the end of the file is not whole", "file", r.file.Name(), "why", err.Error())
	}
}

// put writes a record, in the next file where this one is full.
func (r *Recorder) put(rec *record.Record) error {
	if l := &r.limits; r.part.count > 0 && (l.Bytes > 0 && r.out.n >= l.Bytes || l.Time > 0 && r.now().Sub(r.since) >= l.Time) {
		if err := errors.Join(r.w.finish(), r.out.Flush()); err != nil {
			return err
		}
		r.shelf.settle(r.part, r.waiting)
		r.waiting = r.waiting[:0]
		if err := r.begin(); err != nil {
			return err
		}
	}
	at := r.out.n
	if err := errors.Join(r.w.Write(rec), r.w.Flush()); err != nil {
		return err
	}
	r.waiting = append(r.waiting, span{at, r.out.n})
	r.done++
	return nil
}

// publish lets the capture have what is in the file now; so many records had come to it.
func (r *Recorder) publish(came uint32) {
	r.shelf.settle(r.part, r.waiting)
	r.waiting = r.waiting[:0]
	if r.kept {
		return
	}
	// The first file has what the capture kept when recording began: with gaps, where records
	// were gone. From here on the numbers agree.
	r.kept = true
	r.shelf.align(came)
	r.store.Keep(r.shelf)
}

// indexEvery is how often the index is written anew.
const indexEvery = 20 * time.Second

// index writes the index of a recording in one file.
func (r *Recorder) index(snap *capture.Snapshot, last bool) {
	r.indexing.Lock()
	defer r.indexing.Unlock()
	p, count, whole := r.shelf.newest()
	if r.limits.cuts() || r.limits.Levels || !whole || count < leastIndexed || count == r.indexed || !last && r.now().Sub(r.indexedAt) < indexEvery {
		return
	}
	r.indexed, r.indexedAt = count, r.now()
	x, err := indexOf(p, snap, r.shelf)
	if err == nil {
		err = writeIndex(r.path, x)
	}
	if err != nil {
		slog.Warn("the index was not written", "file", r.path, "why", err.Error())
	}
}

// unkept is how long what came may be missing in the file.
const unkept = 800 * time.Millisecond

// soFar writes records that go on for long, so that a slow stream without a pause is not
// lost with the program.
func (r *Recorder) soFar(going []record.Record) error {
	now := r.now()
	still := make(map[running]time.Time, len(going))
	for i := range going {
		k := runningOf(&going[i])
		since, known := r.open[k]
		switch {
		case !known:
			since = now
		case now.Sub(since) >= unkept:
			if err := r.w.writeSoFar(&going[i]); err != nil {
				return err
			}
			since = now
		}
		still[k] = since
	}
	r.open = still
	return nil
}

// Err says why recording stopped, or nil.
func (r *Recorder) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// File is the file that is written now.
func (r *Recorder) File() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.file.Name()
}

// Count is the number of records written.
func (r *Recorder) Count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.done
}

// intact says what somebody did to the file while it was recorded.
func (r *Recorder) intact() error {
	ours, err := r.file.Stat()
	if err != nil {
		return err
	}
	there, err := os.Stat(r.file.Name())
	switch {
	case err != nil || !os.SameFile(ours, there):
		return fmt.Errorf("%s was deleted or replaced while it was recorded: its records are lost", r.file.Name())
	case ours.Size() < r.out.n:
		return fmt.Errorf("%s was cut to %d bytes while it was recorded: %d were written", r.file.Name(), ours.Size(), r.out.n)
	}
	return nil
}

// Close writes the rest, unfinished runs too, and closes the file. It may be
// called twice, and without Run ever having been started.
func (r *Recorder) Close() error {
	r.once.Do(func() {
		close(r.stop)
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.err == nil {
			var snap *capture.Snapshot
			if snap, r.err = r.write(true); r.err == nil {
				r.index(snap, true)
			}
		}
		r.shelf.end()
		if err := r.file.Close(); r.err == nil {
			r.err = err
		}
		slog.Info("recording ended", "file", r.file.Name(), "records", r.done)
	})
	return r.Err()
}

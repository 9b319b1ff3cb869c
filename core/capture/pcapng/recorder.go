package pcapng

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"sync"
	"time"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Recorder keeps a growing capture in a file. The file is readable up to the
// last beat at any time.
type Recorder struct {
	store *capture.Store
	file  *os.File
	w     *Writer

	mu   sync.Mutex
	mark records.Mark
	done int
	err  error
	// Whole: records are written when they end, never before. The file of a simulation
	// that runs as fast as it can is then the same each time.
	Whole bool
	// open are the records that go on, with the time since when what they hold is not in
	// the file.
	open map[running]time.Time
	now  func() time.Time

	stop chan struct{}
	once sync.Once
}

// Record begins to keep the store in a new file at path; an existing file is
// not overwritten. Run must be started by the caller.
func Record(store *capture.Store, path string) (*Recorder, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	switch {
	case errors.Is(err, fs.ErrExist):
		return nil, fmt.Errorf("the capture can't be recorded: %s is there already; give another name, or remove it", path)
	case err != nil:
		return nil, fmt.Errorf("the capture can't be recorded: %w", err)
	}
	w, err := NewWriter(f, &store.Meta)
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Recorder{store: store, file: f, w: w, open: map[running]time.Time{}, now: time.Now, stop: make(chan struct{})}, nil
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
	defer r.mu.Unlock()
	if r.err == nil {
		if r.err = r.write(false); r.err != nil {
			slog.Error("recording stopped", "file", r.file.Name(), "records", r.done, "why", r.err.Error())
		}
	}
}

func (r *Recorder) write(running bool) error {
	snap := r.store.Snapshot()
	for _, i := range snap.Since(r.mark) {
		if err := r.w.Write(snap.At(i)); err != nil {
			return err
		}
		r.done++
	}
	r.mark = snap.Mark()
	if running {
		return r.w.end(snap)
	}
	if !r.Whole {
		if err := r.soFar(snap.Running); err != nil {
			return err
		}
	}
	return r.w.Flush()
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

// Count is the number of records written.
func (r *Recorder) Count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.done
}

// Close writes the rest, unfinished runs too, and closes the file. It may be
// called twice, and without Run ever having been started.
func (r *Recorder) Close() error {
	r.once.Do(func() {
		close(r.stop)
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.err == nil {
			r.err = r.write(true)
		}
		if err := r.file.Close(); r.err == nil {
			r.err = err
		}
		slog.Info("recording ended", "file", r.file.Name(), "records", r.done)
	})
	return r.Err()
}

package sim

import "gavrix.org/gavrix/core/quantity"

// eventKind says what is due.
type eventKind uint8

const (
	sent    eventKind = iota // a sender finished a character
	look                     // a line's receivers want to be fed
	again                    // a line's receivers are fed at a time of its own
	acts                     // the device does something by itself
	asks                     // the firmware sends by itself
	service                  // the handler has emptied the receive register
	turn                     // the firmware may begin its next exchange
	busRuns                  // a shared bus is read, and does what is due
)

// event is due at a time. Events of one time happen in the order in which
// they were made.
type event struct {
	at    quantity.Time
	seq   uint64
	kind  eventKind
	arg   uint8
	actor uint16
}

func (e event) before(o event) bool {
	return e.at < o.at || e.at == o.at && e.seq < o.seq
}

// queue is a binary heap of event values.
type queue struct {
	heap []event
	seq  uint64
}

func (q *queue) push(e event) {
	q.seq++
	e.seq = q.seq
	q.heap = append(q.heap, e)
	i := len(q.heap) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !q.heap[i].before(q.heap[up]) {
			break
		}
		q.heap[i], q.heap[up] = q.heap[up], q.heap[i]
		i = up
	}
}

func (q *queue) pop() event {
	top := q.heap[0]
	last := len(q.heap) - 1
	q.heap[0] = q.heap[last]
	q.heap = q.heap[:last]
	i := 0
	for {
		least := i
		for _, c := range [2]int{2*i + 1, 2*i + 2} {
			if c < last && q.heap[c].before(q.heap[least]) {
				least = c
			}
		}
		if least == i {
			return top
		}
		q.heap[i], q.heap[least] = q.heap[least], q.heap[i]
		i = least
	}
}

func (q *queue) next() quantity.Time {
	if len(q.heap) == 0 {
		return quantity.Forever
	}
	return q.heap[0].at
}

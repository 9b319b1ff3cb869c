// Package agenda keeps what is due in virtual time: a heap of values in the order
// of their times, and of their making where times are equal.
package agenda

import "gavrix.org/gavrix/core/quantity"

type entry[T any] struct {
	at   quantity.Time
	seq  uint64
	what T
}

func (e *entry[T]) before(o *entry[T]) bool {
	return e.at < o.at || e.at == o.at && e.seq < o.seq
}

// Agenda is a binary heap of values; the zero value is empty.
type Agenda[T any] struct {
	heap []entry[T]
	seq  uint64
}

// Push puts in what is due at a time.
func (a *Agenda[T]) Push(at quantity.Time, what T) {
	a.seq++
	a.heap = append(a.heap, entry[T]{at, a.seq, what})
	i := len(a.heap) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !a.heap[i].before(&a.heap[up]) {
			break
		}
		a.heap[i], a.heap[up] = a.heap[up], a.heap[i]
		i = up
	}
}

// Pop takes out what is due first; the agenda must not be empty.
func (a *Agenda[T]) Pop() (at quantity.Time, what T) {
	top := a.heap[0]
	last := len(a.heap) - 1
	a.heap[0] = a.heap[last]
	a.heap = a.heap[:last]
	i := 0
	for {
		least := i
		for _, c := range [2]int{2*i + 1, 2*i + 2} {
			if c < last && a.heap[c].before(&a.heap[least]) {
				least = c
			}
		}
		if least == i {
			return top.at, top.what
		}
		a.heap[i], a.heap[least] = a.heap[least], a.heap[i]
		i = least
	}
}

// Next is the time of what is due first; Forever where nothing is.
func (a *Agenda[T]) Next() quantity.Time {
	if len(a.heap) == 0 {
		return quantity.Forever
	}
	return a.heap[0].at
}

package transfer

// Accountant follows a consumer through the services of a ring, of which it remembers one
// turn: what Account tells of a whole list it tells of a stream without end, in sums.
type Accountant struct {
	Delivered, Lost, Doubled, Overrun int
	Recent                            []Taken // the latest, so many at most

	size     int
	consumer *Consumer
	last     int
	written  int
	taken    []int // of the places of the ring, how often their present byte was taken
}

// Taken is what a consumer took in one run of its handler.
type Taken struct {
	Service
	Pieces []Piece
	Bytes  int
}

// recent is how many runs are remembered.
const recent = 24

// NewAccountant follows a consumer through a ring of a size.
func NewAccountant(size int, c *Consumer) *Accountant {
	return &Accountant{size: size, consumer: c, taken: make([]int, size)}
}

// Serve takes a service, whose Written must be known, and gives what the consumer takes.
func (a *Accountant) Serve(s Service) []Piece {
	s.Pos %= a.size
	over := s.Written - a.written - a.size
	for n := a.written; n < s.Written; n++ {
		if n-a.written >= a.size && n < s.Written-a.size {
			a.Lost++ // it came and went between two services
			continue
		}
		place := n % a.size
		if n >= a.size {
			a.leave(a.taken[place])
		}
		a.taken[place] = 0
	}
	take, next := a.consumer.take(a.size, a.last, s)
	if over > 0 {
		a.Overrun += over
		if a.consumer.Name == Consumers[0].Name && s.Events&(HalfEvent|FullEvent) != 0 {
			take = whole(a.size, s.Pos)
		}
	}
	for _, p := range take {
		for place := p.Start; place < p.Start+p.Length; place++ {
			if place%a.size < s.Written {
				a.taken[place%a.size]++
			}
			a.Delivered++
		}
	}
	t := Taken{Service: s, Pieces: take}
	for _, p := range take {
		t.Bytes += p.Length
	}
	if len(a.Recent) == recent {
		a.Recent = append(a.Recent[:0], a.Recent[1:]...)
	}
	a.Recent = append(a.Recent, t)
	a.last, a.written = next, s.Written
	return take
}

// leave counts a byte that is written over.
func (a *Accountant) leave(taken int) {
	switch {
	case taken == 0:
		a.Lost++
	default:
		a.Doubled += taken - 1
	}
}

// Sums gives the bytes that are lost and taken more than once, those in the ring included.
func (a *Accountant) Sums() (lost, doubled int) {
	lost, doubled = a.Lost, a.Doubled
	for place, n := range a.taken {
		if place >= a.written {
			break
		}
		if n == 0 {
			lost++
		} else {
			doubled += n - 1
		}
	}
	return lost, doubled
}

// Last is the place from which the consumer goes on.
func (a *Accountant) Last() int { return a.last }

// Waiting is how many bytes came since the latest service, as many as the ring holds at most;
// count is how many came in all.
func (a *Accountant) Waiting(count int) int { return min(count-a.written, a.size) }

// Fate says of the byte in a place whether nobody has taken it yet, and how often it was taken
// beyond the first time; count is how many bytes came so far.
func (a *Accountant) Fate(place, count int) (unread bool, extra int) {
	n := count - 1 - (count-1-place+a.size)%a.size // the number of the byte that stands there
	switch {
	case n < 0:
		return false, 0
	case n >= a.written || a.taken[place] == 0:
		return true, 0
	}
	return false, a.taken[place] - 1
}

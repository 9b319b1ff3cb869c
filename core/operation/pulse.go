package operation

import (
	"gavrix.org/gavrix/core/record"
)

// laidElements: the elements between two latches are a message of the MCU.
func laidElements(*Part) func(r *record.Record) []exchange {
	return func(r *record.Record) []exchange {
		if r.Kind != record.Transaction || r.AllFlags() != 0 {
			return nil
		}
		return []exchange{whole(r, wide(r.Words(r.Data)))}
	}
}

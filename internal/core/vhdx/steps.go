package vhdx

import "sync"

// mostSteps is how many parts of a table are held in memory.
const mostSteps = 64

// steps are parts of a table that were read, the first ones to be read the first ones to go.
type steps struct {
	mu    sync.Mutex
	held  map[int64][]uint64
	order []int64
}

func newSteps() *steps { return &steps{held: map[int64][]uint64{}} }

// get is a part, which is read if it is not held.
func (s *steps) get(step int64, read func() ([]uint64, error)) ([]uint64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if part, ok := s.held[step]; ok {
		return part, nil
	}
	part, err := read()
	if err != nil {
		return nil, err
	}
	if len(s.order) == mostSteps {
		delete(s.held, s.order[0])
		s.order = s.order[1:]
	}
	s.held[step], s.order = part, append(s.order, step)
	return part, nil
}

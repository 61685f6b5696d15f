package pooled

import (
	"sync"
	"syscall"

	"keenlodge/internal/core/chunk"
)

// packRoom is how much memory a pack of the usual length takes at most, in bytes: its last frame may go over the target.
const packRoom = packTarget + chunk.MaxFrame

// packMemory has the memory of packs that nobody fills or uploads. It lies beside the garbage collector's heap, which would otherwise grow by
// as much again as a few packs take before it is looked through. What is free is given back to the system and stays mapped: a transfer that
// was given up, and still reads, reads zeros.
var packMemory struct {
	mu   sync.Mutex
	free [][]byte
}

// takeMemory returns room for n bytes, of length 0.
func takeMemory(n int) ([]byte, error) {
	if n != packRoom { // small packs are for tests
		return make([]byte, 0, n), nil
	}
	packMemory.mu.Lock()
	defer packMemory.mu.Unlock()
	if last := len(packMemory.free) - 1; last >= 0 {
		p := packMemory.free[last]
		packMemory.free = packMemory.free[:last]
		return p, nil
	}
	p, err := syscall.Mmap(-1, 0, n, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_ANON|syscall.MAP_PRIVATE)
	return p[:0], err
}

// giveMemory takes back what takeMemory returned.
func giveMemory(p []byte) {
	if cap(p) != packRoom {
		return
	}
	syscall.Madvise(p[:cap(p)], syscall.MADV_DONTNEED) // where the kernel does not heed it, the memory is only used again
	packMemory.mu.Lock()
	defer packMemory.mu.Unlock()
	packMemory.free = append(packMemory.free, p[:0])
}

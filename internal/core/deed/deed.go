// Package deed says what somebody did to a lodge, how it ended, and how such lines hang together: each has the digest of the one before it,
// and of the heads of all chains another chain is woven, so that what is taken out, changed or cut off shows.
package deed

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"maps"
	"slices"
	"time"
)

// Result is how a deed ended.
type Result string

const (
	// Begun is one whose end is not known: it goes on, or its process died.
	Begun Result = "begun"
	// Done is one that was carried out, or was begun, as a run is.
	Done Result = "done"
	// Refused is one that changed nothing, for it was not allowed, not possible or not understood.
	Refused Result = "refused"
	// Failed is one that went wrong on the lodge's side; part of it may have happened.
	Failed Result = "failed"
)

// Results lists every result.
var Results = []Result{Begun, Done, Refused, Failed}

// Verbs of lines that no operation of the interface writes.
const (
	// Guess is of lines that say how many wrong tokens an address showed; nobody is known to have done it.
	Guess = "wrong-tokens"
	// NewVaultKey and DropVaultKeys are done on the service's host.
	NewVaultKey   = "new-vault-key"
	DropVaultKeys = "drop-vault-keys"
)

// OwnVerbs lists them.
var OwnVerbs = []string{Guess, NewVaultKey, DropVaultKeys}

// ResultOf reads an HTTP status (RFC 9110, section 15).
func ResultOf(status int) Result {
	switch {
	case status < 400:
		return Done
	case status < 500:
		return Refused
	}
	return Failed
}

// Line is a line of the trail. A deed that takes time has two: one that it began, written before anything is done, and one with its end.
type Line struct {
	// Chain is the process's, Seq counts its lines from 1.
	Chain string
	Seq   int64
	// At is to the microsecond, which is what the records keep.
	At time.Time
	// Who is a token's name, Address where the call came from, Verb the operation, Target the path of what it was done to.
	Who, Address, Verb, Target string
	// Reason is why it was done, in the words of who did it.
	Reason string
	Result Result
	// Why is why it was refused or failed.
	Why string
	// Of is the Seq of the line that says that it began; 0 for such a line itself.
	Of int64
	// Prev is the digest of the line before; of the first line, that of the newest weave when the chain began, or nothing.
	Prev []byte
}

// Digest is the line's, SHA-256 over its fields in their order: texts with their length before them, numbers and lengths as 64 bits
// (big-endian), the time in microseconds since 1970.
func (l Line) Digest() []byte {
	h := sha256.New()
	text(h, l.Chain)
	number(h, l.Seq)
	number(h, l.At.UnixMicro())
	for _, s := range []string{l.Who, l.Address, l.Verb, l.Target, l.Reason, string(l.Result), l.Why} {
		text(h, s)
	}
	number(h, l.Of)
	text(h, string(l.Prev))
	return h.Sum(nil)
}

// Head is how far a chain is.
type Head struct {
	Seq    int64  `json:"seq"`
	Digest []byte `json:"digest"`
}

// Weave holds the heads of chains that went on, and the digest of the weave before: whoever has one knows that all before it was so.
type Weave struct {
	// N counts from 1.
	N     int64
	At    time.Time // to the microsecond
	Heads map[string]Head
	Prev  []byte
}

// Digest is the weave's: like a line's, with the heads by their chains' names.
func (w Weave) Digest() []byte {
	h := sha256.New()
	number(h, w.N)
	number(h, w.At.UnixMicro())
	number(h, int64(len(w.Heads)))
	for _, chain := range slices.Sorted(maps.Keys(w.Heads)) {
		text(h, chain)
		number(h, w.Heads[chain].Seq)
		text(h, string(w.Heads[chain].Digest))
	}
	text(h, string(w.Prev))
	return h.Sum(nil)
}

func text(h hash.Hash, s string) {
	number(h, int64(len(s)))
	h.Write([]byte(s))
}

func number(h hash.Hash, n int64) {
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], uint64(n))
	h.Write(b[:])
}

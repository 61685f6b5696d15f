package deed

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"time"
)

// Kept is a weave as a store has it: something that whoever changes the records can't change as well.
type Kept struct {
	Where  string
	N      int64
	At     time.Time
	Digest []byte
}

// Verifier finds what was taken out of a trail, changed or cut off. Give it all lines, by chain and number; then all weaves by number; then
// what stores keep.
type Verifier struct {
	// Lines, Chains and Weaves count what it was given.
	Lines, Chains, Weaves int64

	found  []string
	line   Line              // the one before
	digest map[string][]byte // of lines that weaves speak of, by chain and number
	seqs   map[string]int64  // how long each chain is
	weaves map[int64][]byte
	last   []byte
	ends   Weave
}

// mostFound bounds how many findings are told one by one.
const mostFound = 100

func (v *Verifier) find(format string, args ...any) {
	if len(v.found) < mostFound {
		v.found = append(v.found, fmt.Sprintf(format, args...))
	}
}

func at(chain string, seq int64) string { return fmt.Sprintf("%s/%d", chain, seq) }

// Line takes the next line, and the digest that is recorded with it.
func (v *Verifier) Line(l Line, digest []byte) {
	if v.digest == nil {
		v.digest, v.seqs, v.weaves = map[string][]byte{}, map[string]int64{}, map[int64][]byte{}
	}
	v.Lines++
	next := v.line.Seq + 1
	if l.Chain != v.line.Chain {
		v.Chains++
		next = 1
	}
	switch {
	case l.Seq != next:
		v.find("chain %s: lines %d to %d are missing, before %s", l.Chain, next, l.Seq-1, stamp(l.At))
	case next > 1 && !bytes.Equal(l.Prev, v.digest[at(l.Chain, l.Seq-1)]):
		v.find("chain %s: line %d of %s does not follow from the one before it", l.Chain, l.Seq, stamp(l.At))
	}
	if !bytes.Equal(l.Digest(), digest) {
		v.find("chain %s: line %d of %s (%s by %s) was changed after it was written", l.Chain, l.Seq, stamp(l.At), l.Verb, l.Who)
	}
	v.digest[at(l.Chain, l.Seq)], v.seqs[l.Chain], v.line = digest, l.Seq, l
}

// Weave takes the next weave, and the digest that is recorded with it.
func (v *Verifier) Weave(w Weave, digest []byte) {
	if v.weaves == nil {
		v.weaves = map[int64][]byte{}
	}
	v.Weaves++
	switch {
	case w.N != v.ends.N+1:
		v.find("weaves %d to %d are missing, before %s", v.ends.N+1, w.N-1, stamp(w.At))
	case !bytes.Equal(w.Prev, v.last):
		v.find("weave %d of %s does not follow from the one before it", w.N, stamp(w.At))
	}
	if !bytes.Equal(w.Digest(), digest) {
		v.find("weave %d of %s was changed after it was written", w.N, stamp(w.At))
	}
	for _, chain := range slices.Sorted(maps.Keys(w.Heads)) {
		head := w.Heads[chain]
		switch has, ok := v.digest[at(chain, head.Seq)]; {
		case !ok:
			v.find("chain %s: it had %d lines at %s, and has %d", chain, head.Seq, stamp(w.At), v.seqs[chain])
		case !bytes.Equal(has, head.Digest):
			v.find("chain %s: line %d is not the one that was there at %s", chain, head.Seq, stamp(w.At))
		}
	}
	v.weaves[w.N], v.last, v.ends = digest, digest, w
}

// Kept takes what a store keeps.
func (v *Verifier) Kept(k Kept) {
	switch has, ok := v.weaves[k.N]; {
	case !ok && k.N > v.ends.N:
		v.find("%s knows weave %d of %s, and the records end at weave %d: they were cut off, or are those of an earlier time", k.Where, k.N, stamp(k.At), v.ends.N)
	case !ok:
		v.find("%s knows weave %d of %s, which the records do not have", k.Where, k.N, stamp(k.At))
	case !bytes.Equal(has, k.Digest):
		v.find("%s knows another weave %d, of %s: the records were put back to an earlier time, and went on from there, or were written anew", k.Where, k.N, stamp(k.At))
	}
}

// Found is all that is not as it was written; empty for a trail that is whole.
func (v *Verifier) Found() []string {
	if v.found == nil {
		return []string{}
	}
	return v.found
}

func stamp(t time.Time) string { return t.UTC().Format(time.DateTime + " MST") }

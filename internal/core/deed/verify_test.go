package deed

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// trail is a trail as records have it.
type trail struct {
	lines   []Line
	digests [][]byte
	weaves  []Weave
	woven   [][]byte
	kept    []Kept
}

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// write writes lines into some chains, and weaves now and then; a store keeps each weave.
func write(rng *rand.Rand, chains, lines int) *trail {
	tr := &trail{}
	heads := map[string]Head{}
	for n := range lines {
		chain := fmt.Sprint("chain-", rng.IntN(chains))
		head := heads[chain]
		l := Line{Chain: chain, Seq: head.Seq + 1, At: noon.Add(time.Duration(n) * time.Second), Who: "operator", Verb: "run-policy", Target: fmt.Sprint("/", n), Result: Done, Prev: head.Digest}
		heads[chain] = Head{l.Seq, l.Digest()}
		tr.lines, tr.digests = append(tr.lines, l), append(tr.digests, l.Digest())
		if rng.IntN(4) == 0 || n == lines-1 {
			w := Weave{N: int64(len(tr.weaves) + 1), At: l.At, Heads: map[string]Head{}}
			for c, h := range heads {
				w.Heads[c] = h
			}
			if len(tr.woven) > 0 {
				w.Prev = tr.woven[len(tr.woven)-1]
			}
			tr.weaves, tr.woven = append(tr.weaves, w), append(tr.woven, w.Digest())
			tr.kept = append(tr.kept, Kept{"store quay-shelf", w.N, w.At, w.Digest()})
		}
	}
	return tr
}

func (tr *trail) found() []string {
	var v Verifier
	at := make([]int, len(tr.lines))
	for i := range at {
		at[i] = i
	}
	slices.SortStableFunc(at, func(a, b int) int {
		if tr.lines[a].Chain != tr.lines[b].Chain {
			return map[bool]int{true: -1, false: 1}[tr.lines[a].Chain < tr.lines[b].Chain]
		}
		return int(tr.lines[a].Seq - tr.lines[b].Seq)
	})
	for _, i := range at {
		v.Line(tr.lines[i], tr.digests[i])
	}
	for i, w := range tr.weaves {
		v.Weave(w, tr.woven[i])
	}
	for _, k := range tr.kept {
		v.Kept(k)
	}
	return v.Found()
}

// Whatever is done to a trail after it was woven shows; a trail that nobody touched has nothing to show.
func TestWhatIsDoneToATrailShows(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 15))
		tr := write(rng, 1+rng.IntN(4), 5+rng.IntN(40))
		require.Empty(t, tr.found(), "seed %d", seed)
		i := rng.IntN(len(tr.lines))
		what := rng.IntN(7)
		switch what {
		case 0: // a line is taken out
			tr.lines, tr.digests = slices.Delete(tr.lines, i, i+1), slices.Delete(tr.digests, i, i+1)
		case 1: // a line is changed
			tr.lines[i].Who = "somebody else"
		case 2: // and its digest with it
			tr.lines[i].Result = Refused
			tr.digests[i] = tr.lines[i].Digest()
		case 3: // a whole chain goes
			chain := tr.lines[i].Chain
			keep := &trail{weaves: tr.weaves, woven: tr.woven, kept: tr.kept}
			for k, l := range tr.lines {
				if l.Chain != chain {
					keep.lines, keep.digests = append(keep.lines, l), append(keep.digests, tr.digests[k])
				}
			}
			tr = keep
		case 4: // a weave is taken out
			k := rng.IntN(len(tr.weaves))
			tr.weaves, tr.woven = slices.Delete(tr.weaves, k, k+1), slices.Delete(tr.woven, k, k+1)
		case 5: // the records are those of an earlier time
			last := len(tr.weaves) - 1
			tr.weaves, tr.woven = tr.weaves[:last], tr.woven[:last]
		case 6: // all is written anew, with other lines
			other := write(rand.New(rand.NewPCG(seed, 16)), 3, len(tr.lines)+3)
			other.kept = tr.kept
			tr = other
		}
		require.NotEmpty(t, tr.found(), "seed %d, change %d", seed, what)
	}
}

// What comes after the newest weave is held together by its chain alone: a line in the middle shows, one at the end may not.
func TestDigests(t *testing.T) {
	l := Line{Chain: "a", Seq: 1, At: noon, Who: "ab", Address: "c"}
	moved := l
	moved.Who, moved.Address = "a", "bc"
	require.NotEqual(t, l.Digest(), moved.Digest(), "where a text ends is part of it")
	zoned := l
	zoned.At = noon.In(time.FixedZone("", 3600))
	require.Equal(t, l.Digest(), zoned.Digest(), "a moment is one in every zone")
	require.Len(t, l.Digest(), 32)
	w := Weave{N: 1, At: noon, Heads: map[string]Head{"a": {1, []byte{1}}, "b": {2, []byte{2}}}}
	same := Weave{N: 1, At: noon, Heads: map[string]Head{"b": {2, []byte{2}}, "a": {1, []byte{1}}}}
	require.Equal(t, w.Digest(), same.Digest())
}

// What is written stays readable: the digests of a line and of a weave are for good.
func TestDigestsAreForGood(t *testing.T) {
	l := Line{Chain: "k3vqd2mwzr7a", Seq: 2, At: time.Date(2026, 3, 2, 22, 0, 0, 123456000, time.UTC), Who: "operator", Address: "192.0.2.7", Verb: "run-policy", Target: "/api/v1/policies/nightly-guests/runs",
		Reason: "die Fähre", Result: Refused, Why: "a run of it is going", Of: 1, Prev: []byte{1, 2, 3}}
	require.Equal(t, "46ea117de440be0c9aaa8256e3cb76aef42da3a5cc60787b051bf00d606f727f", fmt.Sprintf("%x", l.Digest()))
	w := Weave{N: 7, At: l.At, Heads: map[string]Head{"k3vqd2mwzr7a": {2, []byte{4, 5}}, "a2": {9, []byte{6}}}, Prev: []byte{8}}
	require.Equal(t, "a6cdeb078dd2cef4a6acecc757745b7299ae519cd4a8b1aff7d4ec031984cda2", fmt.Sprintf("%x", w.Digest()))
}

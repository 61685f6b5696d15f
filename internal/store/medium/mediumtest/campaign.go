package mediumtest

import (
	"bytes"
	"math/rand/v2"
	"os"
	"strconv"
)

// Campaign is how often a test is to try something that is drawn, and the seed from which: a few times and always the same, unless the environment
// says how often by that variable, and from which seed by KEENLODGE_SEED.
func Campaign(variable string, tries int) (n int, seed uint64) {
	if many, err := strconv.Atoi(os.Getenv(variable)); err == nil {
		tries = many
	}
	seed, err := strconv.ParseUint(os.Getenv("KEENLODGE_SEED"), 10, 64)
	if err != nil {
		seed = 1
	}
	return tries, seed
}

// Harms are what may befall an object.
var Harms = []string{"flip", "cut", "gone", "swap", "replay", "longer"}

// Harm does what befalls an object by itself: flip, cut, longer, gone (nil). Others need to know what else there is, and change nothing here.
func Harm(rng *rand.Rand, harm string, body []byte) []byte {
	body = bytes.Clone(body)
	switch harm {
	case "flip":
		body[rng.IntN(len(body))] ^= 1 << rng.IntN(8)
	case "cut":
		body = body[:rng.IntN(len(body))]
	case "longer":
		body = append(body, body[:1+rng.IntN(len(body))]...)
	case "gone":
		body = nil
	}
	return body
}

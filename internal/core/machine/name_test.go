package machine

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever machines there are of a name, their labels are unique, say the name, and the only one that is there has the name alone.
func TestLabels(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		var all []Naming
		live := 0
		for i := range 1 + rng.IntN(5) {
			n := Naming{ID: fmt.Sprintf("%08d-%d", i, rng.IntN(9)), Name: "web", Source: []string{"quay-1", "pier-2", ""}[rng.IntN(3)], Live: rng.IntN(2) == 0}
			if n.Live && n.Source == "" {
				n.Live = false
			}
			if n.Live {
				live++
			}
			all = append(all, n)
		}
		seen := map[string]bool{}
		for i, label := range Labels(all, func(n Naming) Naming { return n }) {
			require.False(t, seen[label], "%s twice of %v", label, all)
			seen[label] = true
			require.Contains(t, label, "web")
			require.Equal(t, len(all) == 1 || all[i].Live && live == 1, label == "web" && !strings.Contains(label, "/"), "%s of %v", label, all)
		}
	}
}

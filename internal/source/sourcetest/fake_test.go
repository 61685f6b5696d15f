package sourcetest

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

func TestTheFakeIsASource(t *testing.T) {
	h := Named(t.Name())
	h.Add("tickets-db", "u-1", map[string]string{"tier": "gold"}, map[string]disk.Memory{"vda": make(disk.Memory, 16<<20), "vdb": make(disk.Memory, 1<<20)})
	n := 0
	subject := Subject{Guest: "tickets-db", Target: "vda",
		Dial: func(t *testing.T) source.Source {
			s, err := source.Dial(t.Context(), site.Hypervisor{Kind: Kind, URI: h.name()})
			require.NoError(t, err)
			return s
		},
		Write: func(_ *testing.T, at int64, fill byte) {
			h.Write("tickets-db", "vda", at, bytes.Repeat([]byte{fill}, 1<<20))
		},
		NewID: func() string { n++; return fmt.Sprintf("capture%03d", n) },
	}
	Run(t, subject)
	RunInPlace(t, subject, func(_ *testing.T, at int64) (out []byte) {
		h.Change("tickets-db", func(g *Guest) { out = bytes.Clone(g.Disks["vda"][at : at+1<<20]) })
		return out
	})
}

package trail

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/store/medium"
)

// A store keeps the newest weave of each day, so that whoever changes the records, or puts them back to an earlier time, would have to
// change every store, too.

// witness is a weave as a store keeps it.
type witness struct {
	Weave  int64     `json:"weave"`
	At     time.Time `json:"at"`
	Digest []byte    `json:"digest"`
}

// Keep puts a weave into a store, in place of an older one of its day. lodge is the lodge's UUID.
func Keep(ctx context.Context, m medium.Medium, lodge string, w deed.Weave, digest []byte) error {
	body, err := json.Marshal(witness{w.N, w.At.UTC(), digest})
	if err != nil {
		return err
	}
	day := fmt.Sprintf("trail/%s/%s/", lodge, w.At.UTC().Format(time.DateOnly))
	name := fmt.Sprintf("%s%020d", day, w.N)
	var older []string
	there := false
	if err := m.List(ctx, day, func(o medium.Object) error {
		there = there || o.Name == name
		if o.Name < name {
			older = append(older, o.Name)
		}
		return nil
	}); err != nil {
		return err
	}
	if !there { // objects are written once
		if err := m.Put(ctx, name, body); err != nil {
			return err
		}
	}
	for _, old := range older {
		if err := m.Delete(ctx, old); err != nil {
			return err
		}
	}
	return nil
}

// mostWitness is how long a weave in a store is at the most, in bytes.
const mostWitness = 4 << 10

// Kept reads what a store keeps of a lodge's trail; where is how findings call the store. What can't be understood is a finding, too.
func Kept(ctx context.Context, m medium.Medium, lodge, where string) (kept []deed.Kept, found []string, err error) {
	var names []string
	err = m.List(ctx, "trail/"+lodge+"/", func(o medium.Object) error {
		if o.Size <= mostWitness {
			names = append(names, o.Name)
		} else {
			found = append(found, fmt.Sprintf("%s: what it keeps of the trail as %s is no weave: it has %d bytes", where, o.Name, o.Size))
		}
		return nil
	})
	for _, name := range names {
		if err != nil {
			break
		}
		var body []byte
		body, err = m.Get(ctx, name, 0, -1)
		if errors.Is(err, medium.ErrNotFound) {
			err = nil // a newer one has taken its place
			continue
		}
		if err != nil {
			break
		}
		var w witness
		if json.Unmarshal(body, &w) != nil || path.Base(name) != fmt.Sprintf("%020d", w.Weave) {
			found = append(found, fmt.Sprintf("%s: what it keeps of the trail as %s is not to be understood", where, name))
			continue
		}
		kept = append(kept, deed.Kept{Where: where, N: w.Weave, At: w.At, Digest: w.Digest})
	}
	return kept, found, err
}

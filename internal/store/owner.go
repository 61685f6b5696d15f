package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"keenlodge/internal/store/medium"
)

// Owner is the lodge that rotates a store's images. Lodge is a UUID; Since is when it took the store over.
type Owner struct {
	Lodge string    `json:"lodge"`
	Since time.Time `json:"since"`
}

const ownerPrefix = "owner/"

// PutOwner makes a lodge the store's owner. Objects are written once, so each owner has one of its own, and the latest holds.
func PutOwner(ctx context.Context, m medium.Medium, o Owner) error {
	body, err := json.Marshal(o)
	if err != nil {
		return err
	}
	before, err := owners(ctx, m)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s%020d-%s", ownerPrefix, o.Since.UnixNano(), o.Lodge)
	if err := m.Put(ctx, name, body); err != nil {
		return err
	}
	for _, old := range before {
		if old < name {
			err = errors.Join(err, m.Delete(ctx, old))
		}
	}
	return err
}

// ReadOwner is the store's owner; the zero value of a store that never had one, or whose owner can't be read.
func ReadOwner(ctx context.Context, m medium.Medium) (o Owner, err error) {
	names, err := owners(ctx, m)
	if err != nil {
		return o, err
	}
	last := ""
	for _, n := range names {
		last = max(last, n)
	}
	if last == "" {
		return o, nil
	}
	body, err := m.Get(ctx, last, 0, -1)
	if errors.Is(err, medium.ErrNotFound) {
		return o, nil
	}
	if err != nil {
		return o, err
	}
	if json.Unmarshal(body, &o) != nil || !strings.HasSuffix(last, "-"+o.Lodge) {
		return Owner{}, nil
	}
	return o, nil
}

func owners(ctx context.Context, m medium.Medium) (names []string, err error) {
	err = m.List(ctx, ownerPrefix, func(o medium.Object) error { names = append(names, o.Name); return nil })
	return names, err
}

// Package seen records what sources tell of machines that are known.
package seen

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// Every is how old it may be when a machine was seen last, of which nothing else is news: a source of thousands is asked by each run.
const Every = 10 * time.Second

// Machine is one that is known by its ID, as a source tells of it. Tags and Disks are what is kept as JSON.
type Machine struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	UUID  string `json:"uuid"`
	State string `json:"state"`
	Tags  any    `json:"tags"`
	Disks any    `json:"disks"`
}

// Again records them, in one statement; it writes only what is news.
func Again(ctx context.Context, tx pgx.Tx, source string, machines []Machine, now time.Time) error {
	if len(machines) == 0 {
		return nil
	}
	body, err := json.Marshal(machines)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `update machines m set name = u.name, hypervisor = $2, uuid = u.uuid, state = u.state, tags = u.tags, disks = u.disks, seen = $3
		from jsonb_to_recordset($1::jsonb) u(id text, name text, uuid text, state text, tags jsonb, disks jsonb)
		where m.id = u.id and (m.seen < $4 or (m.name, m.hypervisor, m.uuid, m.state, m.tags, m.disks) is distinct from (u.name, $2, u.uuid, u.state, u.tags, u.disks))`,
		string(body), source, now, now.Add(-Every))
	return err
}

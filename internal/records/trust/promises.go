package trust

import (
	"context"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/records/db"
)

// ProofStanding is how the proofs of a machine's images stand, of one level, those of its images of files by themselves: when one last passed, and how the newest one ended.
type ProofStanding struct {
	MachineID string      `db:"machine_id"`
	Level     image.Level `db:"level"`
	OfFiles   bool        `db:"of_files"`
	Passed    *time.Time  `db:"passed"`
	// Image is that of the newest one, which Failed says, with its Error and End.
	Image  string    `db:"image"`
	Failed bool      `db:"failed"`
	Error  string    `db:"error"`
	Ended  time.Time `db:"ended"`
}

// ProofStandings are those of every machine.
func (t Trust) ProofStandings(ctx context.Context) ([]ProofStanding, error) {
	return db.All[ProofStanding](ctx, t.db.Pool, `select i.machine_id, p.level, i.scope = any($1) as of_files, max(p.ended) filter (where p.passed) as passed, (array_agg(p.image order by p.id desc))[1] as image,
		not (array_agg(p.passed order by p.id desc))[1] as failed, (array_agg(p.error order by p.id desc))[1] as error, (array_agg(p.ended order by p.id desc))[1] as ended
		from proofs p join images i on i.id = p.image group by i.machine_id, p.level, of_files`, []image.Scope{image.SystemState, image.SomeFiles, image.Exported})
}

// NewestProofs are those of the newest image of a machine that has any, newest first.
func (t Trust) NewestProofs(ctx context.Context, machineID string) ([]Proof, error) {
	return db.All[Proof](ctx, t.db.Pool, `select * from proofs where image = (select i.id from images i where i.machine_id = $1 and exists (select from proofs p where p.image = i.id)
		order by i.taken desc, i.id desc limit 1) order by id desc limit 20`, machineID)
}

// LastGood is the newest image of a machine of the scope of one, but for that, which passed a proof of a level or a higher one and is there, "" for none.
func (t Trust) LastGood(ctx context.Context, machineID string, level image.Level, except string) (string, error) {
	at := slices.Index(image.Levels, level)
	if at < 0 {
		return "", nil
	}
	found, err := db.Column[string](ctx, t.db.Pool, `select i.id from images i where i.machine_id = $1 and i.id <> $2 and i.gone is null and i.state = 'usable'
		and exists (select from proofs p where p.image = i.id and p.passed and p.level = any($3)) and i.scope = (select scope from images where id = $2) order by i.taken desc, i.id desc limit 1`, machineID, except, image.Levels[at:])
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0], nil
}

// ImageStanding is what a store has of a machine: when the first and the newest usable image were taken.
type ImageStanding struct {
	MachineID string    `db:"machine_id"`
	Store     string    `db:"store"`
	First     time.Time `db:"first"`
	Newest    time.Time `db:"newest"`
	// Proven and Failed are of the newest one.
	Proven image.Level `db:"proven"`
	Failed bool        `db:"failed"`
}

// ImageStandings are those of every machine and store.
func (t Trust) ImageStandings(ctx context.Context) ([]ImageStanding, error) {
	return db.All[ImageStanding](ctx, t.db.Pool, `select machine_id, store, min(taken) as first, max(taken) as newest,
		(array_agg(proven order by taken desc, id))[1] as proven, (array_agg(proof_failed order by taken desc, id))[1] as failed from images where state = 'usable' and gone is null group by machine_id, store`)
}

// ProofTimes are how long the newest proofs of each level took that passed, in the middle.
func (t Trust) ProofTimes(ctx context.Context) (map[image.Level]time.Duration, error) {
	type row struct {
		Level   image.Level `db:"level"`
		Seconds float64     `db:"seconds"`
	}
	rows, err := db.All[row](ctx, t.db.Pool, `select level, percentile_cont(0.5) within group (order by extract(epoch from ended - began)) as seconds from (
		select level, began, ended, row_number() over (partition by level order by id desc) as n from proofs where passed) newest where n <= 50 group by level`)
	out := map[image.Level]time.Duration{}
	for _, r := range rows {
		out[r.Level] = time.Duration(r.Seconds * float64(time.Second))
	}
	return out, err
}

// BeingProven are the machines of which an image is being proven or tried, or is queued for that, and how many of these runs the lodge itself has begun;
// and those of which such a run, that the lodge began, came to nothing within some time: they wait.
func (t Trust) BeingProven(ctx context.Context, wait time.Duration) (machineIDs []string, own int, err error) {
	type row struct {
		MachineID string `db:"machine_id"`
		Own       bool   `db:"own"`
		Over      bool   `db:"over"`
	}
	rows, err := db.All[row](ctx, t.db.Pool, `select distinct i.machine_id, r.cause = 'upkeep' as own, r.ended is not null as over from runs r, images i
		where r.kind in ('proof', 'trial') and (r.state in ('queued', 'running') or r.cause = 'upkeep' and r.state in ('failed', 'cancelled', 'skipped') and r.ended > now() - $1::interval)
		and (i.id = r.request ->> 'image' or r.request -> 'images' ? i.id)`, wait)
	for _, one := range rows {
		if machineIDs = append(machineIDs, one.MachineID); one.Own && !one.Over {
			own++
		}
	}
	return machineIDs, own, err
}

// KeyProof says that somebody has tried the key of a store that is kept on paper.
type KeyProof struct {
	Store  string    `db:"store"`
	At     time.Time `db:"at"`
	Who    string    `db:"who"`
	Opened bool      `db:"opened"`
}

// AddKeyProof records one.
func (t Trust) AddKeyProof(ctx context.Context, p KeyProof) error {
	_, err := t.db.Pool.Exec(ctx, "insert into key_proofs (store, at, who, opened) values ($1, $2, $3, $4)", p.Store, p.At, p.Who, p.Opened)
	return err
}

// KeyProofs are the newest ones that opened their stores, by store.
func (t Trust) KeyProofs(ctx context.Context) (map[string]KeyProof, error) {
	all, err := db.All[KeyProof](ctx, t.db.Pool, "select distinct on (store) store, at, who, opened from key_proofs where opened order by store, at desc")
	out := map[string]KeyProof{}
	for _, p := range all {
		out[p.Store] = p
	}
	return out, err
}

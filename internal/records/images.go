package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
)

// Image is one machine at one moment, restorable. Size, Read, NewBytes and Stored are bytes: the disks' length, what the
// source gave, what was new to the store before and after compression.
type Image struct {
	ID string `db:"id" json:"id"`
	// Machine is what the image's machine is called now, MachineID its identity.
	Machine     string            `db:"machine" json:"machine"`
	MachineID   string            `db:"machine_id" json:"machine_id"`
	Policy      string            `db:"policy" json:"policy"`
	Store       string            `db:"store" json:"store"`
	Run         string            `db:"run" json:"run"`
	Taken       time.Time         `db:"taken" json:"taken"`
	State       image.State       `db:"state" json:"state"`
	Scope       image.Scope       `db:"scope" json:"scope"`
	Capture     image.Capture     `db:"capture" json:"capture"`
	Since       string            `db:"since" json:"since" doc:"the image since which only changes were read, or empty"`
	CaptureWhy  string            `db:"capture_why" json:"capture_why" doc:"why it is full, where it is"`
	Base        string            `db:"base" json:"base" doc:"the image that it leans on, or empty for one that stands alone"`
	Consistency image.Consistency `db:"consistency" json:"consistency"`
	Frozen      int64             `db:"frozen" json:"frozen" doc:"nanoseconds that the guest's file systems stood still"`
	Pinned      bool              `db:"pinned" json:"pinned"`
	PinNote     string            `db:"pin_note" json:"pin_note"`
	Disks       []ImageDisk       `db:"disks" json:"disks"`
	Size        int64             `db:"size" json:"size"`
	Read        int64             `db:"read" json:"read"`
	NewBytes    int64             `db:"fresh" json:"fresh"`
	Stored      int64             `db:"stored" json:"stored"`
	Note        string            `db:"note" json:"note" doc:"what it is for, where somebody wrote it"`
	SeparateSet bool              `db:"apart" json:"apart" doc:"made by hand, and no part of the scheduled ones' set"`
	Took        int64             `db:"took" json:"took" doc:"nanoseconds that it took to make"`
	Gone        *time.Time        `db:"gone" json:"gone"`
	GoneWhy     string            `db:"gone_why" json:"gone_why"`
	// Proven is the best level of a passed proof, or ""; Failed says that the newest proof failed, which outranks it.
	Proven   image.Level `db:"proven" json:"proven"`
	ProvenAt *time.Time  `db:"proven_at" json:"proven_at"`
	Failed   bool        `db:"failed" json:"failed"`
	// Unusual is how many things in it are unusual at which nobody has looked; who last did, and when, and what he said.
	Unusual    int        `db:"unusual" json:"unusual"`
	LookedBy   string     `db:"looked_by" json:"looked_by"`
	LookedNote string     `db:"looked_note" json:"looked_note"`
	LookedAt   *time.Time `db:"looked_at" json:"looked_at"`
	// InStore says of an image that is gone that it still lies in its store, Leaving that it is on its way out.
	InStore bool `db:"in_store" json:"in_store"`
	Leaving bool `db:"leaving" json:"leaving"`
	// Adopted says that rotation leaves it alone: it was found in its store, and nobody has said that it is this lodge's.
	Adopted bool `db:"adopted" json:"adopted"`
	// Locked is until when nothing can delete it, nil for no lock.
	Locked *time.Time `db:"locked" json:"locked"`
	// CopyOf is the image of which it is a copy in another store, or "", CopiedBy the rule that made it.
	CopyOf   string `db:"copy_of" json:"copy_of"`
	CopiedBy string `db:"copied_by" json:"copied_by"`
	// Firmware is what it has, and has not, of what the machine's firmware keeps beside the disks; nil is nothing.
	Firmware []ImageFirmware `db:"firmware" json:"firmware"`
	// Rested are the applications that were brought to rest for it.
	Rested []image.Rested `db:"rested" json:"rested"`
	// Files is what an image of files holds; nil is one of disks.
	Files *ImageFiles `db:"files" json:"files"`
}

// ImageFiles is what an image of files holds. Bytes are of their content.
type ImageFiles struct {
	Entries int64             `json:"entries"`
	Bytes   int64             `json:"bytes"`
	Unread  int64             `json:"unread"`
	Changed int64             `json:"changed"`
	Parts   []image.FilesPart `json:"parts"`
	LeftOut []files.LeftOut   `json:"left_out"`
}

// ImageFirmware is something that a machine's firmware keeps. Size is in bytes; Left says why the image does not have it.
type ImageFirmware struct {
	Kind image.FirmwareKind `json:"kind"`
	Size int64              `json:"size"`
	Left string             `json:"left"`
}

// ImageDisk is a disk of an image. Size is in bytes.
type ImageDisk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
	// Lost is how much of it could not be read on the machine.
	Lost int64 `json:"lost,omitempty"`
}

// Lost is how much of the image's disks could not be read on the machine, in bytes.
func (m Image) Lost() (n int64) {
	for _, d := range m.Disks {
		n += d.Lost
	}
	return n
}

const imageSelect = `select i.id, coalesce(mm.label, i.machine) as machine, i.machine_id, i.policy, i.store, i.run, i.taken, i.state, i.scope, i.capture, i.since, i.capture_why, i.base,
	i.consistency, i.frozen, i.pinned, i.pin_note, i.disks, i.size, i.read, i.fresh, i.stored, i.note, i.apart, i.took, i.gone, i.gone_why, i.in_store, i.leaving, i.adopted, i.locked, i.copy_of, i.copied_by, i.firmware, i.files, i.rested,
	i.proven, i.proven_at, i.proof_failed as failed, i.unusual, i.looked_by, i.looked_note, i.looked_at from images i left join machines mm on mm.id = i.machine_id `

// ImageFilter narrows a listing; empty fields do not.
type ImageFilter struct {
	// ID is how the images' IDs begin.
	ID                       string
	MachineID, Policy, Store string
	// Gone lists those that rotation dropped, too; OnlyGone no others.
	Gone, OnlyGone bool
	Within         *listing.Reach
	listing.Page
}

const asTime = time.RFC3339Nano

var imageList = listing.List[Image]{Own: "-taken", ID: "i.id", IDOf: func(m Image) string { return m.ID }, Columns: map[string]listing.Column[Image]{
	"taken":  {SQL: "i.taken", Kind: "timestamptz", Value: func(m Image) string { return m.Taken.Format(asTime) }},
	"stored": {SQL: "i.stored", Kind: "bigint", Value: func(m Image) string { return fmt.Sprint(m.Stored) }},
	"read":   {SQL: "i.read", Kind: "bigint", Value: func(m Image) string { return fmt.Sprint(m.Read) }},
	"took":   {SQL: "i.took", Kind: "bigint", Value: func(m Image) string { return fmt.Sprint(m.Took) }},
}}

// Images lists images, newest first; without a limit, all that the filter leaves.
func (r *Records) Images(ctx context.Context, f ImageFilter) ([]Image, error) {
	images, _, err := r.ImagePage(ctx, f)
	return images, err
}

// ImagePage is Images with the cursor of the next page, "" for none.
func (r *Records) ImagePage(ctx context.Context, f ImageFilter) (images []Image, next string, err error) {
	var c listing.Conditions
	c.Add("i.machine_id = $%d", f.MachineID)
	c.Add("i.policy = $%d", f.Policy)
	c.Add("i.store = $%d", f.Store)
	c.Add("starts_with(i.id, $%d)", f.ID)
	c.Within(f.Within, "i.machine_id = any(%s)", "i.policy = any(%s)")
	switch {
	case f.OnlyGone:
		c.Where = append(c.Where, "i.gone is not null")
	case !f.Gone:
		c.Where = append(c.Where, "i.gone is null")
	}
	return db.Page(ctx, r.db, imageList, imageSelect, c, f.Page)
}

// of are the conditions for the images that a policy made, or copied that a rule made, which is $1.
func of(copies bool) string {
	if copies {
		return "copied_by = $1"
	}
	return "policy = $1 and copied_by = ''"
}

// SetImages lists the images of a policy, or the copies of a rule, in some stores that are there, oldest first in each set, with what planning needs of them
// and no more. Those of other machines than those named are left out; nil is all.
func (r *Records) SetImages(ctx context.Context, name string, copies bool, in []string, machineIDs []string) (images []Image, err error) {
	// What is being taken along into the first of the stores counts once: there, when it has arrived.
	once := ""
	if len(in) > 1 {
		once = ` and not (images.store <> ($2::text[])[1] and exists (select from images n where n.policy = $1 and n.copied_by = '' and n.store = ($2::text[])[1] and n.gone is null
			and n.state = 'usable' and n.copy_of = coalesce(nullif(images.copy_of, ''), images.id)))`
	}
	// The labels are looked up once a machine, not once an image, and only of those that are asked for.
	rows, err := r.db.Pool.Query(ctx, "select "+planColumns+`, coalesce(label, machine) from images
		left join (select id as labelled, label from machines where $3::text[] is null or id = any($3)) mm on labelled = machine_id
		where `+of(copies)+` and store = any($2) and gone is null and not adopted and ($3::text[] is null or machine_id = any($3))`+once+` order by machine_id, taken, id`, name, in, machineIDs)
	if err != nil {
		return nil, err
	}
	return images, visitPlanned(rows, func(m Image) { images = append(images, m) })
}

// SetMachine is a machine of which a policy has images in some stores.
type SetMachine struct {
	Label string `db:"label"`
	ID    string `db:"machine_id"`
}

// SetMachines lists the machines of which a policy, or a copy rule, has images in some stores, by their labels, those after one; limit 0 is all.
func (r *Records) SetMachines(ctx context.Context, policy string, copies bool, in []string, afterLabel, afterID string, limit int) ([]SetMachine, error) {
	// From one machine to the next by the index, past all its images.
	return db.All[SetMachine](ctx, r.db.Pool, `with recursive ids as (
			(select machine_id from images where `+of(copies)+` and store = any($2) and gone is null order by machine_id limit 1) union all
			select n.machine_id from ids, lateral (select machine_id from images i where `+of(copies)+` and store = any($2) and gone is null and i.machine_id > ids.machine_id order by i.machine_id limit 1) n)
		select coalesce(mm.label, ids.machine_id) as label, ids.machine_id from ids left join lateral (select label from machines where id = ids.machine_id) mm on true
		where (coalesce(mm.label, ids.machine_id), ids.machine_id) > ($3, $4) order by 1, 2 limit nullif($5, 0)`, policy, in, afterLabel, afterID, limit)
}

// Experience calls visit for the images from which a forecast is made, set by set and newest first in each: those that are there, and of
// the policies that count on from them also those that are gone but were taken since a moment. The image has what planning needs.
func (r *Records) Experience(ctx context.Context, counting []string, since time.Time, visit func(Image)) error {
	rows, err := r.db.Pool.Query(ctx, "select "+planColumns+`, '' from images where not adopted and (gone is null or policy = any($1) and taken > $2) order by policy, store, machine_id, taken desc`, counting, since)
	if err != nil {
		return err
	}
	return visitPlanned(rows, visit)
}

// planColumns has what planning needs of an image, but for its machine's name, which is put after it.
const planColumns = "id, machine_id, policy, store, scope, apart, taken, capture, base, state, pinned, stored, took, proven, proof_failed, unusual, gone, copied_by, locked"

// visitPlanned calls visit for rows of planColumns and a name.
func visitPlanned(rows pgx.Rows, visit func(Image)) error {
	defer rows.Close()
	// Most words are the same from row to row, so each is kept once.
	words := map[string]string{}
	once := func(b []byte) string {
		w, ok := words[string(b)]
		if !ok {
			w = string(b)
			words[w] = w
		}
		return w
	}
	var machineID, policy, store, scope, capture, state, proven, rule, name pgtype.DriverBytes
	for rows.Next() {
		var m Image
		if err := rows.Scan(&m.ID, &machineID, &policy, &store, &scope, &m.SeparateSet, &m.Taken, &capture, &m.Base, &state, &m.Pinned, &m.Stored, &m.Took, &proven, &m.Failed, &m.Unusual, &m.Gone, &rule, &m.Locked, &name); err != nil {
			return err
		}
		m.MachineID, m.Policy, m.Store, m.Scope, m.Machine = once(machineID), once(policy), once(store), image.Scope(once(scope)), once(name)
		m.CopiedBy = once(rule)
		m.Capture, m.State, m.Proven = image.Capture(once(capture)), image.State(once(state)), image.Level(once(proven))
		visit(m)
	}
	return rows.Err()
}

// ImagesOfMachines lists the newest images of machines, those that are gone too, so many of each at the most.
func (r *Records) ImagesOfMachines(ctx context.Context, machineIDs []string, most int) ([]Image, error) {
	return db.All[Image](ctx, r.db.Pool, imageSelect+`where i.id = any(array(select n.id from unnest($1::text[]) u(machine_id),
		lateral (select id from images o where o.machine_id = u.machine_id order by o.taken desc, o.id desc limit $2) n)) order by i.taken desc, i.id desc`, machineIDs, most)
}

// ForgetImages removes the records of images that left their stores before a moment, with their proofs, and returns how many.
func (r *Records) ForgetImages(ctx context.Context, before time.Time) (int64, error) {
	tag, err := r.db.Pool.Exec(ctx, `with old as (delete from images i where gone < $1 and not in_store and not exists (select from images o where o.base = i.id) returning id),
		proven as (delete from proofs p using old where p.image = old.id) select from old`, before)
	return tag.RowsAffected(), err
}

// Image finds one image, also one that is gone.
func (r *Records) Image(ctx context.Context, id string) (Image, error) {
	return db.One[Image](ctx, r.db.Pool, imageSelect+"where i.id = $1", id)
}

// AddImage records an image that is being written.
func (r *Records) AddImage(ctx context.Context, m Image) error {
	return r.db.Exec(ctx, `insert into images (id, machine, machine_id, policy, store, run, taken, state, scope, capture, base, note, apart, copy_of, copied_by)
		values ($1, $2, $3, $4, $5, $6, $7, 'writing', $8, $9, $10, $11, $12, $13, $14)`,
		m.ID, m.Machine, m.MachineID, m.Policy, m.Store, m.Run, m.Taken, m.Scope, m.Capture, m.Base, m.Note, m.SeparateSet, m.CopyOf, m.CopiedBy)
}

// FinishImage makes an image usable.
func (r *Records) FinishImage(ctx context.Context, m Image) error {
	return r.db.Exec(ctx, `update images set state = case when $18 then 'broken' else 'usable' end, taken = $2, consistency = $3, frozen = $4, disks = $5, size = $6, read = $7, fresh = $8, stored = $9,
		capture = $10, since = $11, capture_why = $12, base = $13, took = $14, firmware = coalesce($15::jsonb, '[]'), files = $16, rested = coalesce($17::jsonb, '[]'), locked = $19 where id = $1`,
		m.ID, m.Taken, m.Consistency, m.Frozen, m.Disks, m.Size, m.Read, m.NewBytes, m.Stored, m.Capture, m.Since, m.CaptureWhy, m.Base, m.Took, m.Firmware, m.Files, m.Rested, m.Lost() > 0, m.Locked)
}

// ForgetImage removes an image that never came to be.
func (r *Records) ForgetImage(ctx context.Context, id string) error {
	return r.db.Exec(ctx, "delete from images where id = $1 and state = 'writing'", id)
}

// FoldImage records that an image stands alone now, of so many bytes.
func (r *Records) FoldImage(ctx context.Context, id string, capture image.Capture, why string, stored int64) error {
	if err := r.db.Exec(ctx, "update images set capture = $2, capture_why = $3, base = '', since = '', stored = $4 where id = $1", id, capture, why, stored); err != nil {
		return err
	}
	return r.db.Notify(ctx, "image "+id)
}

// Drop is an image that goes, and why.
type Drop struct{ ID, Why string }

// DropImages records that images go, all or none. They stay in their store for a while. One that was pinned meanwhile stops
// them all.
func (r *Records) DropImages(ctx context.Context, drops []Drop) error {
	if len(drops) == 0 {
		return nil
	}
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		for _, d := range drops {
			tag, err := tx.Exec(ctx, "update images set gone = now(), gone_why = $2 where id = $1 and (gone is not null or not pinned and (locked is null or locked <= now()))", d.ID, d.Why)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				pinned, err := db.Column[bool](ctx, tx, "select pinned from images where id = $1", d.ID)
				if err == nil && len(pinned) == 1 && !pinned[0] {
					return fmt.Errorf("image %s is locked; nothing was dropped", d.ID)
				}
				return errors.Join(err, fmt.Errorf("image %s was pinned meanwhile; nothing was dropped", d.ID))
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.db.Notify(ctx, "image "+drops[0].ID)
}

// UndropImage brings an image back that is gone but still in its store, and all that it leans on. It returns their names; none if
// the image can't be brought back any more.
func (r *Records) UndropImage(ctx context.Context, id string) (back []string, err error) {
	err = pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select id, gone is null or in_store and not leaving as can from images where id in (
			with recursive chain as (select id, base from images where id = $1 union select i.id, i.base from images i join chain c on i.id = c.base)
			select id from chain) for update`, id)
		if err != nil {
			return err
		}
		type link struct {
			ID  string
			Can bool
		}
		chain, err := pgx.CollectRows(rows, pgx.RowToStructByPos[link])
		if err != nil {
			return err
		}
		for _, l := range chain {
			if !l.Can {
				back = nil
				return nil
			}
			back = append(back, l.ID)
		}
		_, err = tx.Exec(ctx, "update images set gone = null, gone_why = '' where id = any($1)", back)
		return err
	})
	if err == nil && len(back) > 0 {
		err = r.db.Notify(ctx, "image "+id)
	}
	return back, err
}

// Leaving lists the images of a store that are gone here while they still lie in it, and whose grace is over or who are on their
// way out, the newest first: what leans on another leaves before it.
func (r *Records) Leaving(ctx context.Context, store string, grace time.Duration) ([]Image, error) {
	return db.All[Image](ctx, r.db.Pool, imageSelect+`where i.store = $1 and i.gone is not null and i.in_store and (i.leaving or i.gone <= now() - $2::interval)
		order by i.taken desc, i.id`, store, grace)
}

// Leave takes an image that is gone beyond the point at which it can be brought back, and reports whether it did: not where
// somebody has just brought it back, or an image that leans on it.
func (r *Records) Leave(ctx context.Context, id string) (bool, error) {
	tag, err := r.db.Pool.Exec(ctx, `update images set leaving = true where id = $1 and gone is not null and in_store and (locked is null or locked <= now())
		and not exists (select from images o where o.base = $1 and o.in_store)`, id)
	return tag.RowsAffected() == 1, err
}

// Left records that an image is out of its store.
func (r *Records) Left(ctx context.Context, id string) error {
	return r.db.Exec(ctx, "update images set in_store = false, leaving = false where id = $1", id)
}

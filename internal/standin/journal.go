package standin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"time"
)

// Journal keeps the rows of tables: a file of one line of JSON for each change, which is written before anybody is told of it. The last line may be cut,
// where the process was killed. It is not for several at once: the frame sees to that.
type Journal struct {
	path  string
	file  *os.File
	rows  map[string]map[string]json.RawMessage // by table and ID; only until the table is made
	undo  []func()                              // while a change is under way
	batch bytes.Buffer
	lag   time.Duration
}

// line is a change: a row that is made or changed, or that goes.
type line struct {
	Table string          `json:"table"`
	ID    string          `json:"id"`
	Row   json.RawMessage `json:"row,omitempty"`
}

// OpenJournal reads a journal, and begins one where there is none. Lists lack what was made within lag.
func OpenJournal(path string, lag time.Duration) (*Journal, error) {
	j := &Journal{path: path, rows: map[string]map[string]json.RawMessage{}, lag: lag}
	body, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if at := bytes.LastIndexByte(body, '\n'); at+1 < len(body) {
		body = body[:at+1] // what was being written when the process died was told to nobody
	}
	in := bufio.NewScanner(bytes.NewReader(body))
	in.Buffer(nil, 64<<20)
	for n := 1; in.Scan(); n++ {
		var l line
		if err := json.Unmarshal(in.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("line %d of %s: %w; take that line away, or begin with an empty folder", n, path, err)
		}
		if l.Row == nil {
			delete(j.rows[l.Table], l.ID)
			continue
		}
		if j.rows[l.Table] == nil {
			j.rows[l.Table] = map[string]json.RawMessage{}
		}
		j.rows[l.Table][l.ID] = l.Row
	}
	if err := in.Err(); err != nil {
		return nil, err
	}
	return j, j.rewrite()
}

// rewrite makes the file anew, with a line for each row that there is.
func (j *Journal) rewrite() error {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	for _, table := range slices.Sorted(maps.Keys(j.rows)) {
		for _, id := range slices.Sorted(maps.Keys(j.rows[table])) {
			if err := encoder.Encode(line{table, id, j.rows[table][id]}); err != nil {
				return err
			}
		}
	}
	if err := os.WriteFile(j.path+".new", out.Bytes(), 0o600); err != nil {
		return err
	}
	if err := os.Rename(j.path+".new", j.path); err != nil {
		return err
	}
	var err error
	j.file, err = os.OpenFile(j.path, os.O_WRONLY|os.O_APPEND, 0)
	return err
}

// Close lets the file go.
func (j *Journal) Close() error { return j.file.Close() }

func (j *Journal) put(table, id string, row any) error {
	var raw json.RawMessage
	if row != nil {
		var err error
		if raw, err = json.Marshal(row); err != nil {
			return err
		}
	}
	return json.NewEncoder(&j.batch).Encode(line{table, id, raw})
}

// commit writes what was changed, rollBack takes it back.
func (j *Journal) commit() error {
	j.undo = nil
	if j.batch.Len() == 0 {
		return nil
	}
	_, err := j.file.Write(j.batch.Bytes())
	j.batch.Reset()
	return err
}

func (j *Journal) rollBack() {
	for _, undo := range slices.Backward(j.undo) {
		undo()
	}
	j.undo = nil
	j.batch.Reset()
}

// OnRollBack has what is not in the journal be undone, too, where the change that is under way fails.
func (j *Journal) OnRollBack(undo func()) { j.undo = append(j.undo, undo) }

// Table is rows of one kind, by ID.
type Table[T any] struct {
	journal *Journal
	name    string
	rows    map[string]kept[T]
}

// kept is a row, with the moment at which it was made.
type kept[T any] struct {
	row  T
	made time.Time
}

// NewTable takes a table from a journal.
func NewTable[T any](j *Journal, name string) (*Table[T], error) {
	t := &Table[T]{journal: j, name: name, rows: map[string]kept[T]{}}
	for id, raw := range j.rows[name] {
		var row T
		if err := json.Unmarshal(raw, &row); err != nil {
			return nil, fmt.Errorf("%s %s in %s: %w", name, id, j.path, err)
		}
		t.rows[id] = kept[T]{row: row}
	}
	delete(j.rows, name)
	return t, nil
}

// Get returns a row.
func (t *Table[T]) Get(id string) (T, error) {
	k, ok := t.rows[id]
	if !ok {
		return k.row, Refusal{404, fmt.Sprintf("there is no %s %s", t.name, id)}
	}
	return k.row, nil
}

// Put makes a row or changes it.
func (t *Table[T]) Put(id string, row T) error {
	was, had := t.rows[id]
	made := time.Now()
	if had {
		made = was.made
	}
	t.rows[id] = kept[T]{row, made}
	t.restore(id, was, had)
	return t.journal.put(t.name, id, row)
}

// Delete takes a row away; one that is not there is no error.
func (t *Table[T]) Delete(id string) error {
	was, had := t.rows[id]
	if !had {
		return nil
	}
	delete(t.rows, id)
	t.restore(id, was, had)
	return t.journal.put(t.name, id, nil)
}

func (t *Table[T]) restore(id string, was kept[T], had bool) {
	t.journal.undo = append(t.journal.undo, func() {
		if delete(t.rows, id); had {
			t.rows[id] = was
		}
	})
}

// All returns the rows, by ID: all of them, also those that lists lack still.
func (t *Table[T]) All() []T { return t.listed(0) }

// Listed returns the rows as lists tell of them.
func (t *Table[T]) Listed() []T { return t.listed(t.journal.lag) }

func (t *Table[T]) listed(lag time.Duration) []T {
	out := make([]T, 0, len(t.rows))
	for _, id := range slices.Sorted(maps.Keys(t.rows)) {
		if k := t.rows[id]; lag == 0 || time.Since(k.made) >= lag {
			out = append(out, k.row)
		}
	}
	return out
}

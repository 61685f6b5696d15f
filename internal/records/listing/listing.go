// Package listing makes pages of lists: in any of some orders, with a cursor that says where a page ended (keyset pagination), so that the
// thousandth page costs what the first does.
package listing

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/suggest"
)

// Page asks for a part of a list. Its order is by what Sort names, and by the rows' IDs where that is equal.
type Page struct {
	// Sort is a column of the list, with a dash before it for the largest first; "" is the list's own order.
	Sort string
	// After is the cursor of the page before; "" begins.
	After string
	// Limit is how many rows; 0 is all.
	Limit int
}

// Column is one by which a list of T can be sorted: its SQL, the type that a value of it has in there, and its value in a row, as text.
type Column[T any] struct {
	SQL, Kind string
	Value     func(T) string
}

// has reports whether the database can read a text as a value of the column.
func (c Column[T]) has(value string) bool {
	switch c.Kind {
	case "bigint":
		_, err := strconv.ParseInt(value, 10, 64)
		return err == nil
	case "timestamptz":
		_, err := time.Parse(time.RFC3339Nano, value)
		return err == nil
	}
	return !strings.Contains(value, "\x00")
}

// List is how rows of T are listed in pages.
type List[T any] struct {
	Own     string // its own order, such as "-taken"
	Columns map[string]Column[T]
	ID      string // the SQL of a row's ID
	IDOf    func(T) string
}

// cursor is where a page ended.
type cursor struct {
	Sort  string `json:"s"`
	Value string `json:"v"`
	ID    string `json:"i"`
}

// Query completes a select that has no condition and no order: where are the conditions, args their arguments. It returns the SQL and
// all arguments.
func (l List[T]) Query(sql string, where []string, args []any, p Page) (string, []any, error) {
	sort := p.Sort
	if sort == "" {
		sort = l.Own
	}
	name, desc := strings.CutPrefix(sort, "-")
	c, ok := l.Columns[name]
	if !ok {
		known := slices.Sorted(maps.Keys(l.Columns))
		return "", nil, fmt.Errorf("%w: the list can't be sorted by %q%s", fault.ErrInvalid, name, suggest.Hint(name, known))
	}
	way, than := "asc", ">"
	if desc {
		way, than = "desc", "<"
	}
	if p.After != "" {
		at, err := decodeCursor(p.After)
		if err != nil || at.Sort != sort || !c.has(at.Value) {
			return "", nil, fmt.Errorf("%w: %q is no cursor of this list in this order; begin again without one", fault.ErrInvalid, p.After)
		}
		args = append(args, at.Value, at.ID)
		where = append(where, fmt.Sprintf("(%s, %s) %s ($%d::%s, $%d)", c.SQL, l.ID, than, len(args)-1, c.Kind, len(args)))
	}
	if len(where) > 0 {
		sql += " where " + strings.Join(where, " and ")
	}
	sql += fmt.Sprintf(" order by %s %s, %s %s", c.SQL, way, l.ID, way)
	if p.Limit > 0 {
		args = append(args, p.Limit+1) // one more tells whether there is a next page
		sql += fmt.Sprintf(" limit $%d", len(args))
	}
	return sql, args, nil
}

// Cut takes the row that is one too many off a page, and returns the cursor of the next page, or "".
func (l List[T]) Cut(rows []T, p Page) (page []T, next string) {
	if p.Limit == 0 || len(rows) <= p.Limit {
		return rows, ""
	}
	rows = rows[:p.Limit]
	sort := p.Sort
	if sort == "" {
		sort = l.Own
	}
	last := rows[len(rows)-1]
	return rows, encodeCursor(cursor{sort, l.Columns[strings.TrimPrefix(sort, "-")].Value(last), l.IDOf(last)})
}

func encodeCursor(c cursor) string {
	body, _ := json.Marshal(c) // three texts
	return base64.RawURLEncoding.EncodeToString(body)
}

// After reads a cursor that [Before] made; "" is the beginning.
func After(text string) (value, id string, err error) {
	if text == "" {
		return "", "", nil
	}
	c, err := decodeCursor(text)
	if err != nil {
		return "", "", fmt.Errorf("%w: %q is no cursor of this list; begin again without one", fault.ErrInvalid, text)
	}
	return c.Value, c.ID, nil
}

// Before makes the cursor of a page that ended with a row of this value and ID, for lists with an order of their own.
func Before(value, id string) string { return encodeCursor(cursor{Value: value, ID: id}) }

func decodeCursor(text string) (c cursor, err error) {
	body, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(body, &c)
	}
	return c, err
}

// Conditions gathers what narrows a list.
type Conditions struct {
	Where []string
	Args  []any
}

// Add adds a condition in which %d stands for the argument's number, unless the argument is empty.
func (c *Conditions) Add(format, arg string) {
	if arg == "" {
		return
	}
	c.Args = append(c.Args, arg)
	c.Where = append(c.Where, fmt.Sprintf(format, len(c.Args)))
}

// Reach narrows a list to what somebody may see: rows of some machines, by their IDs, or of some policies. nil narrows nothing.
type Reach struct{ Machines, Policies []string }

// Within adds a condition that holds for rows within a reach; machine and policy are SQL with a %s for the array of either. An empty policy
// leaves policies out.
func (c *Conditions) Within(r *Reach, machine, policy string) {
	if r == nil {
		return
	}
	c.Args = append(c.Args, r.Machines)
	where := fmt.Sprintf(machine, fmt.Sprintf("$%d", len(c.Args)))
	if policy != "" {
		c.Args = append(c.Args, r.Policies)
		where += " or " + fmt.Sprintf(policy, fmt.Sprintf("$%d", len(c.Args)))
	}
	c.Where = append(c.Where, "("+where+")")
}

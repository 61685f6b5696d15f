package records_test

import (
	"regexp"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records/recordstest"
)

// What the database accepts is what core lists, no word more or less: a kind that is added needs a migration.
func TestTheDatabaseKnowsTheWordsOfCore(t *testing.T) {
	conn, err := pgx.Connect(t.Context(), recordstest.URL(t))
	require.NoError(t, err)
	defer conn.Close(t.Context())
	quoted := regexp.MustCompile(`'([a-z]+)'`)
	for column, want := range map[[2]string][]string{
		{"runs", "kind"}: text(run.Kinds), {"runs", "cause"}: text(run.Causes), {"runs", "state"}: text(run.States), {"tasks", "state"}: text(run.TaskStates),
		{"log", "kind"}: text(run.Lines), {"images", "state"}: text(image.States), {"proofs", "level"}: text(image.Levels), {"trail", "result"}: text(deed.Results), {"snapshots", "state"}: text(inplace.States),
	} {
		var check string
		require.NoError(t, conn.QueryRow(t.Context(), `select pg_get_constraintdef(oid) from pg_constraint where conrelid = $1::text::regclass and conname = $1 || '_' || $2 || '_check'`,
			column[0], column[1]).Scan(&check), column)
		var has []string
		for _, m := range quoted.FindAllStringSubmatch(check, -1) {
			has = append(has, m[1])
		}
		slices.Sort(has)
		slices.Sort(want)
		require.Equal(t, want, has, column)
	}
}

func text[T ~string](of []T) (out []string) {
	for _, w := range of {
		out = append(out, string(w))
	}
	return out
}

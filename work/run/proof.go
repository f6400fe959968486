package run

import (
	"context"
	"slices"

	"trimlantern/outside/database"
)

// unproven is why a cell stays that the database would not hold as it was written.
const unproven = "the database does not hold exactly what is written"

// held has the database say what rows hold after updates: a list for each update, in the order of
// its columns. A row that is not found any more has empty digests, which match nothing.
func held(ctx context.Context, tx database.Batch, t database.Table, updates []database.Update) ([][]database.Digest, error) {
	if len(updates) == 0 {
		return nil, nil
	}
	var at [][][]byte
	var columns []string
	for _, u := range updates {
		at = append(at, u.KeyAfter(t))
		for _, name := range u.Columns {
			if !slices.Contains(columns, name) {
				columns = append(columns, name)
			}
		}
	}
	rows, err := tx.Digests(ctx, t, at, columns)
	if err != nil {
		return nil, err
	}
	out := make([][]database.Digest, len(updates))
	for i, u := range updates {
		out[i] = make([]database.Digest, len(u.Columns))
		for k, name := range u.Columns {
			if rows[i] != nil {
				out[i][k] = rows[i][slices.Index(columns, name)]
			}
		}
	}
	return out, nil
}

package e2e

import (
	"database/sql"
	"path/filepath"
	"testing"

	_ "modernc.org/sqlite"
)

// sealedOf returns what is sealed of each capture in a data folder.
func sealedOf(t testing.TB, data string) [][]byte {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "inkret.db")+"?_pragma=query_only(ON)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	found, err := db.QueryContext(t.Context(), `SELECT sealed FROM captures ORDER BY id`)
	if err != nil {
		t.Fatal(err)
	}
	defer found.Close()
	var all [][]byte
	for found.Next() {
		var one []byte
		if err := found.Scan(&one); err != nil {
			t.Fatal(err)
		}
		all = append(all, one)
	}
	return all
}

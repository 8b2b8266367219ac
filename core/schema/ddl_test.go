package schema

import (
	"fmt"
	"strings"
	"testing"
)

// TestWhatSQLSaysIsReadOrListed checks that a table that a text creates is read with all columns, or that a note
// says why not.
func TestWhatSQLSaysIsReadOrListed(t *testing.T) {
	for name, c := range map[string]struct{ sql, tables, notes string }{
		"an operator of PostgreSQL with a hash": {"CREATE TABLE a (id int, doc jsonb, city text GENERATED ALWAYS AS " +
			"(doc #>> '{address,city}') STORED);\nCREATE INDEX i ON a ((doc #> '{x}'));\nCREATE TABLE b (id int);",
			"a(id doc city) b(id)", ""},
		"a hash that begins a comment in MySQL": {"# a dump\nCREATE TABLE `a` (\n  `id` int, # the key\n  `b` " +
			"text\n) ENGINE=InnoDB;", "a(id b)", ""},
		"an escaped quote of MySQL": {"CREATE TABLE `a` (`id` int COMMENT 'it\\'s', `b` text COMMENT " +
			"'end\\\\', `c` text DEFAULT '\\'', `d` int) ENGINE=InnoDB;\nCREATE TABLE `e` (`f` int);",
			"a(id b c d) e(f)", ""},
		"a text of PostgreSQL that ends in \\": {"CREATE TABLE a (id int, path text DEFAULT 'C:\\', b " +
			"text);\nCREATE TABLE c (d int DEFAULT 1, e text DEFAULT E'it\\'s');", "a(id path b) c(d e)", ""},
		"a full text of SQLite": {"CREATE TABLE notes (id INTEGER PRIMARY KEY);\nCREATE VIRTUAL " +
			"TABLE docs USING fts5(title, body UNINDEXED, tokenize='porter');\nCREATE TABLE 'docs_data'(id INTEGER " +
			"PRIMARY KEY, block BLOB);\nCREATE TABLE 'docs_config'(k PRIMARY KEY, v) WITHOUT ROWID;\nCREATE TABLE " +
			"after (x);", "notes(id) docs(title body) after(x)", ""},
		"another module of SQLite": {"CREATE VIRTUAL TABLE places USING rtree(id, minX, maxX);\nCREATE " +
			"TABLE \"places_node\"(nodeno INTEGER PRIMARY KEY, data);\nCREATE TABLE b (c);", "b(c)",
			"line 1: table places is made by the module rtree, whose columns are not known"},
		"generated columns": {"CREATE TABLE a (x int, y int AS (x * 2) VIRTUAL, z int GENERATED " +
			"ALWAYS AS (x + 1), w text);", "a(x y z w)", ""},
		"several tables dropped at once": {"CREATE TABLE a (x int); CREATE TABLE b (x int); CREATE TABLE c " +
			"(x int); DROP TABLE IF EXISTS a, public.b CASCADE;", "c(x)", ""},
		"a table made of a query": {"CREATE TABLE a AS SELECT 1;\nCREATE TABLE b (c int);", "b(c)",
			`line 1: the columns of table a are not told: "CREATE TABLE a AS SELECT 1"`},
		"a partition": {"CREATE TABLE a (x int) PARTITION BY RANGE (x);\nCREATE TABLE a_1 " +
			"PARTITION OF a FOR VALUES FROM (1) TO (2);", "a(x)", ""},
		"a table like another": {"CREATE TABLE a (x int, y text);\nCREATE TABLE `b` LIKE " +
			"`a`;\nCREATE TABLE c (LIKE a INCLUDING ALL, z int);", "a(x y) b(x y) c(x y z)", ""},
		"like one that is not there": {"CREATE TABLE c (LIKE elsewhere, z int);", "c(z)",
			`line 1: table c takes columns over from one that was not made before: "LIKE elsewhere"`},
		"inherited columns": {"CREATE TABLE a (x int);\nCREATE TABLE b (y int) INHERITS (a);",
			"a(x) b(x y)", ""},
		"a view": {"CREATE TABLE a (x int);\n\nCREATE OR REPLACE VIEW v AS SELECT x " +
			"FROM a;", "a(x)", "line 3: the view v is not read: it has no columns of its own"},
		"an action that nobody knows": {"CREATE TABLE a (x int);\nALTER TABLE a FROBNICATE x TWICE, ADD y " +
			"int;\nALTER TABLE gone ADD z int;\nALTER TABLE ONLY a OWNER TO harbour;", "a(x y)",
			"line 2: ALTER TABLE a: \"FROBNICATE x TWICE\" is not understood\nline 3: ALTER TABLE gone: no such " +
				"table was made before"},
		"tables renamed at once": {"CREATE TABLE `a` (`x` int); CREATE TABLE `b` (`y` int); RENAME " +
			"TABLE `a` TO `c`, `b` TO `d`;", "c(x) d(y)", ""},
	} {
		t.Run(name, func(t *testing.T) {
			tables, notes, err := DDLTables([]byte(c.sql))
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, one := range tables {
				var columns []string
				for _, col := range one.Columns {
					columns = append(columns, col.Name)
				}
				got = append(got, fmt.Sprintf("%s(%s)", one.Name, strings.Join(columns, " ")))
			}
			if strings.Join(got, " ") != c.tables || strings.Join(notes, "\n") != c.notes {
				t.Errorf("read %v, notes %q", got, notes)
			}
		})
	}
}

// TestReferencesAreResolved by pointers in every spelling, by $anchor and by $id.
func TestReferencesAreResolved(t *testing.T) {
	const text = `{"openapi": "3.1.0", "info": {"title": "quay", "version": "1"},
  "paths": {"/a": {"get": {"responses": {"200": {"description": "", "content": {"application/json": {"schema": %s}}}}}}},
  "components": {"schemas": {
    "A b/c~d": {"type": "object", "properties": {"one": {"type": "string"}}},
    "Named": {"$anchor": "boat", "type": "object", "properties": {"two": {"type": "string"}}},
    "Apart": {"$id": "https://quay.example/apart", "type": "object", "properties": {"three": {"$ref": "#/$defs/Inner"}, "four": {"$ref": "#inner"}},
      "$defs": {"Inner": {"$anchor": "inner", "type": "object", "properties": {"five": {"type": "string"}}}}}}}}`
	for ref, member := range map[string]string{
		"#/components/schemas/A%20b~1c~0d": "one", "#/components/schemas/A b~1c~0d": "one",
		"#/components/schemas/A%20b%7E1c%7E0d": "one", "#/components/schemas/%41%20b~1c~0d": "one",
		"#boat": "two", "#/components/schemas/Named": "two", "https://quay.example/apart": "three",
		"https://quay.example/apart#": "three", "https://quay.example/apart#inner": "five",
		"https://quay.example/apart#/$defs/Inner": "five", "https://quay.example/apart#/%24defs/Inner": "five",
	} {
		s, err := Describe("quay.json", []byte(fmt.Sprintf(text, fmt.Sprintf(`{"$ref": %q}`, ref))))
		if err != nil {
			t.Fatal(err)
		}
		o := s.Operations[0].Answers[0].Object
		if o == nil || o.Members[0].Name != member || len(s.Notes) != 1 || !strings.Contains(s.Notes[0], "left out") {
			t.Errorf("%s is %+v, notes %v", ref, o, s.Notes)
			continue
		}
		if member == "three" && (o.Members[0].Object == nil || o.Members[1].Object != o.Members[0].Object ||
			o.Members[0].Object.Members[0].Name != "five") {
			t.Errorf("%s: within, references lead elsewhere: %+v", ref, o.Members)
		}
	}
	for ref, note := range map[string]string{"#/components/schemas/None": "not in the document",
		"#nobody": "not in the document", "https://quay.example/other": "another document",
		"other.json#/A": "another document"} {
		s, err := Describe("quay.json", []byte(fmt.Sprintf(text, fmt.Sprintf(`{"$ref": %q}`, ref))))
		if err != nil || len(s.Notes) != 2 || !strings.Contains(s.Notes[0], note) {
			t.Errorf("%s: %v, %v", ref, s.Notes, err)
		}
	}
}

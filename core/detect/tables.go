package detect

import "strings"

// tableNames lists the names of both parts of a table that writes its columns' names once, as in
// {"columns": ["id", "email"], "rows": [[1, "x"]]}, in small letters without underscores.
var tableNames = map[string]Part{"columns": ColumnNames, "cols": ColumnNames, "columnnames": ColumnNames,
	"fields": ColumnNames, "fieldnames": ColumnNames, "headers": ColumnNames, "header": ColumnNames,
	"headings": ColumnNames, "keys": ColumnNames, "schema": ColumnNames,
	"rows": ColumnRows, "data": ColumnRows, "values": ColumnRows, "records": ColumnRows, "results": ColumnRows,
	"items": ColumnRows, "body": ColumnRows, "tuples": ColumnRows}

const longestTableName = len("column_names")

// tablePart returns what a member of this name is in a table.
func tablePart(name []byte) Part {
	if len(name) > longestTableName {
		return NoPart
	}
	return tableNames[strings.ReplaceAll(strings.ToLower(string(name)), "_", "")]
}

// NamesColumns reports whether the texts in a list of this name, or in objects in it, may be names of columns.
func NamesColumns(list []byte) bool { return PartOf(list) == ColumnNames }

// Package schema reads entities from descriptions of stored data: database tables, SQL DDL, OpenAPI documents and
// JSON Schema. It returns a [catalog.Catalog] whose fields have no class yet.
package schema

import (
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// Table is a table, as described by its database or DDL.
type Table struct {
	Name    string // with its schema before it, where that is not the usual one
	Comment string
	Columns []Column
	Primary []string
	Foreign []ForeignKey
}

// Column is a column of a [Table].
type Column struct {
	Name     string
	Type     string   // as SQL writes it: varchar(40), integer, text[]
	Values   []string // of an enumeration
	Nullable bool
	Comment  string
}

// ForeignKey refers from columns of a table to another table.
type ForeignKey struct {
	Columns []string
	Table   string
	Unique  bool // at most one row refers to the same one
}

func (t *Table) column(name string) *Column {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// joins reports whether the table only joins two others: it has two foreign keys and otherwise only columns that
// the database fills in.
func (t *Table) joins() bool {
	if len(t.Foreign) != 2 {
		return false
	}
	in := map[string]bool{}
	for _, f := range t.Foreign {
		for _, c := range f.Columns {
			in[c] = true
		}
	}
	for _, c := range t.Columns {
		form := Form(c.Type)
		own := c.Name == "id" || form.Format == "date-time" || strings.EqualFold(c.Name, "position")
		if !in[c.Name] && !own {
			return false
		}
	}
	return true
}

// Entities converts tables to entities: columns become fields, foreign keys become relations in both directions,
// and join tables become relations to many on both sides.
func Entities(tables []Table) *catalog.Catalog {
	c := &catalog.Catalog{}
	byTable := map[string]*catalog.Entity{}
	tableOf := map[string]*Table{}
	for i := range tables {
		t := &tables[i]
		tableOf[t.Name] = t
		if t.joins() {
			continue
		}
		e := &catalog.Entity{Name: Free(EntityName(t.Name), func(n string) bool { return c.Entity(n) != nil }),
			StoredAs: t.Name}
		for _, col := range t.Columns {
			f := &catalog.Field{Name: col.Name, Note: oneLine(col.Comment), Form: Form(col.Type)}
			f.Nullable = col.Nullable
			if len(col.Values) > 0 {
				f.Type, f.Format, f.Max = catalog.String, "", 0
				for _, v := range col.Values {
					f.Values = append(f.Values, jsonText(v))
				}
			}
			e.AddField(f)
		}
		c.Add(e)
		byTable[t.Name] = e
	}
	relate := func(from *catalog.Entity, name string, to *catalog.Entity, many bool) {
		if from == nil || to == nil {
			return
		}
		name = Free(name, func(n string) bool { return from.Field(n) != nil || from.Relation(n) != nil })
		from.AddRelation(&catalog.Relation{Name: name, Entity: to.Name, Many: many})
	}
	for i := range tables {
		t := &tables[i]
		if t.joins() {
			a, b := t.Foreign[0].Table, t.Foreign[1].Table
			relate(byTable[a], plain(b), byTable[b], true)
			if a != b {
				relate(byTable[b], plain(a), byTable[a], true)
			}
			continue
		}
		toward := map[string]int{}
		for _, f := range t.Foreign {
			toward[f.Table]++
		}
		for _, f := range t.Foreign {
			name := Singular(plain(f.Table))
			if len(f.Columns) == 1 {
				if short := withoutID(f.Columns[0]); short != "" {
					name = short
				}
			}
			relate(byTable[t.Name], name, byTable[f.Table], false)
			back := plain(t.Name)
			if f.Unique {
				back = Singular(back)
			}
			if toward[f.Table] > 1 { // two keys to one table: the relation's name tells them apart
				back += "_as_" + name
			}
			relate(byTable[f.Table], back, byTable[t.Name], !f.Unique)
		}
	}
	return c
}

func jsonText(s string) string { return strconv.Quote(s) }

// Free returns name, or name followed by the first number that makes it unique.
func Free(name string, taken func(string) bool) string {
	if !taken(name) {
		return name
	}
	for i := 2; ; i++ {
		if n := name + strconv.Itoa(i); !taken(n) {
			return n
		}
	}
}

// plain returns a table's name without its schema.
func plain(table string) string { return table[strings.LastIndexByte(table, '.')+1:] }

var idEnding = regexp.MustCompile(`(?i)^(.+?)(_id|_uuid|_key|_no|Id|ID)$`)

// withoutID removes the suffix of a referring column's name: berth_id becomes berth.
func withoutID(column string) string {
	if m := idEnding.FindStringSubmatch(column); m != nil {
		return m[1]
	}
	return ""
}

// EntityName converts a table's or member's name to an entity's: berth_lists becomes BerthList.
func EntityName(table string) string {
	var b strings.Builder
	words := detect.Words(nil, []byte(Singular(plain(table))))
	for _, w := range words {
		r, n := utf8.DecodeRuneInString(w)
		b.WriteRune(unicode.ToUpper(r))
		b.WriteString(w[n:])
	}
	if b.Len() == 0 {
		return "Entity"
	}
	return b.String()
}

// Singular returns the singular of an English plural: berths, boxes, companies. Other words stay as they are.
func Singular(s string) string {
	lower := strings.ToLower(s)
	for _, one := range []struct{ ending, becomes string }{
		{"people", "person"}, {"children", "child"}, {"addresses", "address"}, {"statuses", "status"},
		{"ies", "y"}, {"sses", "ss"}, {"xes", "x"}, {"ches", "ch"}, {"shes", "sh"},
		{"news", "news"}, {"series", "series"}, {"ss", "ss"}, {"us", "us"}, {"is", "is"}, {"s", ""},
	} {
		if strings.HasSuffix(lower, one.ending) && (len(s) > len(one.ending)+1 || len(one.ending) > 3 &&
			len(s) == len(one.ending)) {
			return s[:len(s)-len(one.ending)] + one.becomes
		}
	}
	return s
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

var sqlType = regexp.MustCompile(`^([a-z_" ]+?)\s*(?:\(\s*(\d+)?[^)]*\))?\s*(unsigned|zerofill|with time zone|without time zone|varying|\(\s*(\d+)\s*\)|\s)*(\[\d*\])*$`)

var sqlTypes = map[string]catalog.Form{}

func init() {
	for form, names := range map[*catalog.Form]string{
		{Type: catalog.Integer}: "int integer smallint bigint tinyint mediumint int2 int4 int8 serial bigserial " +
			"smallserial serial4 serial8 year oid",
		{Type: catalog.Number}:  "numeric decimal real double float float4 float8 number money dec",
		{Type: catalog.Boolean}: "boolean bool bit",
		{Type: catalog.String}: "text varchar char character bpchar nvarchar nchar varchar2 clob tinytext " +
			"mediumtext longtext citext name string " +
			"bytea blob tinyblob mediumblob longblob binary varbinary interval xml tsvector point polygon set enum " +
			"macaddr",
		{Type: catalog.String, Format: "date"}:      "date",
		{Type: catalog.String, Format: "time"}:      "time timetz",
		{Type: catalog.String, Format: "date-time"}: "timestamp timestamptz datetime",
		{Type: catalog.String, Format: "uuid"}:      "uuid uniqueidentifier",
		{Type: catalog.Object}:                      "json jsonb hstore",
	} {
		for _, n := range strings.Fields(names) {
			sqlTypes[n] = *form
		}
	}
}

// bounded lists the types whose number in brackets is a length.
var bounded = map[string]bool{"varchar": true, "char": true, "character": true, "bpchar": true, "nvarchar": true,
	"nchar": true, "varchar2": true}

// Form converts an SQL type to the form of its JSON values. Unknown types give the zero form, any scalar.
func Form(text string) catalog.Form {
	text = strings.ToLower(strings.TrimSpace(text))
	if text == "tinyint(1)" {
		return catalog.Form{Type: catalog.Boolean}
	}
	m := sqlType.FindStringSubmatch(text)
	if m == nil {
		return catalog.Form{}
	}
	if m[5] != "" {
		return catalog.Form{Type: catalog.Array}
	}
	name, _, _ := strings.Cut(strings.Trim(m[1], `" `), " ")
	form := sqlTypes[name]
	length := m[2]
	if length == "" {
		length = m[4]
	}
	if bounded[name] {
		form.Max, _ = strconv.Atoi(length)
	}
	return form
}

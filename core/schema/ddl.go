package schema

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"inkret/core/catalog"
)

// DDL parses the CREATE TABLE, ALTER TABLE, CREATE TYPE and COMMENT statements in SQL text, as written by the usual
// dump tools of PostgreSQL, MySQL, MariaDB and SQLite. Statements about tables that it does not understand are
// listed in notes with their line; others are skipped. An unterminated statement is an error with its line;
// everything before it has been read.
func DDL(text []byte) (read *catalog.Catalog, notes []string, err error) {
	tables, notes, err := DDLTables(text)
	if err != nil {
		return nil, nil, err
	}
	return Entities(tables), notes, nil
}

// DDLTables is [DDL] without converting tables to entities.
func DDLTables(text []byte) (tables []Table, notes []string, err error) {
	if !utf8.Valid(text) {
		return nil, nil, fmt.Errorf("the SQL text is not UTF-8")
	}
	d := &ddl{enums: map[string][]string{}, domains: map[string]string{}}
	l := lexer{text: string(text), line: 1, mysql: ofMySQL.Match(text)}
	for {
		statement, err := l.statement()
		if err != nil {
			return nil, nil, err
		}
		if statement == nil {
			break
		}
		if err := d.take(cursor{all: statement}); err != nil {
			return nil, nil, err
		}
	}
	d.dropShadows()
	for i := range d.tables {
		for k := range d.tables[i].Columns {
			d.resolve(&d.tables[i].Columns[k])
		}
	}
	return d.tables, d.notes, nil
}

// ofMySQL recognises text of MySQL or MariaDB: names in backquotes, and words of its own. Only there does # begin a
// comment and \ escape characters.
var ofMySQL = regexp.MustCompile("(?i)CREATE\\s+TABLE\\s+(IF\\s+NOT\\s+EXISTS\\s+)?`" +
	"|\\bENGINE\\s*=|\\bAUTO_INCREMENT\\b|\\bMODIFY\\s+(COLUMN\\s+)?`|CHARACTER\\s+SET\\s+utf8|CHARSET\\s*=" +
	"|--\\s+(MySQL|MariaDB) dump")

// token is a word, a quoted name, a text, a number or a sign of SQL.
type sqlToken struct {
	text string
	kind byte // 'w' word, 'n' quoted name, 't' text, 'd' number, 's' sign
	line int
}

// is compares a bare word in any case.
func (t sqlToken) is(word string) bool { return t.kind == 'w' && strings.EqualFold(t.text, word) }

type lexer struct {
	text  string
	at    int
	line  int
	mysql bool // as [ofMySQL] tells
}

// statement returns the tokens up to the next semicolon; nil at the end.
func (l *lexer) statement() ([]sqlToken, error) {
	var all []sqlToken
	for {
		t, ok, err := l.next()
		switch {
		case err != nil:
			return nil, err
		case !ok && len(all) == 0:
			return nil, nil
		case !ok:
			return all, nil
		case t.kind == 's' && t.text == ";":
			if len(all) > 3 && all[0].is("COPY") &&
				slices.ContainsFunc(all, func(t sqlToken) bool { return t.is("stdin") }) {
				l.skipData()
			}
			if len(all) == 0 {
				continue
			}
			return all, nil
		}
		all = append(all, t)
	}
}

// skipData skips the rows after COPY … FROM stdin.
func (l *lexer) skipData() {
	for l.at < len(l.text) {
		end := strings.IndexByte(l.text[l.at:], '\n')
		if end < 0 {
			end = len(l.text) - l.at - 1
		}
		line := l.text[l.at : l.at+end+1]
		l.at += end + 1
		l.line++
		if strings.TrimRight(line, "\r\n") == `\.` {
			return
		}
	}
}

func (l *lexer) next() (sqlToken, bool, error) {
	for l.at < len(l.text) {
		rest := l.text[l.at:]
		c, size := utf8.DecodeRuneInString(rest)
		begin := l.line
		switch {
		case c == '\n':
			l.line++
			l.at++
		case unicode.IsSpace(c) || c == '\uFEFF':
			l.at += size
		case strings.HasPrefix(rest, "--") || c == '#' && l.mysql || c == '\\' && (l.at == 0 || l.text[l.at-1] == '\n'):
			end := strings.IndexByte(rest, '\n')
			if end < 0 {
				end = len(rest)
			}
			l.at += end
		case strings.HasPrefix(rest, "/*"):
			end := strings.Index(rest, "*/")
			if end < 0 {
				return sqlToken{}, false, fmt.Errorf("line %d: a comment is not closed", begin)
			}
			l.line += strings.Count(rest[:end], "\n")
			l.at += end + 2
		case c == '\'' || c == '"' || c == '`':
			text, err := l.quoted(byte(c), l.at+1, l.mysql && c != '`')
			kind := byte('n')
			if c == '\'' {
				kind = 't'
			}
			return sqlToken{text, kind, begin}, err == nil, err
		case c == '[' && len(rest) > 1 && (unicode.IsLetter(rune(rest[1])) || rest[1] == '_'):
			end := strings.IndexByte(rest, ']')
			if end < 0 {
				return sqlToken{}, false, fmt.Errorf("line %d: a name in brackets is not closed", begin)
			}
			l.at += end + 1
			return sqlToken{rest[1:end], 'n', begin}, true, nil
		case (c == 'E' || c == 'e' || c == 'N' || c == 'n') && strings.HasPrefix(rest[1:], "'"):
			text, err := l.quoted('\'', l.at+2, l.mysql || c == 'E' || c == 'e')
			return sqlToken{text, 't', begin}, err == nil, err
		case c == '$':
			if token, ok, err := l.dollar(rest); ok || err != nil {
				return token, ok, err
			}
			l.at++
		case unicode.IsLetter(c) || c == '_' || c >= 0x80:
			end := strings.IndexFunc(rest, func(r rune) bool {
				return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '$'
			})
			if end < 0 {
				end = len(rest)
			}
			l.at += max(end, size)
			return sqlToken{rest[:max(end, size)], 'w', begin}, true, nil
		case unicode.IsDigit(c):
			end := strings.IndexFunc(rest, func(r rune) bool { return !unicode.IsDigit(r) && r != '.' })
			if end < 0 {
				end = len(rest)
			}
			l.at += max(end, size)
			return sqlToken{rest[:max(end, size)], 'd', begin}, true, nil
		default:
			l.at += size
			return sqlToken{rest[:size], 's', begin}, true, nil
		}
	}
	return sqlToken{}, false, nil
}

// dollar reads a dollar-quoted text, as in $body$ … $body$. ok is false if rest does not begin with a tag.
func (l *lexer) dollar(rest string) (token sqlToken, ok bool, err error) {
	close := strings.IndexByte(rest[1:], '$')
	if close < 0 {
		return token, false, nil
	}
	tag := rest[:close+2]
	if strings.ContainsAny(tag[1:len(tag)-1], " \n;'") {
		return token, false, nil
	}
	end := strings.Index(rest[len(tag):], tag)
	if end < 0 {
		return token, false, fmt.Errorf("line %d: a text in %s is not closed", l.line, tag)
	}
	begin := l.line
	l.line += strings.Count(rest[:len(tag)+end], "\n")
	l.at += end + 2*len(tag)
	return sqlToken{rest[len(tag) : len(tag)+end], 't', begin}, true, nil
}

// quoted reads a quoted text from at on. escapes means that \ escapes the next character.
func (l *lexer) quoted(quote byte, at int, escapes bool) (string, error) {
	begin := l.line
	var b strings.Builder
	for i := at; i < len(l.text); i++ {
		switch c := l.text[i]; {
		case c == quote && i+1 < len(l.text) && l.text[i+1] == quote:
			b.WriteByte(c)
			i++
		case c == quote:
			l.at = i + 1
			return b.String(), nil
		case c == '\\' && escapes && i+1 < len(l.text):
			i++
			switch e := l.text[i]; e {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case '\n':
				l.line++
				b.WriteByte(e)
			default:
				b.WriteByte(e)
			}
		default:
			if c == '\n' {
				l.line++
			}
			b.WriteByte(c)
		}
	}
	return "", fmt.Errorf("line %d: a quote %c is not closed", begin, quote)
}

// cursor reads the tokens of a statement.
type cursor struct {
	all []sqlToken
	at  int
}

func (c *cursor) more() bool { return c.at < len(c.all) }

func (c *cursor) peek() sqlToken {
	if c.at < len(c.all) {
		return c.all[c.at]
	}
	return sqlToken{}
}

// skip skips the words if they are next.
func (c *cursor) skip(words ...string) bool {
	for i, w := range words {
		if c.at+i >= len(c.all) {
			return false
		}
		if t := c.all[c.at+i]; !t.is(w) && !(t.kind == 's' && t.text == w) {
			return false
		}
	}
	c.at += len(words)
	return true
}

// name reads a name of several parts, such as public.berths. Default schemas are dropped.
func (c *cursor) name() string {
	var parts []string
	for c.more() {
		t := c.peek()
		if t.kind != 'w' && t.kind != 'n' {
			break
		}
		parts = append(parts, t.text)
		c.at++
		if !c.skip(".") {
			break
		}
	}
	if len(parts) > 1 && (parts[0] == "public" || parts[0] == "dbo" || parts[0] == "main") {
		parts = parts[1:]
	}
	return strings.Join(parts, ".")
}

// group reads a group in brackets, or returns nil.
func (c *cursor) group() []sqlToken {
	if !c.skip("(") {
		return nil
	}
	from, depth := c.at, 1
	for ; c.more(); c.at++ {
		if t := c.peek(); t.kind == 's' && t.text == "(" {
			depth++
		} else if t.kind == 's' && t.text == ")" {
			if depth--; depth == 0 {
				c.at++
				return append([]sqlToken{}, c.all[from:c.at-1]...)
			}
		}
	}
	return nil
}

// names reads a group of names, such as (harbour_id, label).
func (c *cursor) names() []string {
	var all []string
	for _, part := range commas(c.group()) {
		in := cursor{all: part}
		if n := in.name(); n != "" {
			all = append(all, n)
		}
	}
	return all
}

// commas splits tokens at the commas outside brackets.
func commas(all []sqlToken) [][]sqlToken {
	var parts [][]sqlToken
	from, depth := 0, 0
	for i, t := range all {
		if t.kind != 's' {
			continue
		}
		switch t.text {
		case "(", "[":
			depth++
		case ")", "]":
			depth--
		case ",":
			if depth == 0 {
				parts = append(parts, all[from:i])
				from = i + 1
			}
		}
	}
	if from < len(all) {
		parts = append(parts, all[from:])
	}
	return parts
}

// ddl is the result of the statements so far.
type ddl struct {
	tables  []Table
	enums   map[string][]string
	domains map[string]string
	notes   []string // what is not understood
	indexed []string // tables of a full text, which SQLite keeps in others
}

// mostNotes limits the list.
const mostNotes = 200

func (d *ddl) note(line int, format string, args ...any) {
	if len(d.notes) < mostNotes {
		d.notes = append(d.notes, fmt.Sprintf("line %d: ", line)+fmt.Sprintf(format, args...))
	}
}

// begin returns the first words of a statement.
func begin(all []sqlToken) string {
	const words = 6
	var parts []string
	for _, t := range all[:min(len(all), words)] {
		parts = append(parts, t.text)
	}
	return strings.Join(parts, " ")
}

// dropShadows removes SQLite's internal tables of full-text indexes.
func (d *ddl) dropShadows() {
	for _, name := range d.indexed {
		for _, shadow := range []string{"_data", "_idx", "_content", "_docsize", "_config", "_segments", "_segdir",
			"_stat", "_node", "_rowid", "_parent"} {
			d.tables = slices.DeleteFunc(d.tables, func(t Table) bool { return t.Name == name+shadow })
		}
	}
}

// virtual reads a virtual table of SQLite: a full-text index has its columns in brackets.
func (d *ddl) virtual(c *cursor, line int) {
	c.skip("IF", "NOT", "EXISTS")
	t := Table{Name: c.name()}
	if t.Name == "" && c.peek().kind == 't' {
		t.Name = c.peek().text
		c.at++
	}
	if !c.skip("USING") {
		d.note(line, "%q is not understood", begin(c.all))
		return
	}
	module := c.name()
	if !strings.HasPrefix(strings.ToLower(module), "fts") {
		d.note(line, "table %s is made by the module %s, whose columns are not known", t.Name, module)
		d.indexed = append(d.indexed, t.Name)
		return
	}
	for _, part := range commas(c.group()) {
		if k := part[0].kind; (k == 'w' || k == 'n') &&
			!slices.ContainsFunc(part, func(t sqlToken) bool { return t.kind == 's' && t.text == "=" }) {
			t.Columns = append(t.Columns, Column{Name: part[0].text, Type: "text", Nullable: true})
		}
	}
	d.indexed = append(d.indexed, t.Name)
	if len(t.Columns) > 0 {
		d.tables = append(d.tables, t)
	}
}

func (d *ddl) table(name string) *Table {
	for i := range d.tables {
		if strings.EqualFold(d.tables[i].Name, name) && (d.tables[i].Name == name ||
			!slices.ContainsFunc(d.tables, func(t Table) bool { return t.Name == name })) {
			return &d.tables[i]
		}
	}
	return nil
}

func (d *ddl) take(c cursor) error {
	line := c.peek().line
	switch {
	case c.skip("CREATE"):
		for c.skip("OR", "REPLACE") || c.skip("GLOBAL") || c.skip("LOCAL") || c.skip("TEMPORARY") || c.skip("TEMP") ||
			c.skip("UNLOGGED") || c.skip("FOREIGN") || c.skip("UNIQUE") && c.peek().is("TABLE") {
		}
		switch {
		case c.skip("VIRTUAL", "TABLE"):
			d.virtual(&c, line)
		case c.skip("TABLE"):
			c.skip("IF", "NOT", "EXISTS")
			return d.create(&c, line)
		case c.skip("VIEW"), c.skip("MATERIALIZED", "VIEW"):
			c.skip("IF", "NOT", "EXISTS")
			d.note(line, "the view %s is not read: it has no columns of its own", c.name())
		case c.skip("TYPE"):
			name := c.name()
			if c.skip("AS", "ENUM") {
				for _, t := range c.group() {
					if t.kind == 't' {
						d.enums[name] = append(d.enums[name], t.text)
					}
				}
			}
		case c.skip("DOMAIN"):
			name := c.name()
			c.skip("AS")
			d.domains[name] = typeText(&c)
		case len(c.all) > 1 && c.all[1].is("UNIQUE") &&
			slices.ContainsFunc(c.all, func(t sqlToken) bool { return t.is("INDEX") }):
			for c.more() && !c.skip("ON") {
				c.at++
			}
			c.skip("ONLY")
			t := d.table(c.name())
			if c.skip("USING") {
				c.name()
			}
			if t != nil {
				t.unique(c.names())
			}
		}
	case c.skip("ALTER", "TABLE"):
		for c.skip("ONLY") || c.skip("IF", "EXISTS") {
		}
		name := c.name()
		t := d.table(name)
		if t == nil {
			d.note(line, "ALTER TABLE %s: no such table was made before", name)
			return nil
		}
		for _, action := range commas(c.all[c.at:]) {
			if !d.alter(t, cursor{all: action}) {
				d.note(line, "ALTER TABLE %s: %q is not understood", name, begin(action))
			}
		}
	case c.skip("DROP", "TABLE"):
		c.skip("IF", "EXISTS")
		for first := true; first || c.skip(","); first = false {
			name := c.name()
			d.tables = slices.DeleteFunc(d.tables, func(t Table) bool { return t.Name == name })
		}
	case c.skip("RENAME", "TABLE"):
		for first := true; first || c.skip(","); first = false {
			if t := d.table(c.name()); t != nil && c.skip("TO") {
				d.renameTable(t, c.name())
			}
		}
	case c.skip("COMMENT", "ON"):
		d.comment(&c)
	}
	return nil
}

func (d *ddl) comment(c *cursor) {
	column := c.skip("COLUMN")
	if !column && !c.skip("TABLE") {
		return
	}
	name := c.name()
	if !c.skip("IS") || c.peek().kind != 't' {
		return
	}
	text := c.peek().text
	if !column {
		if t := d.table(name); t != nil {
			t.Comment = text
		}
		return
	}
	dot := strings.LastIndexByte(name, '.')
	if dot < 0 {
		return
	}
	if t := d.table(name[:dot]); t != nil {
		if col := t.column(name[dot+1:]); col != nil {
			col.Comment = text
		}
	}
}

func (d *ddl) create(c *cursor, line int) error {
	t := Table{Name: c.name()}
	if t.Name == "" && c.peek().kind == 't' { // as SQLite writes it of the tables that it keeps an index in
		t.Name = c.peek().text
		c.at++
	}
	if t.Name == "" {
		return fmt.Errorf("line %d: CREATE TABLE names no table", line)
	}
	if !c.more() || !(c.peek().kind == 's' && c.peek().text == "(") {
		if c.skip("PARTITION", "OF") {
			return nil // it holds rows of a table that is read
		}
		if c.skip("LIKE") {
			if of := d.table(c.name()); of != nil {
				t.Columns, t.Primary, t.Comment = slices.Clone(of.Columns), of.Primary, of.Comment
				d.tables = append(d.tables, t)
				return nil
			}
		}
		d.note(line, "the columns of table %s are not told: %q", t.Name, begin(c.all))
		return nil
	}
	body := c.group()
	if body == nil {
		return fmt.Errorf("line %d: the columns of table %s are not closed by a bracket", line, t.Name)
	}
	for _, part := range commas(body) {
		d.item(&t, cursor{all: part})
	}
	for i := c.at; i < len(c.all); i++ {
		if c.all[i].is("INHERITS") {
			in := cursor{all: c.all, at: i + 1}
			for _, parent := range in.names() {
				if of := d.table(parent); of != nil {
					t.Columns = append(slices.Clone(of.Columns), t.Columns...)
				} else {
					d.note(line, "table %s takes columns over from %s, which was not made before", t.Name, parent)
				}
			}
		}
	}
	for c.more() { // what MySQL writes behind the columns
		if c.skip("COMMENT") {
			c.skip("=")
			t.Comment = c.peek().text
		}
		c.at++
	}
	d.tables = slices.DeleteFunc(d.tables, func(old Table) bool { return old.Name == t.Name })
	d.tables = append(d.tables, t)
	return nil
}

// item reads a column or constraint.
func (d *ddl) item(t *Table, c cursor) {
	if c.skip("CONSTRAINT") {
		if !c.peek().is("PRIMARY") && !c.peek().is("FOREIGN") && !c.peek().is("UNIQUE") && !c.peek().is("CHECK") {
			c.name()
		}
	}
	switch {
	case c.skip("PRIMARY", "KEY"):
		for c.more() && c.peek().text != "(" {
			c.at++
		}
		t.Primary = c.names()
		t.unique(t.Primary)
	case c.skip("FOREIGN", "KEY"):
		if c.peek().text != "(" {
			c.name()
		}
		f := ForeignKey{Columns: c.names()}
		if c.skip("REFERENCES") {
			f.Table = c.name()
			t.refer(f)
		}
	case c.peek().is("UNIQUE") && len(c.all) > c.at+1:
		c.at++
		for c.more() && c.peek().text != "(" {
			c.at++
		}
		t.unique(c.names())
	case c.skip("CHECK"):
		t.check(c.group())
	case c.peek().is("LIKE") && len(c.all) > 1:
		c.at++
		if of := d.table(c.name()); of != nil {
			t.Columns = append(t.Columns, of.Columns...)
		} else if len(c.all) > 0 {
			d.note(c.all[0].line, "table %s takes columns over from one that was not made before: %q", t.Name,
				begin(c.all))
		}
	case c.peek().is("KEY") || c.peek().is("INDEX") || c.peek().is("FULLTEXT") || c.peek().is("SPATIAL") ||
		c.peek().is("EXCLUDE") || c.peek().is("PERIOD"):
		if len(c.all) < 2 || c.all[1].kind == 'w' && Form(c.all[1].text).Type != "" && len(c.all) == 2 {
			d.column(t, &c)
		}
	default:
		d.column(t, &c)
	}
}

// unique records that the columns are unique together.
func (t *Table) unique(columns []string) {
	for i := range t.Foreign {
		if slices.Equal(t.Foreign[i].Columns, columns) {
			t.Foreign[i].Unique = true
		}
	}
}

func (t *Table) refer(f ForeignKey) {
	for _, old := range t.Foreign {
		if slices.Equal(old.Columns, f.Columns) && old.Table == f.Table {
			return
		}
	}
	f.Unique = slices.Equal(t.Primary, f.Columns)
	t.Foreign = append(t.Foreign, f)
}

// behindType lists the words that end a column's type.
var behindType = []string{"CONSTRAINT", "NOT", "NULL", "DEFAULT", "PRIMARY", "UNIQUE", "REFERENCES", "CHECK", "COLLATE",
	"GENERATED", "COMMENT",
	"AUTO_INCREMENT", "AUTOINCREMENT", "ON", "STORED", "VIRTUAL", "AS", "IDENTITY", "VISIBLE", "INVISIBLE", "KEY",
	"USING", "FIRST", "AFTER"}

// typeText reads a column's type.
func typeText(c *cursor) string {
	var b strings.Builder
	for c.more() {
		t := c.peek()
		if t.kind == 'w' && slices.ContainsFunc(behindType, t.is) {
			break
		}
		if c.skip("CHARACTER", "SET") {
			c.at++
			continue
		}
		if t.kind == 's' && t.text == "(" {
			b.WriteByte('(')
			for i, in := range c.group() {
				if i > 0 && in.kind != 's' && b.String()[b.Len()-1] != ',' {
					b.WriteByte(' ')
				}
				if in.kind == 't' {
					b.WriteString("'" + in.text + "'")
				} else {
					b.WriteString(in.text)
				}
			}
			b.WriteByte(')')
			continue
		}
		if b.Len() > 0 && t.kind != 's' && strings.IndexByte("[.", b.String()[b.Len()-1]) < 0 {
			b.WriteByte(' ')
		}
		b.WriteString(t.text)
		c.at++
	}
	return b.String()
}

func (d *ddl) column(t *Table, c *cursor) {
	col := Column{Name: c.peek().text, Nullable: true}
	if k := c.peek().kind; k != 'w' && k != 'n' {
		return
	}
	c.at++
	if (c.peek().is("ENUM") || c.peek().is("SET")) && c.at+1 < len(c.all) && c.all[c.at+1].text == "(" {
		enum := c.peek().is("ENUM")
		c.at++
		for _, v := range c.group() {
			if v.kind == 't' && enum {
				col.Values = append(col.Values, v.text)
			}
		}
		col.Type = "enum"
	} else {
		col.Type = typeText(c)
	}
	t.Columns = append(t.Columns, col)
	d.traits(t, c)
}

// traits reads what follows the type of the last column.
func (d *ddl) traits(t *Table, c *cursor) {
	col := &t.Columns[len(t.Columns)-1]
	for c.more() {
		switch {
		case c.skip("NOT", "NULL"):
			col.Nullable = false
		case c.skip("PRIMARY", "KEY"):
			t.Primary, col.Nullable = []string{col.Name}, false
			t.unique(t.Primary)
		case c.skip("REFERENCES"):
			t.refer(ForeignKey{Columns: []string{col.Name}, Table: c.name()})
		case c.skip("UNIQUE"):
			defer t.unique([]string{col.Name})
		case c.skip("COMMENT"):
			col.Comment = c.peek().text
			c.at++
		case c.skip("CHECK"):
			t.check(c.group())
		case c.skip("("):
			c.at--
			c.group()
		default:
			c.at++
		}
	}
}

// check reads the values of a column from a condition such as state IN ('a', 'b').
func (t *Table) check(condition []sqlToken) {
	var col *Column
	var values []string
	in := false
	for _, tok := range condition {
		switch {
		case tok.is("AND"), tok.is("OR"), tok.is("NOT"):
			return
		case tok.is("IN"), tok.is("ANY"):
			in = true
		case tok.kind == 't' && in:
			values = append(values, tok.text)
		case tok.kind == 'w' || tok.kind == 'n':
			if found := t.column(tok.text); found != nil && col == nil {
				col = found
			} else if found != nil && found != col {
				return
			}
		}
	}
	if col != nil && in && len(values) > 0 {
		col.Values = values
	}
}

// renameTable renames a table.
func (d *ddl) renameTable(t *Table, name string) {
	was := t.Name
	t.Name = name
	for i := range d.tables {
		for k := range d.tables[i].Foreign {
			if d.tables[i].Foreign[k].Table == was {
				d.tables[i].Foreign[k].Table = t.Name
			}
		}
	}
}

// aside lists the ALTER TABLE actions that do not concern columns.
var aside = []string{"OWNER", "ENABLE", "DISABLE", "REPLICA", "CLUSTER", "INHERIT", "ATTACH", "DETACH", "SET", "RESET",
	"VALIDATE", "ENGINE", "AUTO_INCREMENT", "COMMENT", "DEFAULT", "CONVERT", "CHARACTER", "COLLATE",
	"ORDER", "ROW_FORMAT", "PARTITION", "FORCE", "NO", "WITH", "WITHOUT", "LOCK", "ALGORITHM", "CHARSET", "NOT"}

// alter applies one ALTER TABLE action, and reports whether it understood it.
func (d *ddl) alter(t *Table, c cursor) bool {
	switch {
	case c.skip("ADD"):
		c.skip("COLUMN")
		c.skip("IF", "NOT", "EXISTS")
		if c.peek().text == "(" && c.peek().kind == 's' {
			for _, part := range commas(c.group()) {
				d.item(t, cursor{all: part})
			}
			return true
		}
		d.item(t, c)
	case c.skip("DROP"):
		if c.skip("CONSTRAINT") || c.skip("PRIMARY") || c.skip("INDEX") || c.skip("FOREIGN") || c.skip("KEY") ||
			c.skip("CHECK") || c.skip("PARTITION") {
			return true
		}
		c.skip("COLUMN")
		c.skip("IF", "EXISTS")
		name := c.name()
		t.Columns = slices.DeleteFunc(t.Columns, func(col Column) bool { return col.Name == name })
		t.Foreign = slices.DeleteFunc(t.Foreign, func(f ForeignKey) bool { return slices.Contains(f.Columns, name) })
	case c.skip("RENAME", "TO"), c.skip("RENAME", "AS"):
		d.renameTable(t, c.name())
	case c.skip("RENAME", "CONSTRAINT"), c.skip("RENAME", "INDEX"), c.skip("RENAME", "KEY"):
	case c.skip("RENAME"):
		c.skip("COLUMN")
		col := t.column(c.name())
		if col != nil && c.skip("TO") {
			was := col.Name
			col.Name = c.name()
			for i := range t.Foreign {
				for k := range t.Foreign[i].Columns {
					if t.Foreign[i].Columns[k] == was {
						t.Foreign[i].Columns[k] = col.Name
					}
				}
			}
		}
	case c.skip("MODIFY"), c.skip("CHANGE"):
		changing := c.all[0].is("CHANGE")
		c.skip("COLUMN")
		col := t.column(c.peek().text)
		if col == nil {
			return false
		}
		if changing {
			c.at++
		}
		fresh := Table{}
		d.column(&fresh, &c)
		if len(fresh.Columns) == 1 {
			*col = fresh.Columns[0]
		}
	case c.skip("ALTER"):
		c.skip("COLUMN")
		col := t.column(c.name())
		switch {
		case col == nil:
			return false
		case c.skip("SET", "NOT", "NULL"):
			col.Nullable = false
		case c.skip("DROP", "NOT", "NULL"):
			col.Nullable = true
		case c.skip("SET", "DATA", "TYPE"), c.skip("TYPE"):
			col.Type = typeText(&c)
		}
	default:
		return slices.ContainsFunc(aside, c.peek().is)
	}
	return true
}

// resolve replaces a user-defined type by its definition.
func (d *ddl) resolve(col *Column) {
	name := strings.TrimPrefix(col.Type, "public.")
	for range d.domains { // a domain over a domain ends
		base, ok := d.domains[name]
		if !ok {
			break
		}
		name = base
	}
	if values := d.enums[name]; values != nil && len(col.Values) == 0 {
		col.Values = values
	}
	col.Type = name
}

package exchange

import (
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"
)

// bytesOf reads bytes in hexadecimal; blanks separate.
func bytesOf(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestCBOR reads the examples of RFC 8949 appendix A, and others that are hard.
func TestCBOR(t *testing.T) {
	for _, c := range []struct{ hex, want string }{
		{"00", "0"}, {"17", "23"}, {"1818", "24"}, {"1903e8", "1000"}, {"1a000f4240", "1000000"},
		{"1bffffffffffffffff", "18446744073709551615"}, {"c249010000000000000000", "18446744073709551616"},
		{"3bffffffffffffffff", "-18446744073709551616"}, {"c349010000000000000000", "-18446744073709551617"},
		{"20", "-1"}, {"3903e7", "-1000"}, {"f90000", "0"}, {"f93c00", "1"}, {"f93e00", "1.5"}, {"f97bff", "65504"},
		{"fa47c35000", "100000"}, {"fb3ff199999999999a", "1.1"}, {"f90001", "5.9604645e-08"}, {"f9c400", "-4"},
		{"fbc010666666666666", "-4.1"}, {"f97c00", "null"}, {"f97e00", "null"}, {"f4", "false"}, {"f5", "true"},
		{"f6", "null"}, {"f7", "null"}, {"f818", "null"}, {"c11a514b67b0", "1363896240"},
		{"c074323031332d30332d32315432303a30343a30305a", `"2013-03-21T20:04:00Z"`},
		{"40", `""`}, {"4401020304", `"AQIDBA=="`}, {"43616263", `"abc"`}, {"6449455446", `"IETF"`},
		{"62225c", `"\"\\"`}, {"62c3bc", `"ü"`}, {"80", "[]"}, {"83010203", "[1,2,3]"},
		{"8301820203820405", "[1,[2,3],[4,5]]"}, {"a0", "{}"}, {"a201020304", `{"1":2,"3":4}`},
		{"a26161016162820203", `{"a":1,"b":[2,3]}`}, {"5f42010243030405ff", `"AQIDBAU="`},
		{"7f657374726561646d696e67ff", `"streaming"`}, {"9fff", "[]"}, {"9f018202039f0405ffff", "[1,[2,3],[4,5]]"},
		{"bf61610161629f0203ffff", `{"a":1,"b":[2,3]}`}, {"d9d9f7a0", "{}"}, {"a1820102f6", `{"[1,2]":null}`},
		{"a1a0f5", `{"{}":true}`}, {"a14201ff61 78", `{"Af8=":"x"}`},
	} {
		parts, err := Parts(nil, "application/problem+cbor", bytesOf(t, c.hex))
		if err != nil || len(parts) != 1 || string(parts[0].Text) != c.want {
			t.Errorf("%s is read as %v, %v; want %s", c.hex, parts, err, c.want)
		}
	}
}

// TestMessagePack reads each form that its specification has.
func TestMessagePack(t *testing.T) {
	for _, c := range []struct{ hex, want string }{
		{"00", "0"}, {"7f", "127"}, {"ff", "-1"}, {"e0", "-32"}, {"c0", "null"}, {"c2", "false"}, {"c3", "true"},
		{"ccff", "255"}, {"cdffff", "65535"}, {"ceffffffff", "4294967295"},
		{"cfffffffffffffffff", "18446744073709551615"},
		{"d080", "-128"}, {"d18000", "-32768"}, {"d280000000", "-2147483648"},
		{"d38000000000000000", "-9223372036854775808"},
		{"d07f", "127"}, {"ca3fc00000", "1.5"}, {"cb3ff199999999999a", "1.1"}, {"cb7ff0000000000000", "null"},
		{"a3616263", `"abc"`}, {"d903616263", `"abc"`}, {"da0003616263", `"abc"`}, {"db00000003616263", `"abc"`},
		{"c403616263", `"abc"`}, {"c5000201ff", `"Af8="`}, {"c60000000100", `"AA=="`}, {"93010203", "[1,2,3]"},
		{"dc000101", "[1]"}, {"dd0000000101", "[1]"}, {"82a16101a1629102", `{"a":1,"b":[2]}`},
		{"de0001a16101", `{"a":1}`},
		{"df00000001a16101", `{"a":1}`}, {"8105c0", `{"5":null}`}, {"d6ff00000000", `"1970-01-01T00:00:00Z"`},
		{"d7ff0000000400000000", `"1970-01-01T00:00:00.000000001Z"`}, {"c70cff00000000ffffffffffffffff",
			`"1969-12-31T23:59:59Z"`},
		{"d40501", `"AQ=="`}, {"d50501ff", `"Af8="`}, {"d80500000000000000000000000000000000",
			`"AAAAAAAAAAAAAAAAAAAAAA=="`},
		{"c8000105ff", `"/w=="`}, {"c90000000105ff", `"/w=="`},
	} {
		parts, err := Parts(nil, "application/vnd.msgpack", bytesOf(t, c.hex))
		if err != nil || len(parts) != 1 || string(parts[0].Text) != c.want {
			t.Errorf("%s is read as %v, %v; want %s", c.hex, parts, err, c.want)
		}
	}
}

// TestBinaryBodiesThatAreDamaged keeps what is before the damage, and asks for no more memory than the body has bytes.
func TestBinaryBodiesThatAreDamaged(t *testing.T) {
	deep := strings.Repeat("81", 2*maxNesting)
	for _, c := range []struct{ media, hex, text, fault string }{
		{"application/cbor", "", "", ""},
		{"application/cbor", "a26161016162", `{"a":1,"b":`, ""},
		{"application/cbor", "8301", `[1,`, ""},
		{"application/cbor", "9bffffffffffffffff01", `[1,`, ""},
		{"application/cbor", "7bffffffffffffffff61", ``, ""},
		{"application/cbor", "9f01", `[1,`, ""},
		{"application/cbor", "7f6161", ``, ""},
		{"application/cbor", "0101", `1 something`, ""},
		{"application/cbor", "821f", "", "byte 1 of the body: 0x1f begins no CBOR data item"},
		{"application/cbor", "ff", "", "byte 0 of the body: 0xff begins no CBOR data item"},
		{"application/cbor", "7f01ff", "", "is no piece of the text"},
		{"application/cbor", deep, "", "more values or levels"},
		{"application/cbor", strings.Repeat("c1", 3*maxNesting), "", "more values or levels"},
		{"application/msgpack", "92a3616263", `["abc",`, ""},
		{"application/msgpack", "ddffffffff", `[`, ""},
		{"application/msgpack", "cd01", ``, ""},
		{"application/msgpack", "91c1", "", "byte 1 of the body: 0xc1 begins no MessagePack object"},
		{"application/msgpack", strings.Repeat("91", 2*maxNesting), "", "more values or levels"},
		{"application/msgpack", "0000", `0 something`, ""},
	} {
		parts, err := Parts(nil, c.media, bytesOf(t, c.hex))
		switch {
		case c.fault != "":
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("%.40s: %v, want %s", c.hex, err, c.fault)
			}
		case err != nil || len(parts) != 1 || string(parts[0].Text) != c.text:
			t.Errorf("%.40s is read as %v, %v; want %s", c.hex, parts, err, c.text)
		}
	}
}

// TestTables reads rows with quotes, line ends, too few and too many cells, and other separators.
func TestTables(t *testing.T) {
	for _, c := range []struct{ media, body, want string }{
		{"text/csv", "id,name\r\n1,Ada\r\n2,\"Tern, \"\"swift\"\"\"\r\n",
			`[{"id":"1","name":"Ada"},{"id":"2","name":"Tern, \"swift\""}]`},
		{"text/csv", "id,name\n1,\"two\nlines\"\n\n2,x", `[{"id":"1","name":"two\u000alines"},{"id":"2","name":"x"}]`},
		{"text/csv", "a;b\n1,5;2\n", `[{"a":"1,5","b":"2"}]`},
		{"text/csv", "a,b\n1\n1,2,3\n", `[{"a":"1"},{"a":"1","b":"2","2":"3"}]`},
		{"text/csv; header=absent", "1,2\n", `[["1","2"]]`},
		{"application/csv", " a , b\nx,y", `[{"a":"x","b":"y"}]`},
		{"text/csv", "a,b\r1,2\r", `[{"a":"1","b":"2"}]`},
		{"text/csv", "", `[]`},
		{"text/csv", "a,b\n", `[]`},
		{"text/csv", "a,b\n1,\"half", `[{"a":"1","b":"half"}]`},
		{"text/tab-separated-values", "a\tb\n1\t\"x\n\t2\r\n", `[{"a":"1","b":"\"x"},{"a":"","b":"2"}]`},
	} {
		parts, err := Parts(nil, c.media, []byte(c.body))
		if err != nil || len(parts) != 1 || string(parts[0].Text) != c.want {
			t.Errorf("%q is read as %v, %v; want %s", c.body, drawn(parts), err, c.want)
		}
	}
	long := strings.Repeat("n", 1<<20) + ",b\n" + strings.Repeat("x\n", 1000)
	if _, err := Parts(nil, "text/csv", []byte(long)); err == nil || !strings.Contains(err.Error(), "longer names") {
		t.Errorf("a name of a megabyte in each of a thousand rows: %v", err)
	}
}

// TestStreamsOfValues reads values with whatever stands between them, and keeps what is none.
func TestStreamsOfValues(t *testing.T) {
	for _, c := range []struct{ body, want string }{
		{`{"a":1}{"a":2} [3]` + "\n\n4", `[{"a":1},{"a":2},[3],4]`}, {"", "[]"}, {" \n", "[]"},
		{`{"a":1}` + "\n" + `{"a":`, `[{"a":1},{"a":`}, {`{"a":1},{"a":2}`, `[{"a":1},,{"a":2}`}, {`x`, `[x`},
	} {
		parts, err := Parts(nil, "application/stream+json", []byte(c.body))
		if err != nil || len(parts) != 1 || string(parts[0].Text) != c.want {
			t.Errorf("%s is read as %s, %v; want %s", c.body, drawn(parts), err, c.want)
		}
	}
}

// TestOriginsInTablesAndBinary looks for values in the body where their part says that they stand.
func TestOriginsInTablesAndBinary(t *testing.T) {
	for _, c := range []struct{ media, body string }{
		{"text/csv", "id,name\r\n1,\"two\r\nlines\"\r\n2,mark\r\n"}, {"text/csv", "id,name\n1,\"mark\"\n"},
		{"text/tab-separated-values", "id\tname\n1\tmark\n"}, {"application/stream+json", `{"a":1} {"b":"mark"}`},
		{"application/cbor", "\xa2\x61a\x01\x61b\x64mark"}, {"application/msgpack", "\x92\x01\xa4mark"},
	} {
		parts, err := Parts(nil, c.media, []byte(c.body))
		if err != nil || len(parts) != 1 || !json.Valid(parts[0].Text) {
			t.Fatalf("%s: %v, %v", c.media, parts, err)
		}
		p := &parts[0]
		at := strings.Index(string(p.Text), `"mark"`)
		begin, end := p.Origin(at), p.Origin(at+len(`"mark"`))
		if says := c.body[begin:end]; !strings.Contains(says, "mark") || len(says) > len(`"name":"mark"`) {
			t.Errorf("%s: the mark stands at %d to %d: %q", c.media, begin, end, says)
		}
		if w := p.Weight(at, at+len(`"mark"`)); w != end-begin || w < 4 || w > 6 {
			t.Errorf("%s: the mark weighs %d", c.media, w)
		}
	}
}

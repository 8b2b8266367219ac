package detect

import "strings"

// Part is what a member is in a pair, as in {"key": "password", "value": "x"}.
type Part uint8

const (
	NoPart Part = iota
	PairKey
	PairValue
	ColumnNames // of a table
	ColumnRows
)

// pairNames lists the names of both parts, in small letters.
var pairNames = map[string]Part{"key": PairKey, "k": PairKey, "name": PairKey, "field": PairKey, "property": PairKey,
	"attribute": PairKey, "parameter": PairKey, "param": PairKey, "setting": PairKey, "variable": PairKey,
	"value": PairValue, "v": PairValue, "val": PairValue}

const longestPairName = len("attribute")

// PartOf returns what a member of this name is in a pair or table.
func PartOf(name []byte) Part {
	if len(name) <= longestPairName {
		if part := pairNames[strings.ToLower(string(name))]; part != NoPart {
			return part
		}
	}
	return tablePart(name)
}

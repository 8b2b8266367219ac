package export

import (
	"crypto/sha256"
	"encoding/hex"
	"net/url"
	"regexp"
	"strings"

	"inkret/core/contract"
)

// apart makes equal names unique by adding digits of a hash of what they stand for, so that names depend neither on
// order nor on later additions.
func apart(names, meanings []string, join string) []string {
	count := map[string]int{}
	for _, n := range names {
		count[strings.ToLower(n)]++ // files of some systems differ in more than capitals
	}
	out := make([]string, len(names))
	for i, n := range names {
		if out[i] = n; count[strings.ToLower(n)] > 1 {
			sum := sha256.Sum256([]byte(meanings[i]))
			out[i] = n + join + hex.EncodeToString(sum[:4])
		}
	}
	return out
}

// operationNames returns the operation name of each endpoint.
func operationNames(c *contract.Contracts) map[string]string {
	var names, texts []string
	for _, e := range c.Endpoints {
		names, texts = append(names, typeName(e.Text)), append(texts, e.Text)
	}
	all := map[string]string{}
	for i, n := range apart(names, texts, "_") {
		all[texts[i]] = n
	}
	return all
}

var (
	componentName = regexp.MustCompile(`^[A-Za-z0-9._-]+$`) // OpenAPI 3.1, 4.8.7
	notInName     = regexp.MustCompile(`[^A-Za-z0-9._-]+`)
)

// componentNames returns a valid OpenAPI name for each shape.
func componentNames(c *contract.Contracts) map[string]string {
	var names, shapes []string
	for _, s := range c.Shapes {
		name := s.Name
		if !componentName.MatchString(name) {
			if name = strings.Trim(notInName.ReplaceAllString(name, "-"), "-"); name == "" {
				name = "shape"
			}
		}
		names, shapes = append(names, name), append(shapes, s.Name)
	}
	all := map[string]string{}
	for i, n := range apart(names, shapes, "-") {
		all[shapes[i]] = n
	}
	return all
}

// inPointer escapes a name for a JSON Pointer in a URI fragment (RFC 6901 section 6).
func inPointer(name string) string {
	return url.PathEscape(strings.NewReplacer("~", "~0", "/", "~1").Replace(name))
}

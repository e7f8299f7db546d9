package estate

import (
	_ "embed"
	"strings"
)

//go:embed template.yaml
var templateNouns string

//go:embed template.rules
var templateRules string

//go:embed schema.json
var schema []byte

// Schema returns the JSON Schema (draft 2020-12) of estate.yaml, for editors.
func Schema() []byte { return schema }

// Template returns the two files of a new estate: commented, and valid as they
// are. The person is its first administrator.
func Template(name, person string) (nouns, rules []byte) {
	fill := strings.NewReplacer("NAME", name, "PERSON", person)
	return []byte(fill.Replace(templateNouns)), []byte(fill.Replace(templateRules))
}

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

// Template returns the two files of a new estate on a site: commented, and valid as they
// are. The person is its first administrator.
func Template(site, name, person string) (nouns, rules []byte) {
	where, image, size := "sim                  # the stand-in cloud that ships with ironbark", "linux-base", "c1m2"
	if site == Linux {
		where, image, size = "linux                # this very host: ironbark site check tells what it has and lacks for that", "tiny", "c1m256"
	}
	fill := strings.NewReplacer("NAME", name, "PERSON", person, "SITE", where, "IMAGE", image, "SIZE", size)
	return []byte(fill.Replace(templateNouns)), []byte(fill.Replace(templateRules))
}

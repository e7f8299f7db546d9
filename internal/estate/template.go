package estate

import (
	_ "embed"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
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
// are. The person is its first administrator. Its network overlaps none of the prefixes that are taken, as long as there is a free one.
func Template(site, name, person string, taken []netip.Prefix) (nouns, rules []byte) {
	where, image, size := "sim                  # the stand-in cloud that ships with ironbark", "linux-base", "c1m2"
	if site == Linux {
		where, image, size = "linux                # this very host: ironbark site check tells what it has and lacks for that", "tiny", "c1m256"
	}
	fill := strings.NewReplacer("NAME", name, "PERSON", person, "SITE", where, "IMAGE", image, "SIZE", size, "RANGE", strconv.Itoa(freeRange(taken)))
	return []byte(fill.Replace(templateNouns)), []byte(fill.Replace(templateRules))
}

// firstRange is the second number in the ranges of a new estate where nothing is taken: 10.60.0.0/16 and 2001:db8:60::/48.
const firstRange = 60

// freeRange finds the second number of ranges that overlap no taken prefix: [firstRange] where there is none.
func freeRange(taken []netip.Prefix) int {
	for i := range 256 {
		n := (firstRange + i) % 256
		four := netip.MustParsePrefix(fmt.Sprintf("10.%d.0.0/16", n))
		six := netip.MustParsePrefix(fmt.Sprintf("2001:db8:%d::/48", n))
		if !slices.ContainsFunc(taken, func(p netip.Prefix) bool { return p.Overlaps(four) || p.Overlaps(six) }) {
			return n
		}
	}
	return firstRange
}

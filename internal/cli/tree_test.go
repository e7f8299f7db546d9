package cli

import (
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
)

// TestEveryCommandHelps holds all commands to the same: an example that begins with the command, and something offered for
// its words and for the value of each option.
// withOption is how a help text names an option of its own command.
var withOption = regexp.MustCompile(`(?i)\bwith(?:out)? --([a-z-]+)`)

func TestEveryCommandHelps(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
		}
		path := c.CommandPath()
		if c.HasSubCommands() || strings.HasPrefix(path, "ironbark completion") || path == "ironbark help" {
			return
		}
		if assert.NotEmpty(t, c.Example, "%s has no example", path) {
			for line := range strings.Lines(c.Example) {
				assert.True(t, strings.HasPrefix(line, "  "+path) || strings.HasPrefix(line, "  ssh "), "an example of %s: %s", path, line)
			}
		}
		for _, named := range withOption.FindAllStringSubmatch(c.Long, -1) {
			assert.NotNil(t, c.Flag(named[1]), "%s tells of --%s, which it has not", path, named[1])
		}
		if strings.Contains(c.Use, " ") {
			assert.NotNil(t, c.ValidArgsFunction, "%s offers nothing for its words", path)
		}
		c.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if f.Value.Type() == "bool" || c.InheritedFlags().Lookup(f.Name) != nil || f.Name == "help" {
				return
			}
			_, there := c.GetFlagCompletionFunc(f.Name)
			assert.True(t, there, "%s offers nothing for --%s", path, f.Name)
		})
	}
	walk((&app{}).root())
}

package sentence

import "strings"

// Shell returns words as one command line of a POSIX shell (IEEE Std 1003.1, section 2.2.2): what people paste has each word as it is here, whatever
// is in it. A word without characters that a shell acts on is left bare; a reason is in double quotes where these keep it as it is.
func Shell(words ...string) string {
	out := make([]string, len(words))
	for i, w := range words {
		switch out[i] = w; {
		case i > 0 && words[i-1] == "because" && !strings.ContainsAny(w, "\"$`\\!\n"):
			out[i] = `"` + w + `"`
		case w == "" || strings.ContainsFunc(w, shellActs):
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

// shellActs reports whether a shell may act on a character.
func shellActs(r rune) bool {
	return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("_-./:=@%+,…", r)
}

// CommandWords returns the words of a command that says a sentence, or words that begin one. A reason is one word, after because.
func CommandWords(text string) []string {
	words, reason, because := strings.Cut(text, ` because "`)
	list := strings.Fields(words)
	if because {
		list = append(list, "because", strings.TrimSuffix(reason, `"`))
	}
	return list
}

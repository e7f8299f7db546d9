package guest

import (
	"encoding/json"
	"fmt"
	"unicode/utf8"
)

// contents are files by absolute path. In JSON the content of one is a string, or where it is not
// UTF-8 an object with its bytes in base64: a JSON string would replace them.
type contents map[string]string

type raw struct {
	Base64 []byte `json:"base64"`
}

// MarshalJSON prints the files.
func (c contents) MarshalJSON() ([]byte, error) {
	out := make(map[string]any, len(c))
	for name, text := range c {
		if out[name] = text; !utf8.ValidString(text) {
			out[name] = raw{[]byte(text)}
		}
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON prints.
func (c *contents) UnmarshalJSON(data []byte) error {
	var in map[string]json.RawMessage
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	*c = make(contents, len(in))
	for name, value := range in {
		var text string
		if json.Unmarshal(value, &text) == nil {
			(*c)[name] = text
			continue
		}
		var r raw
		if err := json.Unmarshal(value, &r); err != nil {
			return fmt.Errorf("file %s: %w", name, err)
		}
		(*c)[name] = string(r.Base64)
	}
	return nil
}

package journal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAnchorsAreFoundInAnyText(t *testing.T) {
	a := Anchor{strings.Repeat("0a", 16), Head{12, strings.Repeat("9f", 32)}}
	b := Anchor{strings.Repeat("1b", 16), Head{13, strings.Repeat("8e", 32)}}
	assert.Equal(t, []Anchor{a}, Anchors(`<109>1 [ironbark@32473 anchor="`+a.String()+`"] `+a.String()+` mara open`), "each once")
	assert.Equal(t, []Anchor{a, b}, Anchors(`{"anchor":"`+a.String()+`"} `+b.String()))
	assert.Empty(t, Anchors(a.String()+"0 0"+a.String()+" "+strings.ToUpper(a.String())))
	assert.Empty(t, Anchors(""))
}

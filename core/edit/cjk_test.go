package edit

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Lines of Chinese and Japanese end between letters, but not before a closing mark or behind an opening one.
func TestPartsOfLines(t *testing.T) {
	for pair, want := range map[[2]string]bool{
		{"港", "口"}: true, {"の", "港"}: true, {"港", "。"}: false, {"「", "港"}: false, {"港", "」"}: false, {"A", "港"}: true, {"港", "A"}: true, {"a", "b"}: false, {"カ", "ー"}: false, {"", "港"}: false,
	} {
		assert.Equal(t, want, parts(&char{text: pair[0]}, &char{text: pair[1]}), "%v", pair)
	}
	assert.False(t, parts(&char{text: "港", space: true}, &char{text: "口"}))
}

package pdf

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is kept of a lock goes through JSON and comes back to the byte, whatever its strings hold: hashes are random bytes, and some
// of them are written as literal strings.
func TestKeptAsJSON(t *testing.T) {
	r := rand.New(rand.NewPCG(26, 11))
	literal := 0
	for range 3000 {
		s := make([]byte, 16)
		for i := range s {
			s[i] = byte(32 + r.IntN(95))
			if r.IntN(4) == 0 {
				s[i] = byte(r.IntN(256))
			}
		}
		dict := NewDict("Perms", String(s), "Filter", Name("St\xe4ndard"))
		kept := Kept{Dict: inASCII(AppendObject(nil, dict))}
		data, err := json.Marshal(kept)
		require.NoError(t, err)
		var back Kept
		require.NoError(t, json.Unmarshal(data, &back))
		o, err := (&Lexer{Data: []byte(back.Dict), Refs: true}).Next()
		require.NoError(t, err)
		require.Equal(t, String(s), o.(*Dict).Get("Perms"), back.Dict)
		require.Equal(t, Name("St\xe4ndard"), o.(*Dict).Get("Filter"))
		if back.Dict[len("<</Perms")] == '(' {
			literal++
		}
	}
	assert.Greater(t, literal, 500, "many of them are literal strings")
}

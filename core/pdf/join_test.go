package pdf

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// graph makes objects by what they say and refer to.
func graph(says []byte, refs [][]int) (list []*alike, at map[int]*alike) {
	at = map[int]*alike{}
	for i, s := range says {
		a := &alike{num: i + 1, stem: [16]byte{s, byte(len(refs[i]))}, refs: refs[i]}
		list = append(list, a)
		at[a.num] = a
	}
	return list, at
}

// refined is the same by comparing all in each round, until nothing changes: what the definition says.
func refined(says []byte, refs [][]int) map[int]int {
	class := make([]string, len(says))
	for i, s := range says {
		class[i] = fmt.Sprint(s, len(refs[i]))
	}
	names := func(c []string) (out []int) {
		known := map[string]int{}
		for _, s := range c {
			if _, ok := known[s]; !ok {
				known[s] = len(known)
			}
			out = append(out, known[s])
		}
		return out
	}
	for now := names(class); ; {
		next := make([]string, len(says))
		for i := range says {
			next[i] = fmt.Sprint(now[i])
			for _, r := range refs[i] {
				if r <= len(says) {
					next[i] += fmt.Sprint(" ", now[r-1])
				} else {
					next[i] += fmt.Sprint(" outside ", r)
				}
			}
		}
		after := names(next)
		if fmt.Sprint(after) == fmt.Sprint(now) {
			break
		}
		now = after
		class = next
	}
	out, first := map[int]int{}, map[string]int{}
	for i, c := range class {
		if n, ok := first[c]; ok {
			out[i+1] = n
		} else {
			first[c] = i + 1
		}
	}
	return out
}

// On graphs by chance, with rings and references to what is not joined, the same objects join as by the definition.
func TestJoin(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	joined := 0
	for n := range 400 {
		says, refs := make([]byte, 2+r.IntN(14)), [][]int{}
		for i := range says {
			says[i] = byte(r.IntN(2))
			var to []int
			for range r.IntN(3) {
				to = append(to, 1+r.IntN(len(says)+1))
			}
			refs = append(refs, to)
		}
		list, at := graph(says, refs)
		got := join(list, at)
		assert.Equal(t, refined(says, refs), got, "%d: %v %v", n, says, refs)
		joined += len(got)
	}
	assert.Greater(t, joined, 200)
}

// Two chains of 50,000 references that end alike are one, and two that end otherwise stay two; neither is given up.
func TestJoinChains(t *testing.T) {
	const long = 50_000
	chains := func(ends ...byte) map[int]int {
		says, refs := make([]byte, 0, 2*long), make([][]int, 0, 2*long)
		for c := range 2 {
			for i := range long {
				if i == long-1 {
					says, refs = append(says, ends[c]), append(refs, nil)
				} else {
					says, refs = append(says, 0), append(refs, []int{c*long + i + 2})
				}
			}
		}
		return join(graph(says, refs))
	}
	same := chains(7, 7)
	assert.Len(t, same, long)
	assert.Equal(t, 1, same[long+1])
	assert.Empty(t, chains(7, 8))
}

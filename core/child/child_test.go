package child

import (
	"context"
	"encoding/gob"
	"io"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	Register("test", func(_ []string, in io.Reader, out io.Writer) error {
		dec, enc := gob.NewDecoder(in), gob.NewEncoder(out)
		for {
			var what string
			if err := dec.Decode(&what); err != nil {
				return err
			}
			switch what {
			case "burn":
				for n := 0; ; n++ {
					if n < 0 {
						break
					}
				}
			case "eat":
				var all [][]byte
				for {
					b := make([]byte, 1<<20)
					for i := range b {
						b[i] = 1
					}
					if all = append(all, b); len(all) > 1<<20 {
						return nil
					}
				}
			case "recurse":
				var f func(int) int
				f = func(n int) int { return f(n+1) + 1 }
				f(0)
			case "exit":
				os.Exit(3)
			}
			if err := enc.Encode(what); err != nil {
				return err
			}
		}
	})
	Main()
	os.Exit(m.Run())
}

func ask(t *testing.T, l Limits, what string, wait time.Duration) (string, error) {
	t.Helper()
	p, err := Start("test", l)
	require.NoError(t, err)
	defer p.Kill()
	require.NoError(t, p.Send(what))
	var got string
	return got, p.Receive(t.Context(), &got, wait)
}

// Whatever a child does, whoever asked is answered, and told why.
func TestLimits(t *testing.T) {
	for name, c := range map[string]struct {
		limits Limits
		what   string
		wait   time.Duration
		want   error
	}{
		"fine":             {Limits{Memory: 1 << 30, Ask: time.Minute}, "echo", time.Minute, nil},
		"out of time":      {Limits{}, "burn", 300 * time.Millisecond, ErrTime},
		"out of processor": {Limits{Ask: 300 * time.Millisecond}, "burn", time.Minute, ErrTime},
		"out of memory":    {Limits{Memory: 100 << 20}, "eat", time.Minute, ErrMemory},
		"by the system":    {Limits{CPU: time.Second}, "burn", time.Minute, ErrTime},
		"out of its stack": {Limits{Memory: 3 << 30}, "recurse", time.Minute, ErrDead},
		"gone by its own":  {Limits{}, "exit", time.Minute, ErrDead},
	} {
		t.Run(name, func(t *testing.T) {
			if name == "out of its stack" && testing.Short() {
				t.Skip("a gigabyte of stack")
			}
			Together(4 << 30)
			defer Together(640 << 20)
			_, err := ask(t, c.limits, c.what, c.wait)
			assert.ErrorIs(t, err, c.want)
			assert.NotErrorIs(t, err, ErrEnded)
		})
	}
	p, err := Start("nothing", Limits{})
	require.NoError(t, err)
	defer p.Kill()
	var got string
	assert.ErrorIs(t, p.Receive(t.Context(), &got, 10*time.Second), ErrDead)
}

// A child that is killed or stopped from outside is seen; whoever gives up waiting is let go.
func TestEndedFromOutside(t *testing.T) {
	for _, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGSTOP} {
		p, err := Start("test", Limits{})
		require.NoError(t, err)
		require.NoError(t, p.Send("burn"))
		require.NoError(t, syscall.Kill(p.PID(), signal))
		var got string
		start := time.Now()
		err = p.Receive(t.Context(), &got, time.Minute)
		assert.ErrorIs(t, err, ErrEnded)
		assert.ErrorIs(t, err, ErrDead)
		assert.True(t, Again(err, 9))
		assert.False(t, Again(err, 10))
		assert.Less(t, time.Since(start), 10*time.Second)
		p.Kill()
	}
	p, err := Start("test", Limits{})
	require.NoError(t, err)
	defer p.Kill()
	require.NoError(t, p.Send("burn"))
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	var got string
	assert.ErrorIs(t, p.Receive(ctx, &got, time.Minute), context.DeadlineExceeded)
	assert.ErrorIs(t, p.Send("again"), context.DeadlineExceeded, "it is no good any more")
}

// Of several that take too much together the largest is stopped.
func TestTogether(t *testing.T) {
	small, err := Start("test", Limits{})
	require.NoError(t, err)
	defer small.Kill()
	require.NoError(t, small.Send("echo"))
	var got string
	require.NoError(t, small.Receive(t.Context(), &got, time.Minute))
	Together(200 << 20)
	defer Together(640 << 20)
	_, err = ask(t, Limits{Memory: 1 << 30}, "eat", time.Minute)
	assert.ErrorIs(t, err, ErrCrowded)
	require.NoError(t, small.Send("echo"))
	require.NoError(t, small.Receive(t.Context(), &got, time.Minute))
	assert.Equal(t, "echo", got)
	assert.Positive(t, Resident())
}

package people

import (
	"net/netip"
	"strconv"
	"sync"
	"time"

	"glenrain/core/step"
)

// guesses counts the tries to sign in that failed, by account, by address and by browser. They are held in memory: an attack goes on longer
// than a server is away.
type guesses struct {
	mu sync.Mutex
	of map[string]*tried
}

type tried struct {
	n     int
	since time.Time
	said  bool // that another was refused
}

// guessKey is something that tries are counted by, and how many may fail within guessWindow.
type guessKey struct {
	kind, name string
	most       int
}

const (
	guessWindow  = 15 * time.Minute
	accountTries = 10  // at one account, from browsers in which its person never signed in
	addressTries = 100 // from one address, which a whole office may share
	deviceTries  = 50  // in a browser in which the person signed in before
	ownTries     = 10  // at one's own password, to change it
	mostSearched = 10  // addresses at which no scanner is, for each person
)

// searching counts the addresses of scanners that a person typed in vain.
func searching(person uint) guessKey {
	return guessKey{"scanner", strconv.Itoa(int(person)), mostSearched}
}

// MayLookFor refuses to look for another scanner where somebody typed too many addresses in vain.
func (d *Register) MayLookFor(person uint) error {
	if d.guesses.check(d.now(), searching(person)) != nil {
		return step.Refuse("you have tried %d addresses without a scanner: try again in 15 minutes", mostSearched)
	}
	return nil
}

// LookedInVain notes that there was none at an address.
func (d *Register) LookedInVain(person uint) { d.guesses.failed(d.now(), searching(person)) }

func own(person uint) guessKey {
	return guessKey{"own", strconv.Itoa(int(person)), ownTries}
}

// Throttled: too many tries to sign in failed.
type Throttled struct{ Wait time.Duration }

func (t *Throttled) Error() string {
	return "too many tries failed; wait " + strconv.Itoa(int(t.Wait/time.Minute)+1) + " minutes, or sign in with a browser in which you signed in before"
}

func (k guessKey) key() string {
	name := k.name
	if k.kind == "address" { // a network of IPv6 is one visitor's
		if a, err := netip.ParseAddr(name); err == nil && a.Is6() && !a.Is4In6() {
			if p, err := a.Prefix(64); err == nil {
				name = p.String()
			}
		}
	}
	return k.kind + " " + name
}

// check refuses another try where too many failed.
func (g *guesses) check(now time.Time, keys ...guessKey) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range keys {
		if t := g.of[k.key()]; t != nil && now.Sub(t.since) < guessWindow && t.n >= k.most {
			return &Throttled{guessWindow - now.Sub(t.since)}
		}
	}
	return nil
}

// first reports whether this is the first try that is refused in a window.
func (g *guesses) first(keys ...guessKey) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	first := true
	for _, k := range keys {
		if t := g.of[k.key()]; t != nil && t.n >= k.most {
			first = first && !t.said
			t.said = true
		}
	}
	return first
}

// mostGuessed is how many accounts, addresses and browsers are counted.
const mostGuessed = 100_000

func (g *guesses) failed(now time.Time, keys ...guessKey) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.of == nil {
		g.of = map[string]*tried{}
	}
	if len(g.of) > mostGuessed {
		for k, t := range g.of {
			if now.Sub(t.since) >= guessWindow || len(g.of) > mostGuessed {
				delete(g.of, k)
			}
		}
	}
	for _, k := range keys {
		t := g.of[k.key()]
		if t == nil || now.Sub(t.since) >= guessWindow {
			t = &tried{since: now}
			g.of[k.key()] = t
		}
		t.n++
	}
}

func (g *guesses) right(k guessKey) {
	g.mu.Lock()
	delete(g.of, k.key())
	g.mu.Unlock()
}

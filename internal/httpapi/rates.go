package httpapi

import (
	"fmt"
	"math"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"idlebeacon/internal/core/policy"
)

// rates bounds how many requests a key, or an address, may send. Of callers that have not been
// seen for long it forgets what they have left.
type rates struct {
	guests  int // requests of guests in a minute, from one address; 0 for any number
	buckets *lru.Cache[string, *rate.Limiter]
	// refused is for keys, tokens and codes that were not good, unknown for cookies of sessions
	// that are not known, for which the database has to be asked.
	refused, unknown *failures
}

const (
	keptBuckets = 20_000
	// failuresInARow is how many keys that are not good may come from one address at once, and
	// one more every failurePause.
	failuresInARow = 20
	failurePause   = 6 * time.Second
	// unknownInARow and unknownPause are the same for cookies.
	unknownInARow = 50
	unknownPause  = 100 * time.Millisecond
)

func newRates(guests int) (*rates, error) {
	buckets, err := lru.New[string, *rate.Limiter](keptBuckets)
	if err != nil {
		return nil, err
	}
	l := &rates{guests: guests, buckets: buckets}
	if l.refused, err = newFailures(failuresInARow, failurePause); err != nil {
		return nil, err
	}
	l.unknown, err = newFailures(unknownInARow, unknownPause)
	return l, err
}

// allow takes one request from what an actor has left, and says in the answer how much that is
// (draft-ietf-httpapi-ratelimit-headers). It answers the request if nothing is left.
func (l *rates) allow(w http.ResponseWriter, a *policy.Actor, from netip.Addr) bool {
	name, bucket, most := "key", a.ID, a.Limits.PerMinute
	if a.Kind == policy.Guest {
		name, bucket, most = "guest", networkOf(from).String(), l.guests
	}
	if most == 0 {
		return true
	}
	bucket += "/" + strconv.Itoa(most) // a limit that was changed is another
	limiter, there := l.buckets.Get(bucket)
	if !there {
		limiter = rate.NewLimiter(rate.Limit(float64(most)/60), most)
		if earlier, raced, _ := l.buckets.PeekOrAdd(bucket, limiter); raced {
			limiter = earlier
		}
	}
	now := time.Now()
	allowed := limiter.AllowN(now, 1)
	left := max(0, limiter.TokensAt(now))
	again := time.Duration((1 - min(left, 1)) / float64(limiter.Limit()) * float64(time.Second))
	w.Header().Set("RateLimit-Policy", fmt.Sprintf(`"%s";q=%d;w=60`, name, most))
	w.Header().Set("RateLimit", fmt.Sprintf(`"%s";r=%d;t=%d`, name, int(left), int(math.Ceil(again.Seconds()))))
	if !allowed {
		tooMany(w, again, fmt.Sprintf("more than %d requests in a minute; wait, or ask an owner for a higher limit", most))
	}
	return allowed
}

// networkOf returns what counts as one address: of IPv6, whoever has one has all of its network.
func networkOf(from netip.Addr) netip.Prefix {
	bits := from.BitLen()
	if from.Is6() {
		const network = 64
		bits = network
	}
	prefix, _ := from.Prefix(bits) // the zero value if nobody knows where it comes from
	return prefix
}

func tooMany(w http.ResponseWriter, again time.Duration, detail string) {
	w.Header().Set("Retry-After", strconv.Itoa(max(1, int(math.Ceil(again.Seconds())))))
	writeProblem(w, http.StatusTooManyRequests, "", detail)
}

// failures bounds how often something may fail for callers from one address.
type failures struct {
	inARow int
	pause  time.Duration
	of     *lru.Cache[netip.Prefix, *rate.Limiter]
}

func newFailures(inARow int, pause time.Duration) (*failures, error) {
	of, err := lru.New[netip.Prefix, *rate.Limiter](keptBuckets)
	return &failures{inARow, pause, of}, err
}

// mayFail reports whether a further failure from an address is within the bound.
func (f *failures) mayFail(from netip.Addr) bool {
	limiter, there := f.of.Get(networkOf(from))
	return !there || limiter.Tokens() >= 1
}

// failed notes a failure.
func (f *failures) failed(from netip.Addr) {
	network := networkOf(from)
	limiter, there := f.of.Get(network)
	if !there {
		limiter = rate.NewLimiter(rate.Every(f.pause), f.inARow)
		if earlier, raced, _ := f.of.PeekOrAdd(network, limiter); raced {
			limiter = earlier
		}
	}
	limiter.Allow()
}

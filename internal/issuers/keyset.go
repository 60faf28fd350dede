package issuers

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/go-jose/go-jose/v4"
)

const (
	freshFor   = 10 * time.Minute // how long what was fetched is used without asking again
	usableFor  = time.Hour        // how long it is used if the issuer does not answer
	fetchPause = 10 * time.Second // between two attempts, whoever asks
	fetchTime  = 5 * time.Second
	mostTried  = 10 // keys for one token that does not say which has signed it
)

// Client returns an HTTP client for fetching from issuers: it has patience for a few seconds,
// takes in a bounded number of bytes, and follows redirects only to addresses that are as safe.
func Client() *http.Client {
	return &http.Client{
		Timeout:   fetchTime,
		Transport: bounded{http.DefaultTransport},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 3 {
				return errors.New("it leads from address to address")
			}
			return checkAddress("redirect", r.URL.String())
		},
	}
}

// bounded cuts answers off that are too large.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, maxKeySet), answer.Body}
	}
	return answer, err
}

// A source is what an issuer publishes, as it was fetched last.
type source struct {
	fetch func(ctx context.Context) (*published, error)
	now   func() time.Time

	last atomic.Pointer[published]
	// turn has room for one: whoever put something in may fetch, and touch what follows.
	turn  chan struct{}
	tried time.Time
	err   error // of the last attempt
}

// published is what an issuer publishes.
type published struct {
	keys     *jose.JSONWebKeySet
	provider *oidc.Provider // nil without discovery
	at       time.Time
}

// get returns what the issuer publishes: as of newer than a time, if that can be had.
func (s *source) get(ctx context.Context, newer time.Time) (*published, error) {
	if last := s.last.Load(); s.fresh(last, newer) {
		return last, nil
	}
	select {
	case s.turn <- struct{}{}:
		defer func() { <-s.turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	last, now := s.last.Load(), s.now()
	if !s.fresh(last, newer) && now.Sub(s.tried) >= fetchPause { // nobody has fetched it meanwhile
		s.tried = now
		// It is for all who wait: one who goes away does not end it.
		fetching, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*fetchTime)
		defer cancel()
		var got *published
		if got, s.err = s.fetch(fetching); s.err == nil {
			got.at = now
			last = got
			s.last.Store(last)
		}
	}
	if last == nil || now.Sub(last.at) > usableFor {
		return nil, &UnavailableError{s.err}
	}
	return last, nil
}

func (s *source) fresh(p *published, newer time.Time) bool {
	return p != nil && s.now().Sub(p.at) < freshFor && p.at.After(newer)
}

// An UnavailableError reports that an issuer does not say what is needed.
type UnavailableError struct{ Cause error }

func (e *UnavailableError) Error() string {
	return fmt.Sprintf("the keys of the issuer cannot be had: %v", e.Cause)
}

func (e *UnavailableError) Unwrap() error { return e.Cause }

// A oneUse is a source for one token. The verifier does not hand on what kind of error it got.
type oneUse struct {
	*source
	away *UnavailableError // what kept the token from being looked at
}

// VerifySignature implements oidc.KeySet.
func (o *oneUse) VerifySignature(ctx context.Context, token string) ([]byte, error) {
	said, err := o.source.verify(ctx, token)
	errors.As(err, &o.away)
	return said, err
}

// verify returns what a token says if one of the keys of the issuer has signed it. If none has,
// the keys may have been changed, and are fetched anew.
func (s *source) verify(ctx context.Context, token string) ([]byte, error) {
	parsed, err := jose.ParseSignedCompact(token, algorithms())
	if err != nil {
		return nil, err
	}
	if len(parsed.Signatures) != 1 {
		return nil, errors.New("it has several signatures")
	}
	known, err := s.get(ctx, time.Time{})
	if err != nil {
		return nil, err
	}
	said, verified := verify(parsed, known.keys)
	if !verified {
		newer, err := s.get(ctx, known.at)
		if err != nil {
			return nil, err
		}
		if newer != known {
			said, verified = verify(parsed, newer.keys)
		}
	}
	if !verified {
		return nil, errors.New("no key of the issuer has signed it")
	}
	return said, nil
}

func verify(token *jose.JSONWebSignature, keys *jose.JSONWebKeySet) (said []byte, verified bool) {
	head := token.Signatures[0].Header
	tried := 0
	for i := range keys.Keys {
		k := &keys.Keys[i]
		if head.KeyID != "" && k.KeyID != "" && head.KeyID != k.KeyID ||
			k.Algorithm != "" && k.Algorithm != head.Algorithm {
			continue
		}
		if tried++; tried > mostTried {
			return nil, false
		}
		if said, err := token.Verify(k); err == nil {
			return said, true
		}
	}
	return nil, false
}

func algorithms() []jose.SignatureAlgorithm {
	all := make([]jose.SignatureAlgorithm, len(SupportedAlgorithms))
	for i, name := range SupportedAlgorithms {
		all[i] = jose.SignatureAlgorithm(name)
	}
	return all
}

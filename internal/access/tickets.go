package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"idlebeacon/internal/core/policy"
)

// ticketLasts is how long a ticket is good.
const ticketLasts = time.Minute

// A ticketRecord is what a ticket says. It is signed, so nothing of it is kept.
type ticketRecord struct {
	Path    string        `json:"path"`
	Expires int64         `json:"expires"` // Unix seconds
	Key     string        `json:"key,omitempty"`
	Person  *personRecord `json:"person,omitempty"`
}

// Ticket makes a ticket with which whoever has it may get one path, as an actor, for a minute:
// for browsers where they send no headers.
func (r *Register) Ticket(a *policy.Actor, path string) (ticket string, expires time.Time, err error) {
	expires = r.now().Add(ticketLasts).Truncate(time.Second)
	t := ticketRecord{Path: path, Expires: expires.Unix(), Key: a.Key}
	if a.Kind == policy.Person {
		t.Person = recordOfPerson(a)
	}
	text, err := json.Marshal(t)
	if err != nil {
		return "", expires, err
	}
	return base64.RawURLEncoding.EncodeToString(text) + "." + r.Sign("ticket", text), expires, nil
}

// ByTicket returns whom a ticket for a path stands for, or ErrNoTicket.
func (r *Register) ByTicket(ticket, path string) (*policy.Actor, error) {
	head, signature, _ := strings.Cut(ticket, ".")
	text, err := base64.RawURLEncoding.DecodeString(head)
	if err != nil || !r.Signed("ticket", text, signature) {
		return nil, ErrNoTicket
	}
	var t ticketRecord
	if err := json.Unmarshal(text, &t); err != nil || t.Path != path || r.now().Unix() >= t.Expires {
		return nil, ErrNoTicket
	}
	var actor *policy.Actor
	switch k := r.byID(t.Key); {
	case t.Person != nil && r.Issuer(t.Person.Issuer) != nil:
		actor = t.Person.actor()
	case k != nil:
		if actor, err = r.actorOf(k); err != nil {
			return nil, errors.Join(ErrNoTicket, err)
		}
	default:
		return nil, ErrNoTicket
	}
	actor.Ticket = true
	return actor, nil
}

// Sign returns what proves that a process on this database has written a text for a use.
func (r *Register) Sign(use string, text []byte) string {
	mac := hmac.New(sha256.New, r.known.Load().secret)
	_, _ = mac.Write([]byte(use + "\x00")) // it never fails
	_, _ = mac.Write(text)
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// Signed reports whether a signature is that of [Register.Sign].
func (r *Register) Signed(use string, text []byte, signature string) bool {
	return hmac.Equal([]byte(signature), []byte(r.Sign(use, text)))
}

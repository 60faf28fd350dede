package store

import (
	"errors"
	"testing"
	"time"

	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/pgbox/pgboxtest"
)

func aKey(name string, role policy.Role) Key {
	text := secret.New(secret.Key)
	return Key{ID: name, Name: name, Role: role, Hash: secret.HashOf(text), Hint: secret.Hint(text)}
}

// TestOthersHearOfKeys changes keys, sessions and issuers, and listens on another connection.
func TestOthersHearOfKeys(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	heard := make(chan struct{}, 100)
	go other.ListenForAccess(t.Context(), func() { heard <- struct{}{} })
	<-heard // it listens
	version := int64(0)
	for what, change := range map[string]func() error{
		"a key":                func() error { _, err := s.CreateKey(t.Context(), aKey("a", policy.Owner), 10); return err },
		"the end of a session": func() error { return s.EndSession(t.Context(), secret.Hash{}, false) },
		"an issuer":            func() error { return s.CreateIssuer(t.Context(), Issuer{ID: "i", Settings: "{}"}, 10) },
	} {
		if err := change(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		<-heard
		now, err := other.AccessVersion(t.Context())
		if err != nil || now <= version {
			t.Errorf("after %s the version is %d, %v", what, now, err)
		}
		version = now
	}
}

// TestKeysAreKept changes a key and counts its use, day by day.
func TestKeysAreKept(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	owner, err := s.CreateKey(t.Context(), aKey("owner", policy.Owner), 2)
	if err != nil {
		t.Fatal(err)
	}
	k := aKey("k", policy.Editor)
	k.Limits = policy.Limits{Collections: []string{}, Origins: []string{"https://app.example"}, Own: true, PerMinute: 7}
	if k, err = s.CreateKey(t.Context(), k, 2); err != nil {
		t.Fatal(err)
	}
	if _, err := s.CreateKey(t.Context(), aKey("more", policy.Reader), 2); !errors.Is(err, ErrTooMany) {
		t.Errorf("too many: %v", err)
	}
	if _, err := s.ChangeKey(t.Context(), "owner", func(k *Key) error {
		k.Limits.Origins = []string{"https://app.example"}
		return nil
	}); !errors.Is(err, ErrLastOwner) {
		t.Errorf("the last owner: %v", err)
	}
	if _, err := s.ChangeKey(t.Context(), "none", func(*Key) error { return nil }); !errors.Is(err, ErrNoKey) {
		t.Errorf("no key: %v", err)
	}
	if made, err := s.CreateFirstOwner(t.Context(), aKey("first", policy.Owner)); made || err != nil {
		t.Errorf("a first owner beside others: %v, %v", made, err)
	}
	now := time.Date(2026, 4, 12, 23, 0, 0, 0, time.FixedZone("west", -6*3600)) // the next day in UTC
	today := now.UTC().Truncate(24 * time.Hour)
	for _, at := range []time.Time{now, now.Add(-time.Hour)} { // what comes late does not count as the last
		use := KeyUse{Key: k.Key, At: at, From: "192.0.2.1", Day: today, Requests: 3}
		gone := KeyUse{Key: 999, At: at, From: "192.0.2.2", Day: today, Requests: 3}
		yesterday := KeyUse{
			Key:      k.Key,
			At:       at.Add(-48 * time.Hour),
			From:     "192.0.2.9",
			Day:      today.AddDate(0, 0, -1),
			Requests: 1,
		}
		if err := s.NoteKeyUse(t.Context(), []KeyUse{use, gone, yesterday}, today.AddDate(0, 0, -5)); err != nil {
			t.Fatal(err)
		}
	}
	days, err := s.KeyDays(t.Context(), []int64{k.Key, owner.Key}, today.AddDate(0, 0, -1))
	if err != nil || len(days) != 2 || days[1].Requests != 6 || !days[1].Day.Equal(today) || days[0].Requests != 2 {
		t.Errorf("%+v, %v", days, err)
	}
	uses, err := s.KeyUses(t.Context(), []int64{k.Key, owner.Key})
	if err != nil || len(uses) != 1 || !uses[k.Key].At.Equal(now) || uses[k.Key].From != "192.0.2.1" {
		t.Errorf("%+v, %v", uses, err)
	}
	a, err := s.Access(t.Context())
	if err != nil || len(a.Keys) != 2 || len(a.Secret) != 32 {
		t.Fatalf("%+v, %v", a, err)
	}
	kept := a.Keys[1].Limits
	if kept.Collections == nil || len(kept.Collections) != 0 || kept.Groups != nil || !kept.Own || kept.PerMinute != 7 ||
		len(kept.Origins) != 1 || a.Keys[0].Limits.Collections != nil {
		t.Errorf("%+v", kept)
	}
	// Sessions of a key go with it, and codes are good once.
	hash := secret.HashOf("s")
	if err := s.CreateSession(t.Context(), Session{Hash: hash, Actor: "key/k", Key: k.Key, CreatedAt: now,
		ExpiresAt: time.Now().Add(time.Hour)}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Session(t.Context(), hash); err != nil || found.Key != k.Key || found.Person != nil {
		t.Errorf("%+v, %v", found, err)
	}
	if err := s.CreateCode(t.Context(), hash, owner.Key, time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	first, err := s.TakeCode(t.Context(), hash)
	if _, again := s.TakeCode(t.Context(), hash); err != nil || first != owner.Key || !errors.Is(again, ErrNoCode) {
		t.Errorf("%d, %v, %v", first, err, again)
	}
	if err := s.CreateCode(t.Context(), hash, owner.Key, time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.TakeCode(t.Context(), hash); !errors.Is(err, ErrNoCode) {
		t.Errorf("a code that has expired: %v", err)
	}
	if err := s.EndSession(t.Context(), hash, true); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Session(t.Context(), hash); !errors.Is(err, ErrNoSession) {
		t.Errorf("a session that was ended: %v", err)
	}
}

package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"idlebeacon/demo"
)

// An attack is a kind of caller who asks for too much, or for what cannot be.
type attack struct {
	name    string
	callers int
	// once makes one request. problem says what is wrong with the answer, "" for nothing.
	once func(ctx context.Context, t *target, r *rand.Rand) (status int, problem string)
}

func hostileNames() (names []string) {
	for _, a := range hostile {
		names = append(names, a.name)
	}
	return names
}

// hostile is all of them.
var hostile = []attack{
	{"a key that is not good", 10, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		key := fmt.Sprintf("ibkey_%040d", r.IntN(1e9))
		if r.IntN(2) == 0 { // one that looks like a token of an issuer
			key = fmt.Sprintf("a%d.eyJpc3MiOiJodHRwczovL3guZXhhbXBsZSJ9.c", r.IntN(1e9))
		}
		status, answer := t.askAs(ctx, key, "GET", "/api/collections/places", "")
		if status == http.StatusUnauthorized || status == http.StatusTooManyRequests {
			return status, ""
		}
		return status, answer
	}},
	{"an id that is no text", 4, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		return t.refused(
			ctx,
			"DELETE",
			"/api/collections/places/items/"+[]string{"%00", "%ff", "%ED%A0%80"}[r.IntN(3)],
			"",
			http.StatusBadRequest,
		)
	}},
	{"a listing sorted by something else", 20, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		keys := []string{"berths", "depth_m", "swing_m", "reference", "condition", "near", "note", "name"}
		r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
		return t.answered(ctx, "GET", "/api/collections/places/items?limit=5&sortby="+strings.Join(keys[:3], ","), "")
	}},
	{"a new condition with LIKE", 10, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		condition := fmt.Sprintf(
			"note LIKE '%%%s%%' OR name LIKE '%%%d_%d%%'",
			strings.Repeat("a_", 20),
			r.IntN(1e6),
			r.IntN(1e6),
		)
		return t.answered(
			ctx,
			"GET",
			"/api/collections/places/markers?bbox=-23,-39,-21,-38&zoom=8&filter="+url.QueryEscape(condition),
			"",
		)
	}},
	{"a condition whose caller goes", 10, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
		defer cancel()
		_, _ = t.ask(
			short,
			"GET",
			"/api/collections/places/categories?filter="+url.QueryEscape(
				fmt.Sprintf("berths > %d.5 OR note LIKE '%%%d%%'", r.IntN(1e6), r.IntN(1e6)),
			),
			"",
		)
		return http.StatusOK, ""
	}},
	{"all of a coast at the deepest zoom", 10, func(ctx context.Context, t *target, _ *rand.Rand) (int, string) {
		return t.refused(
			ctx,
			"GET",
			"/api/collections/coast/shapes?bbox=-23,-39,-21,-38&zoom=24",
			"",
			http.StatusBadRequest,
		)
	}},
	{"an export that nobody reads", 20, func(ctx context.Context, t *target, _ *rand.Rand) (int, string) {
		short, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		return t.unread(short, "/api/collections/places/export?format=csv")
	}},
	{"an upload that stalls", 8, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		short, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		return t.stalled(
			short,
			"/api/collections/places/import",
			"text/csv",
			fmt.Sprintf("id,lat,lon\nstalled-%d,-38.5,-22\n", r.IntN(1e6)),
		)
	}},
	{"a body of 5 MB", 8, func(ctx context.Context, t *target, r *rand.Rand) (int, string) {
		return t.answered(ctx, "POST", "/api/collections/coast/items", largeBodies[r.IntN(len(largeBodies))])
	}},
	{"a table of 80,000 columns", 3, func(ctx context.Context, t *target, _ *rand.Rand) (int, string) {
		return t.refused(ctx, "POST", "/api/inspect?format=csv", wideHeader, http.StatusBadRequest)
	}},
	{"an upload that is refused", 3, func(ctx context.Context, t *target, _ *rand.Rand) (int, string) {
		return t.refused(ctx, "POST", "/api/collections/none/import", wideHeader, http.StatusNotFound)
	}},
}

// largeBodies are made before, so that making them takes nothing from the service.
var largeBodies = func() (bodies []string) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 4 {
		bodies = append(bodies, ring(r, 200_000))
	}
	return bodies
}()

var wideHeader = func() string {
	var b strings.Builder
	b.WriteString("lat,lon")
	for i := range 80_000 {
		fmt.Fprintf(&b, ",c%d", i)
	}
	return b.String() + "\n"
}()

// answered asks for what may be answered or put off.
func (t *target) answered(ctx context.Context, method, path, body string) (status int, problem string) {
	status, answer := t.ask(ctx, method, path, body)
	if status == http.StatusOK || status == http.StatusCreated {
		return status, ""
	}
	return status, answer
}

// refused asks for what has to be refused.
func (t *target) refused(ctx context.Context, method, path, body string, want int) (status int, problem string) {
	status, answer := t.ask(ctx, method, path, body)
	if status == want {
		return status, ""
	}
	return status, answer
}

// connect begins a request by hand.
func (t *target) connect(ctx context.Context, head string) (net.Conn, error) {
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, "tcp", strings.TrimPrefix(t.url, "http://"))
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(conn, head); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// unread asks for something and reads none of it until ctx ends.
func (t *target) unread(ctx context.Context, path string) (status int, problem string) {
	conn, err := t.connect(ctx, "GET "+path+" HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer "+t.key+"\r\n\r\n")
	if err != nil {
		return 0, err.Error()
	}
	defer conn.Close()
	<-ctx.Done()
	return http.StatusOK, ""
}

// stalled begins to send a body and does not go on until ctx ends.
func (t *target) stalled(ctx context.Context, path, mediaType, begin string) (status int, problem string) {
	conn, err := t.connect(
		ctx,
		fmt.Sprintf(
			"POST %s HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: %s\r\n"+
				"Content-Length: 1000000\r\n\r\n%s",
			path,
			t.key,
			mediaType,
			begin,
		),
	)
	if err != nil {
		return 0, err.Error()
	}
	defer conn.Close()
	<-ctx.Done()
	return http.StatusOK, ""
}

// ring returns an area with so many positions, as GeoJSON.
func ring(r *rand.Rand, positions int) string {
	var b strings.Builder
	b.WriteString(`{"type":"Feature","geometry":{"type":"Polygon","coordinates":[[`)
	lon, lat := -22+r.Float64()*0.2, -38.5+r.Float64()*0.2
	first := ""
	for i := range positions {
		angle, reach := 2*math.Pi*float64(i)/float64(positions), 0.2+0.02*r.Float64()
		at := fmt.Sprintf("[%.7f,%.7f]", lon+reach*math.Cos(angle), lat+reach*math.Sin(angle))
		if i == 0 {
			first = at
		}
		b.WriteString(at + ",")
	}
	b.WriteString(first + `]]},"properties":{"name":"Coast"}}`)
	return b.String()
}

// fill gives the service something to be besieged for.
func (t *target) fill(ctx context.Context, places int) error {
	var file bytes.Buffer
	if err := demo.New(1).WritePlaces(&file, places); err != nil {
		return err
	}
	steps := []struct{ path, body string }{
		{"/api/collections", `{"id":"places","name_property":"name","category_property":"category"}`},
		{"/api/collections", `{"id":"coast","name_property":"name"}`},
		{"/api/collections/places/import?format=csv", file.String()},
	}
	for i := range 6 { // more positions than one view may have
		steps = append(
			steps,
			struct{ path, body string }{"/api/collections/coast/items", largeBodies[i%len(largeBodies)]},
		)
	}
	for _, step := range steps {
		if status, answer := t.ask(ctx, "POST", step.path, step.body); status != http.StatusOK &&
			status != http.StatusCreated {
			return fmt.Errorf("%s: %d %.300s", step.path, status, answer)
		}
	}
	status, answer := t.get(ctx, "/api/collections/places/items?limit=1000")
	for _, found := range idInAnswer.FindAllStringSubmatch(answer, -1) {
		t.ids = append(t.ids, found[1])
	}
	if len(t.ids) < 1000 {
		return fmt.Errorf("listing items: %d, %d ids", status, len(t.ids))
	}
	return nil
}

var idInAnswer = regexp.MustCompile(`"Feature","id":"([^"]+)"`)

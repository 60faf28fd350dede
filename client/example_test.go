package client_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"strings"

	"idlebeacon/client"
)

// isles answers a few questions as a service with two moorings does.
func isles() *httptest.Server {
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/markers") && r.Header.Get("If-None-Match") == `"m1"`:
			w.WriteHeader(http.StatusNotModified)
		case strings.HasSuffix(r.URL.Path, "/markers"):
			w.Header().Set("ETag", `"m1"`)
			_, _ = io.WriteString(w, `{"type":"FeatureCollection","matched":2,"features":[
				{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[-22.1,-38.45]},`+
				`"properties":{"kind":"place","name":"Lee mooring"}},
				{"type":"Feature","id":"b","geometry":{"type":"Point","coordinates":[-22.2,-38.5]},`+
				`"properties":{"kind":"place","name":"North mooring"}}]}`)
		case strings.HasSuffix(r.URL.Path, "/near"):
			_, _ = io.WriteString(w, `{"type":"FeatureCollection","features":[{"type":"Feature","id":"a",
				"geometry":{"type":"Point","coordinates":[-22.1,-38.45]},"properties":{"name":"Lee `+
				`mooring","distance":120.5,"bearing":45}}]}`)
		default:
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = io.WriteString(w, `{"title":"Not Found","status":404,"detail":"there is no item \"c\""}`)
		}
	}))
}

// A map client asks for the markers of its viewport again and again, and takes an answer
// only if it differs from the one that it has.
func ExampleClient_MarkersUnless() {
	service := isles()
	defer service.Close()
	c, err := client.New(service.URL)
	if err != nil {
		log.Fatal(err)
	}
	view := client.MarkersOptions{Box: client.Box{West: -22.5, South: -38.8, East: -21.5, North: -38.2}, Zoom: 10}
	var tag client.Tag
	for range 2 {
		markers, now, err := c.MarkersUnless(context.Background(), "moorings", view, tag)
		switch {
		case errors.Is(err, client.ErrNotModified):
			fmt.Println("nothing has changed")
		case err != nil:
			log.Fatal(err)
		default:
			tag = now
			fmt.Println(len(markers.Features), "markers for", markers.Matched, "places")
		}
	}
	// Output:
	// 2 markers for 2 places
	// nothing has changed
}

// What is near a position comes nearest first, with distances in metres.
func ExampleClient_Near() {
	service := isles()
	defer service.Close()
	c, err := client.New(service.URL)
	if err != nil {
		log.Fatal(err)
	}
	near, err := c.Near(
		context.Background(), "moorings", client.NearOptions{Origin: client.Origin{Lat: -38.451, Lon: -22.101}, Limit: 1},
	)
	if err != nil {
		log.Fatal(err)
	}
	for _, place := range near.Features {
		fmt.Printf("%s, %.1f m\n", place.Properties.Name, place.Properties.Distance)
	}
	// Output: Lee mooring, 120.5 m
}

// What the service says against a request is an *Error.
func ExampleError() {
	service := isles()
	defer service.Close()
	c, err := client.New(service.URL)
	if err != nil {
		log.Fatal(err)
	}
	_, err = c.Item(context.Background(), "moorings", "c")
	var problem *client.Error
	if errors.As(err, &problem) {
		fmt.Println(problem.Status, problem.Detail, client.IsNotFound(err))
	}
	// Output: 404 there is no item "c" true
}

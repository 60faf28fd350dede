package loopback

import "testing"

func TestIs(t *testing.T) {
	for host, want := range map[string]bool{
		"localhost": true, "LOCALHOST": true, "127.0.0.1": true, "127.3.2.1": true, "::1": true, "[::1]": true,
		"::ffff:127.0.0.1": true, "": false, "0.0.0.0": false, "10.0.0.1": false, "maps.example": false,
		"localhost.example": false, "127.0.0.1.example": false, "127.1": false,
	} {
		if Is(host) != want {
			t.Errorf("%q: %v", host, !want)
		}
	}
}

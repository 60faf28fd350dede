package importing

import (
	"encoding/json"
	"reflect"
	"testing"

	"idlebeacon/internal/core/axes"
	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
)

// TestReportsAreKept sends a report in which no member is empty to the database's form and
// back, and reads one that an earlier version has kept.
func TestReportsAreKept(t *testing.T) {
	report := Report{
		Import: "i", Rows: 1, Created: 2, Replaced: 3, Unchanged: 4, Rejected: 5, WithoutID: 6, Doubtful: 7,
		Mended: 8, Repeated: 9, Kept: 10, DryRun: true, Stopped: "s",
		Notes: []formats.Note{{
			Kind: "k", Column: "c", Type: "number", What: "w", Count: 1, Of: 2, Alone: 3, Row: 4, Value: "v",
			Sides: []axes.Side{
				{Count: 1, Box: geo.Box{West: -1, South: -2, East: 3, North: 4}, Spots: []geo.Point{{Lon: 1, Lat: 2}}},
			},
			Set: []formats.Setting{{Option: "o", Value: "v"}},
		}},
		Errors: []formats.RowError{{Row: 1, Line: 2, Reason: "r", Fix: "f"}},
		Doubts: []RowDoubt{{1, 2, doubts.Doubt{Kind: "k", Fix: "f", Reason: "r"}}},
	}
	v := reflect.ValueOf(report)
	for i := range v.NumField() {
		if v.Field(i).IsZero() {
			t.Errorf("%s is empty: this does not tell whether it is kept", v.Type().Field(i).Name)
		}
	}
	text, err := json.Marshal(report.record())
	if err != nil {
		t.Fatal(err)
	}
	back, err := parseReport(string(text))
	if err != nil || !reflect.DeepEqual(*back, report) {
		t.Errorf("%+v, %v, want\n%+v", back, err, report)
	}
	old, err := parseReport(
		`{"import":"i","rows":2,"without_id":1,"dry_run":false,"errors":null,"notes":[{"kind":"mirrored",` +
			`"sides":null,"set":[{"option":"fix","value":"x"}]}],
		"doubts":[{"row":2,"line":2,"kind":"zero","fix":"skip_zero","reason":"is at 0, 0"}]}`,
	)
	if err != nil || old.Rows != 2 || old.WithoutID != 1 || old.Errors == nil || len(old.Doubts) != 1 ||
		old.Doubts[0].Fix != "skip_zero" ||
		old.Notes[0].Set[0].Value != "x" {
		t.Errorf("an older one: %+v, %v", old, err)
	}
}

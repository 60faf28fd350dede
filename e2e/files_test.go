package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// TestFilesOnTheCommandLine takes files through inspect, import and export.
func TestFilesOnTheCommandLine(t *testing.T) {
	service := demo(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "huts.csv")
	if err := os.WriteFile(file, []byte(huts()), 0o644); err != nil {
		t.Fatal(err)
	}
	cli := &commands{t, service.url}
	run, contains := cli.run, cli.contains
	contains(
		run(0, "inspect", file),
		"read as csv",
		"latitude",
		"00100",
		"row 44: latitude",
		"row 42 is doubtful",
		"--fix skip_zero,swap_doubtful",
		"43 rows looked at: 42 can be imported",
	)
	contains(
		run(3, "import", file, "--into", "huts", "--fix", "swap_doubtful,skip_zero", "--type", "berths=text"),
		"The positions of 1 row were mended",
		"41 new",
	)
	back := filepath.Join(dir, "back.kml")
	contains(run(0, "export", back, "--collection", "huts", "--filter", "kind = 'bothy'"), "Wrote 20 items")
	contains(run(0, "import", back, "--into", "bothies"), "20 new")
	contains(
		run(0, "export", "-", "--collection", "bothies", "--format", "csv"),
		"h1,-22.19,-38.405,Hut 1,bothy,1,00101",
	)
	contains(
		run(0, "export", filepath.Join(dir, "waters.gpx"), "--collection", "waters"),
		"Wrote 18 items",
		"60 items are not there",
	)
	contains(run(2, "export", filepath.Join(dir, "huts.pdf"), "--collection", "huts"), "name one with --format")
	contains(run(2, "import", file, "--into", "huts", "--fix", "everything"), "is not known")
	contains(run(2, "import", file, "--into", "none", "--lat-column", "north"), "no column \"north\"")
	contains(run(1, "items", "--collection", "none"), "no collection")
	if left, err := filepath.Glob(filepath.Join(dir, ".*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}

	// What was rejected is corrected, and imported in the background.
	var list api.Imports
	if err := json.Unmarshal([]byte(run(0, "imports", "--collection", "huts", "--limit", "1", "--json")),
		&list); err != nil ||
		len(list.Imports) != 1 {
		t.Fatalf("the imports into huts are %+v, %v", list, err)
	}
	contains(run(0, "imports"), list.Imports[0].ID, "huts.csv", "successful")
	corrections := filepath.Join(dir, "corrections.csv")
	contains(run(0, "imports", "rejected", list.Imports[0].ID, corrections), "Wrote the rejected rows")
	text, err := os.ReadFile(corrections)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(corrections, []byte(strings.Replace(string(text), "north", "-38.5", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	started := run(0, "import", corrections, "--into", "huts", "--background", "--type", "berths=text")
	_, id, _ := strings.Cut(started, "imports show ")
	polltest.Until(t, "the import in the background is over", func() bool {
		return strings.Contains(run(0, "imports", "show", strings.TrimSpace(id)), "In huts: 1 new")
	})
	contains(run(2, "import", corrections, "--into", "huts", "--background", "--dry-run"), "do not go together")
	contains(run(0, "imports", "dismiss", strings.TrimSpace(id)), "is forgotten. What it imported stays")
	contains(run(1, "imports", "show", strings.TrimSpace(id)), "there is no import")

	var style map[string]any
	if err := json.Unmarshal([]byte(run(0, "style", "--collection", "waters")), &style); err != nil ||
		style["line"] == nil {
		t.Errorf("the style is %v, %v", style, err)
	}
	wrong := filepath.Join(dir, "style.json")
	if err := os.WriteFile(wrong, []byte(`{"default":{"icon":"unicorn"}}`), 0o644); err != nil {
		t.Fatal(err)
	}
	contains(run(1, "style", "set", wrong, "--collection", "huts"), "default.icon", "is not an icon")
	contains(run(0, "legend", "--collection", "waters"), "Ferry lanes", "#33508f")
	contains(run(0, "shapes", "--collection", "waters", "--zoom", "6"), "LineString", "too small to be seen")
	for _, id := range []string{"huts", "bothies"} {
		run(0, "collections", "delete", id, "--yes")
	}
}

// TestAKilledImportLeavesNothing kills the service when most of a large file has been
// sent.
func TestAKilledImportLeavesNothing(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data, "serve")
	c := connect(t, p.url)
	sent, file := io.Pipe()
	done := make(chan error)
	go func() {
		_, err := c.Import(t.Context(), "c", sent, client.ImportOptions{Create: &api.NewCollection{}})
		done <- err
	}()
	_, err := io.WriteString(file, "id,lat,lon\n")
	for i := range 200_000 { // far more than fits what lies between here and the database
		if err == nil {
			_, err = fmt.Fprintf(file, "%d,%d,%d\n", i, i%80, i%170)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := p.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-p.exited
	file.Close()
	if err := <-done; err == nil {
		t.Error("the import was acknowledged")
	}

	p = start(t, data, "serve")
	c = connect(t, p.url)
	if found, err := c.Collection(t.Context(), "c"); !client.IsNotFound(err) {
		t.Errorf("the collection that was to be made is there: %+v, %v", found, err)
	}
	polltest.Until(t, "the import is told as failed", func() bool {
		list, err := c.Imports(t.Context(), "c", "", 1)
		return err == nil && len(list.Imports) == 1 && list.Imports[0].Status == "failed" &&
			strings.Contains(list.Imports[0].Problem, "import the file again")
	})
	p.stop(t)
}

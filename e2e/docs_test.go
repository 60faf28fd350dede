package e2e

import (
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// piece is a fenced piece of a document: what it is written in, and what it says.
var piece = regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```$")

// TestClientsDocument runs every piece of docs/CLIENTS.md against the demo. What a piece
// prints has to have the lines that follow it.
func TestClientsDocument(t *testing.T) {
	ran := runDocument(t, demo(t), "CLIENTS.md", nil)
	if ran["sh"] < 5 || ran["js"] < 2 || ran["go"] < 1 {
		t.Errorf("ran %v", ran)
	}
}

// TestDevicesDocument does the same with docs/DEVICES.md, and a demo of fewer devices.
func TestDevicesDocument(t *testing.T) {
	t.Parallel()
	mqtt := freePort(t)
	_, port, err := net.SplitHostPort(mqtt)
	if err != nil {
		t.Fatal(err)
	}
	service := start(t, filepath.Join(t.TempDir(), "demo"), "demo", "--devices", "25", "--mqtt", mqtt)
	ran := runDocument(t, service, "DEVICES.md", strings.NewReplacer("idlebeacon-data/demo", service.data, "-p 8471",
		"-p "+port))
	if ran["sh"] < 6 {
		t.Errorf("ran %v", ran)
	}
}

// TestWatchesDocument does the same with docs/WATCHES.md.
func TestWatchesDocument(t *testing.T) {
	t.Parallel()
	receiver := freePort(t)
	_, port, err := net.SplitHostPort(receiver)
	if err != nil {
		t.Fatal(err)
	}
	service := start(t, filepath.Join(t.TempDir(), "demo"), "demo", "--devices", "25", "--hooks-private")
	ran := runDocument(t, service, "WATCHES.md", strings.NewReplacer("idlebeacon-data/demo", service.data, "8472", port))
	if ran["sh"] < 3 || ran["js"] < 1 {
		t.Errorf("ran %v", ran)
	}
}

// runDocument runs every piece of a document against a service, and returns how many of each kind they are.
func runDocument(t *testing.T, service *process, name string, more *strings.Replacer) (ran map[string]int) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "docs", name))
	if err != nil {
		t.Fatal(err)
	}
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	printed := ""
	ran = map[string]int{}
	if more == nil {
		more = strings.NewReplacer()
	}
	for _, m := range piece.FindAllStringSubmatch(string(text), -1) {
		kind, content := m[1], more.Replace(strings.ReplaceAll(m[2], "http://127.0.0.1:8470", service.url))
		dir := t.TempDir()
		var command *exec.Cmd
		switch kind {
		case "text":
			for line := range strings.Lines(content) {
				if !strings.Contains(printed, strings.TrimSpace(line)) {
					t.Errorf("a piece prints\n%s\nand not %q", printed, line)
				}
			}
			continue
		case "json", "console": // only shown
			continue
		case "sh":
			command = exec.Command("bash", "-euo", "pipefail", "-c", content)
		case "js":
			write(t, filepath.Join(dir, "piece.mjs"), content)
			command = exec.Command("node", "piece.mjs")
		case "go":
			write(t, filepath.Join(dir, "main.go"), content)
			// As a module of its own requires the client.
			sum, err := os.ReadFile(filepath.Join(root, "go.sum"))
			if err != nil {
				t.Fatal(err)
			}
			write(t, filepath.Join(dir, "go.sum"), string(sum))
			write(
				t, filepath.Join(dir, "go.mod"),
				"module piece\n\ngo 1.26\n\nrequire idlebeacon v0.0.0\n\nreplace idlebeacon => "+root+"\n",
			)
			command = exec.Command("bash", "-c", "go mod tidy >&2 && go run .")
		default:
			t.Errorf("a piece is in %q, which nothing here runs", kind)
			continue
		}
		ran[kind]++
		command.Dir = dir
		var problems strings.Builder
		command.Stderr = &problems
		out, err := command.Output()
		if err != nil {
			t.Errorf("%v of\n%s\n%s%s", err, content, out, problems.String())
		}
		printed = string(out)
	}
	return ran
}

func write(t *testing.T, name, content string) {
	t.Helper()
	if err := os.WriteFile(name, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestGeneratedClient compiles a TypeScript client that is generated from the contract, and
// calls the demo with it.
func TestGeneratedClient(t *testing.T) {
	service := demo(t)
	web, err := filepath.Abs(filepath.Join("..", "web"))
	if err != nil {
		t.Fatal(err)
	}
	run := func(name string, args ...string) string {
		t.Helper()
		command := exec.Command(name, args...)
		command.Dir = web
		out, err := command.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, out)
		}
		return string(out)
	}
	run("npm", "run", "types")
	run("npx", "--no-install", "tsc", "-p", "contract")
	client := filepath.Join("node_modules", ".contract", "contract", "client.mjs")
	if out := run("node", client, service.url); out != "brindlemere string 2400 404\n" {
		t.Errorf("the generated client prints %q", out)
	}
}

// TestExamplesOfEditing sends the JSON of docs/EDITING.md to the calls that it is about, with items of a collection
// that are called as there. Each is what the contract wants, and is done.
func TestExamplesOfEditing(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := start(t, t.TempDir(), "serve")
	file := "id,name,berths,lat,lon\nM00004,Gull Steps,1,-38.5,-22\nM00008,Seal Steps,2,-38.52,-22.05\n"
	if _, errs, status := command(t, nil, strings.NewReader(file), "import", "-", "--into", "moorings", "--name-property",
		"name", "--server", p.url); status != 0 {
		t.Fatalf("import: status %d\n%s", status, errs)
	}
	text, err := os.ReadFile(filepath.Join("..", "docs", "EDITING.md"))
	if err != nil {
		t.Fatal(err)
	}
	tag := regexp.MustCompile(`"if_match": "\\"[^"]*\\""`) // of another database
	base := p.url + "/api/collections/moorings/"
	calls := map[string][2]string{ // by a text that only one example has
		`"edits"`: {"POST", base + "changes"}, `"$schema"`: {"PUT", base + "schema"},
		`"note"`: {"POST", base + "suggestions"},
	}
	var examples []string
	for _, m := range piece.FindAllStringSubmatch(string(text), -1) {
		if m[1] == "json" {
			examples = append(examples, tag.ReplaceAllString(m[2], `"if_match": "*"`))
		}
	}
	if len(examples) != len(calls) {
		t.Fatalf("%d examples, want %d", len(examples), len(calls))
	}
	for _, example := range examples {
		for has, call := range calls {
			if !strings.Contains(example, has) {
				continue
			}
			request, err := http.NewRequestWithContext(t.Context(), call[0], call[1], strings.NewReader(example))
			if err != nil {
				t.Fatal(err)
			}
			request.Header.Set("Content-Type", "application/json")
			request.Header.Set("Authorization", "Bearer "+ownerOf(p.url))
			answer, err := http.DefaultClient.Do(request)
			if err != nil {
				t.Fatal(err)
			}
			said, _ := io.ReadAll(answer.Body)
			answer.Body.Close()
			if answer.StatusCode >= 300 {
				t.Errorf("%s %s answers %d %s", call[0], example, answer.StatusCode, said)
			}
		}
	}
}

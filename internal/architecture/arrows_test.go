// Package architecture holds the source against the rules of docs/ARCHITECTURE.md.
package architecture

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
)

const module = "idlebeacon/"

// arrows lists which packages of the program each may import, directly. A pattern ends with
// a star; the packages of the core may import each other as far as Go lets them.
var arrows = map[string][]string{
	"api":    {},
	"client": {"api"},
	"cmd/idlebeacon": {
		"api",
		"client",
		"demo",
		"internal/admission",
		"internal/core/*",
		"internal/daemon",
		"internal/hookstub",
		"internal/issuerstub",
		"internal/store",
		"web",
	},
	"internal/issuerstub": {"internal/core/loopback"},
	"internal/hookstub":   {},
	"demo":                {"internal/core/*"},
	"web":                 {},
	"e2e":                 {},
	"bench": {
		"api",
		"demo",
		"internal/access",
		"internal/core/*",
		"internal/fleet",
		"internal/httpapi",
		"internal/importing",
		"internal/pgbox",
		"internal/service",
		"internal/store",
		"internal/watching",
	},
	"siege":               {"demo", "internal/core/*"},
	"scripts/accesstable": {"internal/core/policy"},
	"internal/daemon": {
		"internal/access",
		"internal/admission",
		"internal/bus",
		"internal/core/loopback",
		"internal/fleet",
		"internal/hooks",
		"internal/httpapi",
		"internal/mqtt",
		"internal/pgbox",
		"internal/service",
		"internal/store",
		"internal/watching",
	},
	"internal/httpapi": {
		"api",
		"internal/access",
		"internal/admission",
		"internal/answers",
		"internal/core/*",
		"internal/fault",
		"internal/fleet",
		"internal/hooks",
		"internal/importing",
		"internal/issuers",
		"internal/live",
		"internal/service",
		"internal/store",
		"internal/tempfile",
		"internal/watching",
	},
	"internal/access": {
		"internal/core/*",
		"internal/fault",
		"internal/issuers",
		"internal/kept",
		"internal/store",
	},
	"internal/watching": {
		"api",
		"internal/core/*",
		"internal/fault",
		"internal/fleet",
		"internal/service",
		"internal/store",
	},
	"internal/hooks":   {"api", "internal/core/*", "internal/fault", "internal/store", "internal/watching"},
	"internal/bus":     {},
	"internal/fleet":   {"internal/bus", "internal/core/*", "internal/fault", "internal/store"},
	"internal/mqtt":    {"internal/core/*", "internal/fleet"},
	"internal/issuers": {"internal/core/*"},
	"internal/answers": {"internal/core/*", "internal/kept"},
	"internal/service": {
		"internal/admission",
		"internal/core/*",
		"internal/fault",
		"internal/importing",
		"internal/kept",
		"internal/live",
		"internal/replica",
		"internal/store",
		"internal/tempfile",
	},
	"internal/live": {"internal/core/geo", "internal/replica"},
	"internal/importing": {
		"internal/admission",
		"internal/core/*",
		"internal/fault",
		"internal/replica",
		"internal/store",
		"internal/tempfile",
	},
	"internal/replica": {"internal/core/*", "internal/fault", "internal/store"},
	"internal/fault":   {"internal/core/feature", "internal/core/invalid", "internal/store"},
	"internal/store": {
		"internal/core/feature",
		"internal/core/filter",
		"internal/core/geo",
		"internal/core/geometry",
		"internal/core/motion",
		"internal/core/policy",
		"internal/core/secret",
		"internal/core/watch",
		"internal/pgcopy",
		"internal/tempfile",
	},
	"internal/pgcopy":          {},
	"internal/admission":       {},
	"internal/kept":            {},
	"internal/tempfile":        {},
	"internal/pgbox":           {},
	"internal/pgbox/pgboxtest": {"internal/pgbox"},
	"internal/polltest":        {},
	"internal/architecture":    {},
	"internal/core/*":          {"internal/core/*"},
}

// outside lists what packages of the core may not import: input and output, the network,
// databases and frameworks. Other modules that they may use are in coreModules.
var outside = []string{
	"os",
	"net",
	"net/http",
	"database/sql",
	"log",
	"log/slog",
	"os/exec",
	"path/filepath",
	"syscall",
	"testing",
}

// coreModules are the modules that the core may use.
var coreModules = []string{
	"golang.org/x/text", "golang.org/x/image", "github.com/klauspost/compress", "github.com/santhosh-tekuri/jsonschema",
}

type goPackage struct {
	ImportPath string
	Dir        string
	GoFiles    []string
	Imports    []string
}

func packages(t *testing.T) (all []goPackage) {
	t.Helper()
	list := exec.Command("go", "list", "-json=ImportPath,Imports,Dir,GoFiles", module+"...")
	out, err := list.Output()
	if err != nil {
		t.Fatalf("listing the packages: %v", err)
	}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p goPackage
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		// What a test found is kept until something changes that it has looked at itself.
		for _, name := range append(p.GoFiles, ".", "..") {
			if _, err := os.Stat(filepath.Join(p.Dir, name)); err != nil {
				t.Fatal(err)
			}
		}
		all = append(all, p)
	}
}

// matches reports whether a pattern, which may end with a star, stands for a package.
func matches(pattern, name string) bool {
	head, many := strings.CutSuffix(pattern, "*")
	return name == pattern || many && strings.HasPrefix(name, head)
}

// TestArrows looks at all imports: they point downwards only.
func TestArrows(t *testing.T) {
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, module)
		var may []string
		known := false
		for pattern, to := range arrows {
			if matches(pattern, name) {
				may, known = to, true
			}
		}
		if !known {
			t.Errorf(
				"%s is not among the arrows: say there what it may import, and in docs/ARCHITECTURE.md what it is "+
					"about",
				name,
			)
			continue
		}
		for _, imported := range p.Imports {
			to, ours := strings.CutPrefix(imported, module)
			if !ours {
				continue
			}
			allowed := false
			for _, pattern := range may {
				allowed = allowed || matches(pattern, to)
			}
			if !allowed {
				t.Errorf("%s imports %s", name, to)
			}
		}
	}
}

// TestTheCoreIsPure looks at what the core imports from elsewhere.
func TestTheCoreIsPure(t *testing.T) {
	looked := 0
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, module+"internal/core/") {
			continue
		}
		looked++
		for _, imported := range p.Imports {
			if strings.HasPrefix(imported, module) {
				continue
			}
			for _, bad := range outside {
				if imported == bad {
					t.Errorf("%s imports %s", p.ImportPath, imported)
				}
			}
			if first, _, _ := strings.Cut(imported, "/"); !strings.Contains(first, ".") {
				continue // of the standard library
			}
			allowed := false
			for _, m := range coreModules {
				allowed = allowed || imported == m || strings.HasPrefix(imported, m+"/")
			}
			if !allowed {
				t.Errorf("%s imports %s", path.Base(p.ImportPath), imported)
			}
		}
	}
	if looked == 0 {
		t.Error("there is no core")
	}
}

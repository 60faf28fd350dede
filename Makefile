# Two commands do all the set-up on a fresh Debian machine with Go, Node and npm:
#   make demo   everything running with demo data; prints one URL
#   make test   every check and test
.DELETE_ON_ERROR:
.PHONY: demo build icons access-table test check web-check go-test race-test race-all fuzz soak siege faults bench benchmarks screenshots clean

DATA ?= idlebeacon-data/demo
LISTEN ?= 127.0.0.1:8470

WEB_SOURCES := $(shell find internal/core/icon/set web/map web/console api/openapi.yaml -type f -not -path '*/node_modules/*' -not -name schema.d.ts) web/package.json web/tsconfig.base.json

demo: build
	@scripts/install postgresql
	@exec bin/idlebeacon demo --data "$(DATA)" --listen "$(LISTEN)"

build: web/dist/index.html
	@scripts/install go
	go build -o bin/idlebeacon ./cmd/idlebeacon

web/node_modules/.package-lock.json: web/package.json web/package-lock.json web/map/package.json web/console/package.json
	@scripts/install node
	cd web && npm ci --no-audit --no-fund
	@touch $@

web/dist/index.html: web/node_modules/.package-lock.json $(WEB_SOURCES)
	cd web && npm run types && npm run build

# The built-in icons anew from the icon set that web/map names, those that are there already.
icons: web/node_modules/.package-lock.json
	cp web/node_modules/lucide-static/LICENSE internal/core/icon/set/
	for f in internal/core/icon/set/*.svg; do cp "web/node_modules/lucide-static/icons/$${f##*/}" "$$f"; done

access-table:
	go run ./scripts/accesstable docs/ACCESS.md
	cd web && npx prettier --write --log-level warn ../docs/ACCESS.md

test: web-check check go-test race-test
	@echo "All checks and tests passed."

web-check: web/node_modules/.package-lock.json
	cd web && npm run check

# Formatting, vet and staticcheck.
check: build
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "Run gofmt -w on these files."; exit 1; }
	go vet ./...
	go tool staticcheck ./...

go-test: build
	@scripts/install node postgresql chromium gcc jq mqtt
	go test -timeout 25m -parallel 3 ./...

# What is concurrent, under the race detector, without tests that are long under it and say little: those of one
# goroutine, and of large bodies. Of the requests to a service it has those that meet others.
race-test: build
	@scripts/install postgresql gcc
	go test -race -short ./internal/admission ./internal/core/index ./internal/core/places ./internal/core/shapes \
		./internal/kept ./internal/answers ./internal/store ./internal/replica ./internal/importing ./internal/service \
		./internal/pgbox ./internal/fleet ./internal/mqtt ./internal/watching ./internal/hooks
	go test -race -short -run 'Views|Changes|Listen|Streams|Square|Pieces|Answers|Report|ToldOf|Stalled|Slow|Deadline' \
		./internal/httpapi

# All requests, and the whole program as its users drive it, under the race detector. It takes long.
race-all: race-test
	@scripts/install node chromium jq mqtt
	go test -race -timeout 30m ./internal/httpapi
	IDLEBEACON_RACE=1 go test -count=1 -timeout 60m -parallel 3 ./e2e

# A while of fuzzing for each target; FUZZTIME says how long.
FUZZTIME ?= 20s
fuzz:
	@for f in $$(grep -rl '^func Fuzz' --include='*_test.go' internal | sort); do \
		for t in $$(sed -n 's/^func \(Fuzz[A-Za-z]*\)(.*/\1/p' $$f); do \
			echo "$$t in $$f"; \
			go test -run '^$$' -fuzz "^$$t\$$" -fuzztime $(FUZZTIME) ./$$(dirname $$f) || exit 1; \
		done; \
	done

# Reads and edits side by side for a while, then every answer against a fresh index.
SOAKTIME ?= 5m
soak: build
	@scripts/install postgresql gcc
	IDLEBEACON_SOAK=$(SOAKTIME) go test -race -count=1 -v -timeout 60m -run TestSoak ./internal/httpapi

# Hostile callers against a service of its own, beside ordinary users, and what these got.
SIEGETIME ?= 20s
siege: build
	@scripts/install postgresql
	go run ./siege -program bin/idlebeacon -time $(SIEGETIME)

# What databases, disks and lines do when they fail: a primary and a standby, several
# services, a proxy, processes that hang and are killed. Takes about six minutes.
faults: build
	@scripts/install postgresql gcc
	IDLEBEACON_FAULTS=1 go test -count=1 -v -timeout 40m -run 'Failover|LineThat|ServiceThatHangs|DiskThat|KillsDuring|StartedAgain|AStopEnds|Backup' ./e2e

# The budgets: a table of what is measured against each, and the plot of how views
# scale. Takes about ten minutes and 6 GB of memory.
bench: build
	@scripts/install postgresql chromium gcc jq mqtt
	go run ./bench -plots docs
	IDLEBEACON_FRAMES=1 go test -count=1 -v -run TestMapFrames ./e2e

# The same things piece by piece, in the form that benchstat reads.
benchmarks: build
	@scripts/install postgresql
	go test -run '^$$' -bench . ./internal/core/... ./internal/service

# The pictures in docs/screenshots, from the demo data.
screenshots: build
	@scripts/install postgresql chromium xterm
	IDLEBEACON_SCREENSHOTS="$(CURDIR)/docs/screenshots" go test -count=1 -run TestScreenshots ./e2e
	scripts/terminal-shots docs/screenshots

clean:
	rm -rf bin web/dist web/node_modules web/map/node_modules web/console/node_modules
	mkdir -p web/dist && touch web/dist/.gitkeep

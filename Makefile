# Rotanex. make help lists what can be made.
.DEFAULT_GOAL := help
SHELL := /bin/sh

# go-nvml's header marks old calls as deprecated, and cgo repeats it for each.
export CGO_CFLAGS := -O2 -g -Wno-deprecated-declarations
export PATH := /usr/lib/go/bin:/usr/local/go/bin:$(PATH)

STATE ?= $(if $(filter 0,$(shell id -u)),/var/lib/rotanex-demo,$(HOME)/.local/state/rotanex-demo)
ONCE  ?=
# Packages in which much goes on at once.
CONCURRENT := ./core/forecast ./service/events ./service/jobs ./service/sources ./service/computations

# What of a target may be done at once; what each says stays together.
SIDE_BY_SIDE := $(MAKE) --no-print-directory -j2 --output-sync=target

PROGRAMS := rotanex rotanex-service rotanex-agent rotanex-simulator rotanex-demo

.PHONY: help demo dist dist-test test fuzz test-fast test-console build lint lint-go lint-console bench bench-plan bench-timing bench-queue bench-lists bench-console bench-viewers bench-runs chaos generate screenshots clean demo-needs db-needs test-needs console

help: ## list what can be made
	@awk -F ':.*## ' '/^[a-z-]+:.*## / { printf "  make %-12s %s\n", $$1, $$2 }' $(MAKEFILE_LIST)

demo: demo-needs build ## set everything up and do the main job on demo data (ONCE=1: end when it is done)
	@exec ./bin/rotanex-demo --state-dir "$(STATE)" $(if $(ONCE),--once)

dist: console ## programs for all systems, Debian packages, manual pages, checksums, into dist/
	@scripts/dist

dist-test: ## install, try, install again and purge the packages of make dist in a clean Debian (as root)
	@scripts/try-packages

# Tests allocate much and keep little: collecting less often saves them a tenth of their time.
test test-fast: export GOGC := 400

test: test-needs console ## set everything up and pass all tests, with lint and the race detector
	./scripts/generated-is-current
	@$(SIDE_BY_SIDE) lint-go lint-console test-console
	go test -vet=off -race -count=1 $(CONCURRENT)
	go test -vet=off -count=1 -timeout 20m $$(go list ./... | grep -v -e /e2e $(patsubst ./%,-e '/%$$',$(CONCURRENT)))
	go test -vet=off -count=1 -timeout 20m -parallel 6 ./e2e/...
	@$(MAKE) --no-print-directory fuzz

test-fast: db-needs console test-console ## unit tests and package tests over a database, with fewer seeds; no browser, no whole programs
	go vet ./...
	go test -short -timeout 5m $$(go list ./... | grep -v /e2e)

build: console ## build the console and the programs into bin/
	@mkdir -p bin
	go build -o bin/ $(addprefix ./cmd/,$(PROGRAMS))

FUZZ ?= 60s

# Without coverage: what is stored changes what is covered, and ten times as many requests are sent.
fuzz: db-needs ## send every operation what anybody may think of, for a minute (FUZZ=10m: longer)
	@into=$$(mktemp -d) && trap 'rm -rf "$$into"' EXIT && go test -vet=off -c -o "$$into/hostile.test" ./service/app && \
		(cd service/app && "$$into/hostile.test" -test.run '^$$' -test.fuzz FuzzOperations -test.fuzztime $(FUZZ) -test.fuzzcachedir "$$into")

test-console: console/node_modules
	cd console && npm run -s test

lint: console ## go vet, staticcheck, gofumpt, Biome, tsc; and whether generated code is current
	./scripts/generated-is-current
	@$(SIDE_BY_SIDE) lint-go lint-console

lint-go:
	go vet ./...
	GOOS=windows CGO_ENABLED=0 go build -o /dev/null ./cmd/rotanex-agent
	GOOS=darwin CGO_ENABLED=0 go build -o /dev/null ./cmd/rotanex-agent
	go tool staticcheck ./...
	@unformatted=$$(go tool gofumpt -l $$(git ls-files '*.go' | grep -v '\.gen\.go')); \
		test -z "$$unformatted" || { echo "not formatted (go tool gofumpt -w): $$unformatted"; exit 1; }

lint-console: console/node_modules
	cd console && npm run -s lint && npm run -s check

generate: console/node_modules ## make from api/openapi.yaml what is generated from it
	cd api && go generate .
	cd console && npm run -s generate

bench: ## the planner, the forecast and the timing model
	go test -run '^$$' -bench . -benchtime 1x -timeout 20m ./core/...

bench-plan: ## the planner on the known problems, judged if the judge is at hand, beside an exact solver (coinor-cbc) if it is, and how it grows
	go run ./cmd/benchplan $(wildcard ../shared/planning/public)

bench-timing: ## the timing model on made series whose truth is not of its family, and what its sweeps are worth (SERIES=12 of each kind: a quarter of an hour on two cores)
	go run ./cmd/benchtiming -each $(SERIES)

bench-queue: test-needs build ## frames leased and handed in, in a run of a million frames and with 2,000 agents waiting, beside what was asked for (ten minutes)
	go run ./cmd/benchqueue

bench-lists: test-needs build ## what pages and commands ask, with 100,000 frames open and 300 runs ended, beside what was asked for
	go run ./cmd/benchqueue -only lists -frames 100000 -ended 300

bench-console: test-needs build ## the console on that state, in headless Chromium
	go run ./cmd/benchqueue -only console -frames 100000 -ended 300

bench-viewers: test-needs build ## what it costs that a hundred look at one run while frames are handed in
	go run ./cmd/benchqueue -only viewers -frames 100000 -ended 300

WEEKENDS ?= 300
SERIES   ?= 12

bench-runs: ## made weekends whose truth the planner does not know, with the schedule left alone and kept (WEEKENDS=300: four and a half hours on two cores)
	go run ./cmd/benchruns -weekends $(WEEKENDS)

FAULTS ?= 1000
SEED   ?= 1

chaos: demo-needs build ## two services, a database, agents, servers and a farm, killed and stopped in turn (FAULTS=1000 SEED=1: half an hour)
	go run ./cmd/chaos -faults $(FAULTS) -seed $(SEED)

screenshots: ## make docs/screenshots again from a demo that runs (ROTANEX_TOKEN)
	./scripts/screenshots

clean: ## remove what was built
	rm -rf bin console/node_modules service/web/dist/assets service/web/dist/index.html service/web/dist/api.html service/web/dist/icon.svg

demo-needs:
	@./scripts/needs /usr/lib/postgresql/*/bin/postgres=postgresql povray=povray /usr/share/povray-*/include/colors.inc=povray-includes

db-needs:
	@./scripts/needs /usr/lib/postgresql/*/bin/postgres=postgresql /usr/bin/dbus-daemon=dbus-daemon

test-needs:
	@./scripts/needs /usr/lib/postgresql/*/bin/postgres=postgresql pgbench=postgresql povray=povray /usr/share/povray-*/include/colors.inc=povray-includes python3=python3 chromium=chromium /usr/share/fonts/truetype/dejavu/DejaVuSans.ttf=fonts-dejavu-core /usr/sbin/sshd=openssh-server gcc=gcc /usr/include/stdlib.h=libc6-dev /usr/bin/dbus-daemon=dbus-daemon

# The console is built when its sources are newer than what was built of them.
CONSOLE := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/api.html console/vite.config.ts console/package.json

console: service/web/dist/index.html

service/web/dist/index.html: $(CONSOLE) console/node_modules
	cd console && npm run -s build
	@touch $@

console/node_modules: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

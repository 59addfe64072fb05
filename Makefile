# Yarn Post. make demo shows it, make test checks it.

export GOFLAGS ?= -trimpath
RACED := ./core/lease ./core/answer ./service/engine ./service/observe ./service/probe ./service/lru ./service/clock ./service/work ./service/journal ./service/change ./service/failover ./service/accounts ./service/httpd
NPM := npm --no-audit --no-fund --loglevel=error

.PHONY: build demo dev quick test check unit bench sim fuzz shots generate clean console

build: console ## binaries in bin/
	@mkdir -p bin
	go build -o bin/ ./cmd/...

console: console/dist/index.html

console/node_modules/.package-lock.json: console/package-lock.json
	@echo "Fetching the console's packages …"
	@cd console && $(NPM) ci
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts $(shell find console/src console/public -type f)
	@echo "Building the console …"
	@cd console && $(NPM) run --silent build

demo: ## Fellgate Mill with simulated clients, until interrupted
	@scripts/need postgresql
	@$(MAKE) --no-print-directory build
	@scripts/demo

dev: ## the demo, and the console reloading as it is edited
	@scripts/need postgresql
	@$(MAKE) --no-print-directory build
	@scripts/dev

quick: console/node_modules/.package-lock.json ## what a change touched, in a minute or less
	@scripts/quick

test: ## everything that CI runs
	@scripts/need postgresql chromium tshark udhcpc dhcpcd-base systemd iproute2
	@$(MAKE) --no-print-directory build check unit

check: console/node_modules/.package-lock.json
	@echo "Formatting, vet, static checks, generated files …"
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	@go vet ./...
	@go tool staticcheck ./...
	@go tool errcheck -ignoretests -exclude scripts/errcheck.txt $$(go list ./... | grep -v -e /demo$$ -e /e2e) # the demo's clients may well fail
	@cd console && npx --no-install prettier --check --log-level warn src vite.config.ts eslint.config.js && npx --no-install eslint src
	@go run ./cmd/yarnpostd openapi | cmp -s - api/openapi.json || { echo "api/openapi.json is old; run make generate"; exit 1; }
	@go run ./cmd/yarnpostd findings | cmp -s - docs/findings.md || { echo "docs/findings.md is old; run make generate"; exit 1; }
	@go run ./cmd/yarnpostd planfile | cmp -s - docs/planfile.md || { echo "docs/planfile.md is old; run make generate"; exit 1; }
	@cd console && npx --no-install openapi-typescript ../api/openapi.json 2>/dev/null | cmp -s - src/api/gen/schema.ts || { echo "console/src/api/gen/schema.ts is old; run make generate"; exit 1; }

unit:
	@test "$$(id -u)" = 0 || echo "Not root: tests with network namespaces are skipped."
	go test -count=1 -timeout 25m -p 1 -parallel 5 ./...
	go test -race -count=1 -run . $(RACED)

generate: console/node_modules/.package-lock.json ## files made from the Go types
	go run ./cmd/yarnpostd openapi > api/openapi.json
	go run ./cmd/yarnpostd findings > docs/findings.md
	go run ./cmd/yarnpostd planfile > docs/planfile.md
	@cd console && npx --no-install openapi-typescript ../api/openapi.json -o src/api/gen/schema.ts

bench: ## speed, as ratios within one run
	@scripts/need postgresql
	@$(MAKE) --no-print-directory console
	go run ./bench
	go test -run '^$$' -bench Week -benchtime 3x ./core/rehearsal
	go test -run '^$$' -bench Scale -benchtime 100x ./core/answer
	go test -run '^$$' -bench Memory -benchtime 1x ./core/lease

SEED ?= 1
SEEDS ?= 1
EVENTS ?= 1000000
OFF ?= 0
sim: ## two servers of a pair against all that can go wrong: SEED, SEEDS, EVENTS; OFF=n without rule n
	@go run ./sim -seed $(SEED) -seeds $(SEEDS) -events $(EVENTS) -off $(OFF)

fuzz: ## each fuzz target for half a minute
	@for t in "core/option FuzzFormat" "core/option FuzzOwnType" "core/dhcp4 FuzzDecode" "core/dhcp6 FuzzDecode" "core/rule FuzzFits" "core/rule FuzzCompile" "core/relay FuzzRelay" "core/answer FuzzNobodyShares" "core/pair/message FuzzDecode" "core/capacity FuzzPredict" "core/capacity FuzzUnpack" "service/httpd FuzzEdits" "planfile FuzzRead" "sheet FuzzRead" "movein FuzzPropose" "service/store FuzzReadBackup"; do set -- $$t; go test ./$$1 -run '^$$' -fuzz $$2 -fuzztime 30s -parallel 1 || exit 1; done

shots: ## pictures of the documentation, from the demo
	@scripts/need postgresql chromium xvfb xterm imagemagick
	@$(MAKE) --no-print-directory build
	@SHOTS=docs/screenshots scripts/demo

clean:
	rm -rf bin .cache console/dist/* console/node_modules
	touch console/dist/.keep

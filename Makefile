# make demo and make test do all the set-up on a fresh machine.

# The newest version of the changelog, and the commit that was built.
VERSION := $(shell sed -n 's/^## \([0-9][0-9.]*\) .*/\1/p' CHANGELOG.md | head -1)$(shell git describe --always --dirty --exclude '*' --abbrev=7 2>/dev/null | sed 's/^/+/;s/-dirty/.changed/')
CONSOLE := $(shell find console/src console/public console/index.html console/package-lock.json console/vite.config.ts -type f 2>/dev/null)
GO := $(shell find cmd internal console -name '*.go' -o -name '*.sql' | grep -v node_modules) go.mod

.PHONY: demo example test soak bench lint build setup types screenshots clean

demo: setup build
	@bin/rillmark demo

example: setup build
	@bin/rillmark demo --example --folder .demo/example

# Packages that are quick enough to be tested with the race detector each time; make
# soak has it on for all, the service that the tests start included.
QUICK := $(addprefix ./internal/,capture/... catalog change definition destination encode expression guard journal jsontext mariadb/... netguard outlet postgres/... shape thrift)

test: setup-tests build
	cd console && npm run --silent test
	go test -race -timeout 10m $(QUICK)
	go test -timeout 75m -parallel 4 $$(go list ./... | grep -vxF "$$(go list $(QUICK))")

soak: build
	@sh scripts/setup.sh --soak
	RILLMARK_RACE=1 RILLMARK_ROUNDS=$${RILLMARK_ROUNDS:-20} go test -race -timeout 12h -count=1 -parallel 4 ./...
	go test -run '^$$' -fuzz FuzzDecode -fuzztime 5m ./internal/postgres/pgoutput
	go test -run '^$$' -fuzz FuzzCursor -fuzztime 5m ./internal/journal
	go test -run '^$$' -fuzz FuzzString -fuzztime 5m ./internal/encode
	go test -run '^$$' -fuzz FuzzLargeRow -fuzztime 5m ./internal/postgres/wire
	go test -run '^$$' -fuzz FuzzDecode -fuzztime 5m ./internal/mariadb/binlog
	go test -run '^$$' -fuzz FuzzRead -fuzztime 5m ./internal/mariadb/statement
	for fuzz in FuzzArray FuzzValue; do go test -run '^$$' -fuzz $$fuzz'$$' -fuzztime 5m ./internal/postgres/canonical || exit 1; done
	go test -run '^$$' -fuzz FuzzNames -fuzztime 5m ./internal/postgres/session
	go test -run '^$$' -fuzz FuzzScan -fuzztime 5m ./internal/jsontext
	go test -run '^$$' -fuzz FuzzAnswers -fuzztime 5m ./internal/mariadb/wire

bench: setup build
	go run ./bench

lint: setup
	@test -z "$$(gofmt -l cmd internal console/*.go test bench scripts)" || { gofmt -l cmd internal console/*.go test bench scripts; echo "run gofmt -w on these"; exit 1; }
	go vet ./...
	go run github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.15.0 run
	cd console && npm run --silent lint

build: bin/rillmark

bin/rillmark: $(GO) console/dist/index.html
	go build -ldflags "-s -w -X rillmark/internal/cli.Version=$(VERSION)" -o bin/rillmark ./cmd/rillmark

console/dist/index.html: $(CONSOLE)
	cd console && npm run --silent build

setup:
	@sh scripts/setup.sh

.PHONY: setup-tests
setup-tests:
	@sh scripts/setup.sh --tests

# The console's types follow the API's description, the documentation's tables of fields
# the definitions themselves.
# The API may have what the console's types have not: its build would fail before.
types: setup
	@test -f console/dist/index.html || $(MAKE) build
	go run ./cmd/rillmark openapi > console/openapi.json
	cd console && npm run --silent types
	go run ./scripts/reference

# With `make demo` running in another terminal.
screenshots:
	go run ./scripts/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/dist/mark.svg

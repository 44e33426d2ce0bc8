# Patient Heron. 'make demo' builds everything and starts the demo; 'make test'
# installs what the tests need and runs all of them.

SHELL := bash
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
SOURCES := $(wildcard $(shell git ls-files '*.go' '*.sql' '*.yaml' go.mod go.sum))
CONSOLE := $(wildcard $(shell git ls-files console | grep -v -e '\.go$$' -e contract.json))

# Where the time goes, for the compiler. Only our own packages are compiled by it: the others
# take a minute, and the tests share them, which do without. What is compiled is kept by the
# name of the profile, so the name is that of its content.
PROFILE := cmd/heron/default.pgo
PROFILED := bin/$(shell sha256sum < $(PROFILE) | head -c 16).profile
BY_PROFILE := -gcflags='patientheron/...=-pgoprofile=$(CURDIR)/$(PROFILED)'

# The router's codec of a format that nothing here speaks takes longer to build than the product.
# Where it is built is not told to who gets it.
export GOFLAGS := $(shell go env GOFLAGS) -tags=nomsgpack -pgo=off -trimpath

# Where goroutines meet; tested with the race detector.
RACED := core/load|patient|client|host|service|storage/iscsi|storage/localfile|served

# Takes as long as it takes, and as many cores as there are.
WHOLE_DEMO := ^TestDemoEndsByItself$$

# There when the tests are over that want the machine to themselves.
ALONE_OVER := $(CURDIR)/bin/alone-is-over

# Of the random trials of long tests an eighth, which the commit chooses, so that all have a turn
# (test/trials); 'make test-long' tries all.
TRIALS ?= $(shell echo $$((0x$$(git rev-parse --short=8 HEAD 2>/dev/null || echo 0) % 8))/8)

.PHONY: build demo test test-long test-whole test-lab check lab bench profile screenshots contract format install-test-needs clean

build: bin/heron

bin/heron: $(SOURCES) $(PROFILED) console/dist/index.html
	go build $(BY_PROFILE) -ldflags '-s -w' -o $@ ./cmd/heron
	@here='$(CURDIR)/$(PROFILED)'; LC_ALL=C sed -i "s#$$here#$$(printf '%*s' $${#here} '' | tr ' ' .)#g" $@ # which the compiler notes

$(PROFILED): $(PROFILE)
	mkdir -p bin && rm -f bin/*.profile
	go tool preprofile -i $< -o $@

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm install --no-save --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	cd console && npm run build

demo: build
	./bin/heron demo

# Debian packages that the tests need: Chromium, file system tools, FUSE.
install-test-needs:
	scripts/install-test-needs

# Many tests wait for clocks: more packages at a time than there are cores. The end-to-end
# tests come one at a time, then those together that bear others beside them, and last the
# whole demo, which takes as many cores as there are. The lab, which holds no time to
# anything, begins when those are over that want the machine to themselves, and takes what
# the others leave.
test: export HERON_TRIALS = $(TRIALS)
test: install-test-needs build check
	go test -vet=off -p 4 $$(go list ./... | grep -v -E '^patientheron/(test/(e2e|lab)|$(RACED))(/|$$)')
	go test -vet=off -race -p 4 $$(go list ./... | grep -E '^patientheron/($(RACED))(/|$$)')
	scripts/install-test-needs lab
	go test -c -o bin/e2e.test ./test/e2e
	go test -c -o bin/lab.test ./test/lab
	rm -f $(ALONE_OVER)
	$(MAKE) -j2 test-whole test-lab

test-long:
	$(MAKE) test TRIALS=0/1

# These take what 'test' has built.
test-whole:
	cd test/e2e && $(SUDO) env HERON_ALONE_OVER=$(ALONE_OVER) HERON_TRIALS=$(HERON_TRIALS) ../../bin/e2e.test -test.timeout=20m -test.parallel=4 -test.skip='$(WHOLE_DEMO)' || { touch $(ALONE_OVER); exit 1; }
	cd test/e2e && $(SUDO) ../../bin/e2e.test -test.timeout=12m -test.run='$(WHOLE_DEMO)'

test-lab:
	timeout 15m bash -c 'until [ -e $(ALONE_OVER) ]; do sleep 1; done'
	cd test/lab && nice ../../bin/lab.test -test.v -test.timeout=22m

check: build
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "not formatted; run 'make format': $$unformatted"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run check
	./bin/heron contract | diff - console/contract.json || { echo "the contract changed; run 'make contract'"; exit 1; }
	cd console && npx openapi-typescript contract.json -o node_modules/contract.gen.ts >/dev/null && diff node_modules/contract.gen.ts src/api/contract.gen.ts

# Real arrays, caches, targets and shares, built in a virtual machine.
lab: build
	scripts/install-test-needs lab
	go test -v -count=1 -timeout 15m ./test/lab

# The API's contract and the console's types, from the Go types.
contract:
	go run ./cmd/heron contract > console/contract.json
	cd console && npm run contract

format:
	gofmt -w $$(git ls-files '*.go')
	cd console && npm run format

bin/bench: build
	scripts/install-test-needs bench
	$(CC) -O2 -Wall -o bin/bare test/bench/bare/bare.c
	$(CC) -O2 -Wall -o bin/bare-files test/bench/bare/files.c
	$(CC) -O2 -Wall -o bin/bare-iscsi test/bench/bare/iscsi.c -liscsi
	go build $(BY_PROFILE) -o $@ ./test/bench

bench: bin/bench
	$(SUDO) ./bin/bench

# Where the time goes, for the compiler; to be made anew when the hot code has changed much.
profile: bin/bench
	$(SUDO) ./bin/bench profile $(PROFILE)

screenshots: build
	scripts/install-test-needs pictures
	go run ./test/pictures bin/heron docs/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules

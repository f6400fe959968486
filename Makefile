# `make demo` shows it, `make check` installs what tests need and passes them all.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
GO ?= go
export CGO_ENABLED := 0

.PHONY: build demo check check-long fast lint unit real tools clean install dist

build:
	$(GO) build -trimpath -ldflags '-s -w -X trimlantern/cli.Version=$(VERSION)' -o trimlantern ./cmd/trimlantern

# Where make install puts the program, its manual pages and completions.
PREFIX ?= /usr/local
DESTDIR ?=

install: build
	packaging/tree.sh ./trimlantern $(DESTDIR)$(PREFIX)

# Static binaries for all systems, a Debian package for two, and their checksums, in dist/. Two builds are equal.
dist:
	packaging/dist.sh $(VERSION)

demo: build
	./trimlantern demo

check: tools lint unit real

# What needs no other program than Go.
fast: lint unit

lint:
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	$(GO) vet ./... && $(GO) vet -tags real ./test/real
	$(GO) tool staticcheck ./... && $(GO) tool staticcheck -tags real ./test/real

unit:
	$(GO) test ./...

# A real content-managed system on a real MariaDB.
real:
	$(GO) test -tags real -count=1 -parallel 3 -timeout 70m ./test/real

# Longer runs: every fuzz target for ten minutes, twelve million values for PHP to
# judge, every store killed 200 times, every charset and connection, 120 runs on a cluster, rules put into 2,000 random server files, speed
# against general tools; and the program builds for other systems.
check-long: check
	GOOS=windows $(GO) build -o /dev/null ./cmd/trimlantern
	GOOS=darwin GOARCH=arm64 $(GO) build -o /dev/null ./cmd/trimlantern
	test/fuzz.sh 10m
	$(GO) test -tags real -count=1 -timeout 60m -run TestPHPJudges -v ./test/real -php-seed 0 -php-values 5000000
	$(GO) test -tags real -count=1 -timeout 120m -run 'TestLayersJudged|TestMutatedJudged|TestMendJudged' -v ./test/real -php-seed 0 -layer-values 10000 -mixed-values 5000000 -mutated-values 100000 -mended-values 100000
	$(GO) test -count=1 -timeout 60m -v ./test/laws -law-values 1000 -law-seed 3 -law-ordinary 1000000
	$(GO) test -tags real -count=1 -timeout 60m -run TestKilledAnywhere -v ./test/real -kills 200
	$(GO) test -tags real -count=1 -timeout 60m -run 'TestCharsetZoo|TestEncodingZoo|TestAnyBytesInSQLite' -v ./test/real -zoo-all -zoo-cells 40 -zoo-seed 77
	$(GO) test -tags real -count=1 -timeout 60m -run TestChromiumJudgesCrossed -v ./test/real -crossed-all
	$(GO) test -tags real -count=1 -timeout 60m -run 'TestGrammarJudged|TestScriptsOfVisitors' -v ./test/real -grammar-pages 800 -grammar-seed 41 -visitor-pages 100
	$(GO) test -tags real -count=1 -timeout 120m -run 'TestLookingAt|TestBrowserResumes|TestSystemCharsets|TestSwitchReal' -v ./test/real -looks-all
	$(GO) test -tags real -count=1 -timeout 60m -run 'TestCluster$$' -v ./test/real -cluster-runs 20
	$(GO) test -tags real -count=1 -timeout 60m -run "TestStockSystem|TestSwitchReal|TestPackage" -v ./test/real -stock-all
	$(GO) test -count=1 -timeout 30m -run TestFleet -v ./test/program -fleet-sites 200
	$(GO) test -tags real -count=1 -timeout 120m -run TestInstallIntoAny -v ./test/real -rule-files 1000 -rule-seed 0
	$(GO) test -tags real -count=1 -timeout 60m -run 'TestDumpOptions|TestPanelExports|TestSystemsDumpIsAStore' -v ./test/real -exports-all
	$(GO) test -tags real -count=1 -timeout 60m -run 'TestAnyScript|TestDumpsOfRandomDatabases' -v ./test/real -sql-scripts 1000 -sql-seed 0 -random-dumps 200
	$(GO) test -count=1 -timeout 60m -run TestFlippedBits -v ./test/program -flips 5000
	$(GO) test -count=1 -timeout 60m -v ./test/cost -cost-pairs 40
	$(GO) test -count=1 -timeout 60m -run TestSignals -v ./test/program -moments 10
	$(GO) test -count=1 -timeout 60m -run "TestFleet$$|TestInterrupted|TestManyAtOnce|TestApply|TestScan|TestRedirect" ./test/program -race-build
	bench/filter.sh 1000 5
	bench/filter.sh 1000 5 common
	bench/filter.sh 1000 5 dense
	bench/patch.sh 1000 5
	bench/stores.sh 1000 5 mariadb
	bench/stores.sh 300 3 postgres sqlite
	bench/scan.sh 20000 3

tools:
	test/install.sh

clean:
	rm -rf trimlantern build

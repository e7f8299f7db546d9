# make demo: the whole story on shipped data.  make test: everything that is tested.
VERSION ?= 0.1.0
COMMIT  := $(shell git rev-parse --short HEAD 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X ironbark/internal/cli.Version=$(VERSION) -X ironbark/internal/cli.Commit=$(COMMIT)
TOOL    := go tool -modfile=tools/go.mod

export CGO_ENABLED = 0

.PHONY: build demo test lint fuzz bench cover mutants screenshots screenshots-check packages truth debian

build: bin/ironbark

# The program that tiny guests start with is a part of ironbark.
GUEST := internal/tinyimage/built/init.gz
$(GUEST): $(shell find cmd/tiny-guest internal/tinyguest internal/seed internal/desktop internal/flow -type f -not -name '*_test.go') go.mod go.sum
	go build -trimpath -ldflags '-s -w' -o bin/tiny-guest ./cmd/tiny-guest
	gzip -9nc bin/tiny-guest >$@

bin/ironbark: $(GUEST) $(shell find cmd internal -type f -not -name '*_test.go') go.mod go.sum
	go build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/ironbark

demo: build
	./bin/ironbark demo

# What the tests run besides Go: Debian's packages. The race detector needs a C compiler.
# OpenSSH's server is unpacked and not installed, so that none begins to run on this host.
packages:
	@for c in qemu-system-x86_64 qemu-img mke2fs gcc sqlite3 unshare nsenter nft sysctl bash puttygen ssh-keygen openssl dot z3 curl ip ssh-audit; do command -v $$c >/dev/null || missing=yes; done; \
		[ -z "$$missing" ] || { apt-get update -q && apt-get install -y -q --no-install-recommends qemu-system-x86 qemu-utils e2fsprogs gcc libc6-dev sqlite3 util-linux nftables procps bash putty-tools openssh-client openssl graphviz z3 curl iproute2 ssh-audit; }
	@[ -x /usr/sbin/sshd ] || [ -x .packages/usr/sbin/sshd ] || { apt-get update -q && apt-get install -y -q --no-install-recommends libwrap0 && mkdir -p .packages && \
		cd .packages && apt-get download -q openssh-server && dpkg -x openssh-server_*.deb . && rm openssh-server_*.deb; }

# Nothing is taken from Go's cache: the tests of cmd/ironbark build the program that they run, of which it knows nothing.
test: packages $(GUEST)
	go test -count=1 -timeout 40m $(TESTFLAGS) ./...
	CGO_ENABLED=1 go test -race ./internal/driver/sim ./internal/driver/memory ./internal/ledger/... ./internal/site -run "Conformance|One|Opening|History|Told"
	CGO_ENABLED=1 go test -race ./internal/gateway -run "Recorded|NothingElse|NoLonger|Dies|Stops"
	IRONBARK_TEST_RACE=yes go test -count=1 -timeout 40m ./cmd/ironbark -run "TestWhatIsToldAsDoneIsThere|TestTwoEnactmentsAtOnce"

# 20,000 real packets through the kernel's packet filter, as root, with ends while both sides send, successors, hostile frames, tables and
# routes of others. make truth KERNEL=6.1 (or 6.12) does so with a kernel of Debian's archive, in a virtual machine.
TRUTH := TheKernelSays|TheKernelTurns|InTheMiddle|TestWhatEnds|TestASuccessor|TestAnyMeans|TestErrorsPass|TestWithoutItsTables|TestOneMachine|TestRates|TestTwoFronts|TestWhatElse|TestAStartPuts
truth: packages $(GUEST)
ifdef KERNEL
	for c in busybox depmod cpio; do command -v $$c >/dev/null || apt-get install -y -q --no-install-recommends busybox-static kmod cpio; done
	tools/truth-in-guest $(KERNEL)
else
	IRONBARK_TRUTH=20000 go test -count=1 ./internal/driver/linux -run "$(TRUTH)" -v -timeout 30m
	go test -count=1 ./cmd/ironbark -run "ClientsOutside|TheHostIsClosed|WhatDrifts" -v
endif

# The story of a Debian image, which takes some minutes to make and to boot.
debian: packages $(GUEST)
	command -v mmdebstrap >/dev/null || apt-get install -y -q --no-install-recommends mmdebstrap
	IRONBARK_TEST_SCRIPTS=testdata/slow go test -count=1 ./cmd/ironbark -run TestScripts -v -timeout 40m

lint:
	test -z "$$(gofmt -l .)"
	test -z "$$($(TOOL) gofumpt -l .)"
	go vet ./...
	$(TOOL) staticcheck -checks all,-ST1000 ./...
	go mod tidy -diff

# Each fuzz target for a minute.
fuzz:
	go test ./internal/sentence -run xxx -fuzz FuzzParse -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/sentence -run xxx -fuzz FuzzArgs -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/flow -run xxx -fuzz FuzzRows -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/estate -run xxx -fuzz FuzzRead -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/imagefile -run xxx -fuzz FuzzRead -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/seed -run xxx -fuzz FuzzRead -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/flow -run xxx -fuzz FuzzBinary -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/change -run xxx -fuzz FuzzDecode -fuzztime 1m -fuzzminimizetime 1s
	go test ./internal/clientnet -run xxx -fuzz FuzzPacket -fuzztime 1m -fuzzminimizetime 1s

# Which lines the scripts run, and the tests of packages, each by itself and both together.
cover: packages $(GUEST)
	rm -rf .cover && mkdir -p .cover/scripts .cover/packages
	IRONBARK_TEST_COVER=$(CURDIR)/.cover/scripts go test ./cmd/ironbark -run TestScripts -count 1
	go test -count 1 -cover -coverpkg=./... ./internal/... -args -test.gocoverdir=$(CURDIR)/.cover/packages >/dev/null
	for part in scripts packages; do go tool covdata textfmt -i .cover/$$part -o .cover/$$part.txt; done
	go tool covdata textfmt -i .cover/scripts,.cover/packages -o .cover/all.txt
	@for part in scripts packages all; do printf '%-9s' $$part; go tool cover -func .cover/$$part.txt | tail -1 | awk '{print $$NF}'; done
	@echo; go tool covdata percent -i .cover/scripts,.cover/packages

# What the tests of each core package let live that is changed in it: LIVED was run by them, NOT COVERED was not.
CORE := opening cost flow/span exposure findings bastion rights change flow sentence estate timeline syslog journal
mutants:
	for p in $(CORE); do GOFLAGS=-exec=$(CURDIR)/tools/without-shrinking $(TOOL) gremlins unleash --timeout-coefficient 8 ./internal/$$p || exit 1; done

bench: build packages
	go test ./cmd/ironbark ./internal/... -run xxx -bench . -benchmem

screenshots: build
	docs/screenshots/make

screenshots-check: build
	docs/screenshots/make --check

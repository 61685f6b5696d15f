# Keen Lodge. "make demo" and "make test" do all the set-up on a fresh Debian 12 with Go and Node.
SHELL := /bin/bash
# Zstandard is compiled with the program; docs/benchmarks.md has what -O3 is worth.
export CGO_CFLAGS := -O3 -g0
SUDO := $(if $(filter 0,$(shell id -u)),,sudo)
PACKAGES := postgresql qemu-system-x86 qemu-utils seabios qemu-guest-agent libvirt-daemon libvirt-daemon-driver-qemu libvirt-clients \
	tzdata linux-image-cloud-amd64 busybox-static cpio kmod e2fsprogs fdisk grub-pc-bin grub-efi-amd64-bin grub-common ipxe-qemu fuse3 mount openssh-server gcc libc6-dev python3 python3-zstandard python3-cryptography ovmf swtpm swtpm-tools dosfstools mtools xfsprogs btrfs-progs chromium fonts-dejavu-core zstd libarchive-tools git mariadb-server debootstrap hyperfine time ntfs-3g xorriso squashfs-tools lvm2 mdadm cryptsetup-bin apache2 proftpd-core proftpd-mod-crypto openssl samba
GO_FILES := $(shell find cmd internal demo packaging -name '*.go' -o -name '*.sql' -o -name '*.sh' -o -name '*.yaml' -o -name '*.service' -o -path '*/ready/*') go.mod go.sum
WEB_FILES := $(shell find web -path web/node_modules -prune -o -type f -print)

.PHONY: faults trials media rescue mutants schema help setup build demo test test-unit fresh lint fmt bench fuzz clean
help: ## list the targets
	@awk -F ':.*## ' '/^[a-z]+:.*## /{printf "  make %-8s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

setup: ## install the Debian packages that are missing
	@missing=$$(for p in $(PACKAGES); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'install ok installed' || echo $$p; done); \
	if [ -n "$$missing" ]; then echo "installing $$missing"; $(SUDO) apt-get update -qq && \
	$(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing > /tmp/keenlodge-apt.log \
	|| { tail -20 /tmp/keenlodge-apt.log; exit 1; }; fi

build: bin/keenlodge ## build the program with its console in it

web/node_modules/.stamp: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --silent
	@touch $@

internal/console/dist/index.html: web/node_modules/.stamp $(WEB_FILES)
	rm -rf internal/console/dist/assets && cd web && npm run --silent build
	@touch $@

bin/keenlodge: internal/console/dist/index.html $(GO_FILES)
	go build -o $@ ./cmd/keenlodge

demo: setup build ## show it all on real guests; ONCE=1 ends when every step held
	$(SUDO) ./bin/keenlodge demo $(if $(ONCE),--once)

test: setup build ## run every test, on real guests too
	@$(MAKE) --no-print-directory -j2 --output-sync=target rooms whole

# Guests wait most of the time, and what they leave of the processors is enough for the rooms' own tests, which stand back for them.
.PHONY: rooms whole
rooms: lint fresh # each room's own tests, and the console's
	cd web && npm run --silent check
	$(SUDO) env "PATH=$$PATH" nice -n 10 go run ./internal/records/recordstest/share go test -p 2 -count=1 -timeout 25m $$(go list ./... | grep -v /e2e$$)

whole: # the program as a whole
	$(SUDO) env "PATH=$$PATH" KEENLODGE_PROGRAM=$(CURDIR)/bin/keenlodge go test -count=1 -timeout 20m ./e2e

test-unit: internal/console/dist/index.html ## run each room's own tests, the long ones cut short; needs no guests and no root
	@cd web && npm run --silent check & web=$$!; \
	go run ./internal/records/recordstest/share go test -short -count=1 -p 4 -vet=off -timeout 5m $$(go list ./internal/... | grep -Ev 'medium/s|/lodge$$') && wait $$web # the parts put together, and servers, are in make test

fresh: bin/keenlodge # what was generated is as what it was generated from
	@./bin/keenlodge openapi > bin/openapi.json && cd web && npx openapi-typescript ../bin/openapi.json -o ../bin/schema.d.ts > /dev/null && \
	npx prettier --stdin-filepath src/schema.d.ts < ../bin/schema.d.ts | cmp -s - src/schema.d.ts || { echo "web/src/schema.d.ts is stale; run: make schema"; exit 1; }

schema: bin/keenlodge ## write the console's types anew from the HTTP interface
	./bin/keenlodge openapi > bin/openapi.json
	cd web && npm run --silent schema > /dev/null && npx prettier --write --log-level warn src/schema.d.ts

lint: ## formatting and vet
	@test -z "$$(gofmt -l cmd internal demo e2e bench)" || { gofmt -l cmd internal demo e2e bench; echo "run: make fmt"; exit 1; }
	go vet ./...
	go tool staticcheck ./...

fmt: ## format the code
	gofmt -w cmd internal demo e2e bench
	cd web && npm run --silent fmt

fuzz: ## fuzz every parser for a while (FUZZTIME=30s each; an hour for all is 4m); what is found is kept in testdata
	@for t in $$(grep -rlE '^func Fuzz' --include=*_test.go internal); do for f in $$(grep -oE '^func Fuzz[A-Za-z]+' $$t | cut -c6-); do \
	echo "$$t $$f"; go test -run '^$$' -fuzz "^$$f$$" -fuzzminimizetime 1x -fuzztime $${FUZZTIME:-30s} ./$$(dirname $$t) || exit 1; done; done

faults: setup build ## an hour of faults at calls, bytes and objects that are drawn, from KEENLODGE_SEED on (CUTS=1500 DAMAGE=5000 SEEDS=300 KILLS=150)
	@seed=$${KEENLODGE_SEED:-$$(date +%s)}; echo "from seed $$seed"; export KEENLODGE_SEED=$$seed; set -e; \
	KEENLODGE_CUTS=$${CUTS:-1500} go run ./internal/records/recordstest/share go test -count=1 -timeout 24h -v -run TestAnyFate ./internal/lodge; \
	KEENLODGE_DAMAGE=$${DAMAGE:-5000} go test -count=1 -timeout 24h -v -run TestAnyDamage ./internal/store/pooled ./internal/store/open; \
	KEENLODGE_SEEDS=$${SEEDS:-300} go test -count=1 -timeout 24h -v -run TestAnyInterleaving ./internal/store/pooled; \
	$(SUDO) env "PATH=$$PATH" KEENLODGE_SEED=$$seed KEENLODGE_KILLS=$${KILLS:-150} KEENLODGE_PROGRAM=$(CURDIR)/bin/keenlodge go test -count=1 -timeout 24h -v -skip "TestTrialsThatAreKilled|TestADatabaseUnderLoad" ./e2e; \
	KEENLODGE_KILLS=1 go test -count=1 -run "TestAnOrphanedGuest|TestAnEncryptedRoot|TestFitting" ./internal/reader/inside

trials: setup build ## kill trials of images at random moments, from KEENLODGE_SEED on, and look for what stays behind (TRIALS=200; about 26 s each); then start images of a database under load (DATABASES=20; about 2 min each)
	$(SUDO) env "PATH=$$PATH" KEENLODGE_TRIALS=$${TRIALS:-200} KEENLODGE_DATABASES=$${DATABASES:-20} KEENLODGE_PROGRAM=$(CURDIR)/bin/keenlodge go test -count=1 -timeout 24h -v -run "TestTrialsThatAreKilled|TestADatabaseUnderLoad" ./e2e

media: ## a hundred thousand objects on every medium
	$(SUDO) env "PATH=$$PATH" KEENLODGE_MEDIA=1 go test -count=1 -timeout 2h -v -run TestConformance ./internal/store/medium/...

rescue: setup build ## get machines back from media in every way that there is: disc, stick and network, BIOS and UEFI, disks as before and larger, by a lodge and by a store alone (about 20 min)
	$(SUDO) env "PATH=$$PATH" KEENLODGE_RESCUE=1 KEENLODGE_PROGRAM=$(CURDIR)/bin/keenlodge go test -count=1 -timeout 3h -v -run TestEveryRescue ./e2e

bench: setup build ## measure against general tools, and make docs/benchmarks.md of it (SECTIONS="whole …" for some)
	$(SUDO) env "PATH=$$PATH" KEENLODGE_PROGRAM=$(CURDIR)/bin/keenlodge go run ./bench $(SECTIONS)

mutants: ## show what share of random one-token changes a room's tests catch (ROOMS="./internal/nbd …" N=20)
	go run ./internal/records/recordstest/share go run ./bench/mutants -n $${N:-20} $${ROOMS:-$$(go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}}{{end}}' ./internal/core/...) ./internal/nbd ./internal/lodge}

clean: ## remove what was built
	rm -rf bin web/node_modules internal/console/dist/assets internal/console/dist/index.html

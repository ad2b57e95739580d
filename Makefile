# Dowsing Rod. `make help` lists what there is.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := help

PORT ?= 7465
PG    = postgresql-15=/usr/lib/postgresql/15/bin/initdb
WEB   = chromium=chromium
XTERM = xvfb=xvfb-run xauth=xauth xterm=xterm imagemagick=import fonts-dejavu-core=/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf

RIG   = libvirt-daemon=/usr/sbin/libvirtd libvirt-clients=virsh qemu-system-x86=qemu-system-x86_64 qemu-utils=qemu-io \
        libvirt-daemon-driver-storage-iscsi-direct=/usr/lib/*/libvirt/storage-backend/libvirt_storage_backend_iscsi-direct.so \
        qemu-block-extra=/usr/lib/*/qemu/block-iscsi.so tgt=/usr/sbin/tgtd fuse3=fusermount3 cpio=cpio \
        linux-image-cloud-amd64=/boot/vmlinuz-*-cloud-amd64

console_sources := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/package.json
go_sources := $(shell find cmd core internal console -name '*.go' -not -path '*/node_modules/*') $(wildcard internal/store/migrations/*.sql) go.mod

.PHONY: help demo demo-reset build test lint generate screenshots bench bench-real score dev clean

help: ## what there is
	@awk -F ':.*## ' '/^[a-z-]+:.*## / {printf "  make %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

demo: ## everything on loopback with the demo estate; PORT=7466 chooses another port
	@scripts/need $(PG)
	@$(MAKE) --no-print-directory -s build
	@exec bin/dowse demo --port $(PORT)

demo-reset: ## forget the demo's data and start over
	@scripts/need $(PG)
	@$(MAKE) --no-print-directory -s build
	@exec bin/dowse demo --port $(PORT) --reset

build: bin/dowse ## the console and bin/dowse

console/node_modules/.package-lock.json: console/package-lock.json
	@echo "Installing the console's packages …"
	@cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(console_sources)
	@echo "Building the console …"
	@cd console && rm -rf dist/assets && npx vite build --logLevel warn && touch dist/.keep dist/index.html

bin/dowse: console/dist/index.html $(go_sources)
	@echo "Building bin/dowse …"
	@go build -o $@ ./cmd/dowse

test: ## every test: core, store, service, interface, command line, console
	@scripts/need $(PG) $(WEB)
	@scripts/need $(RIG) || echo "Tests on running machines are left out: they need the packages named above."
	@$(MAKE) --no-print-directory -s build
	@cd console && npx vitest run --reporter=default --reporter=json --outputFile=node_modules/.vitest.json
	@{ go test -timeout 20m -json $$(go list ./... | grep -v /internal/trial) || failed=1; \
	   go test -timeout 20m -json ./internal/trial || failed=1; exit $${failed:-0}; } | go run ./internal/tally -vitest console/node_modules/.vitest.json

lint: build ## go vet, staticcheck, gofmt, Biome, TypeScript
	@go vet ./...
	@go tool staticcheck ./...
	@test -z "$$(gofmt -l cmd core internal console/*.go)" || { echo "gofmt would change:"; gofmt -l cmd core internal console/*.go; exit 1; }
	@cd console && npx biome check --error-on-warnings . && npx tsc --noEmit
	@echo "Nothing to complain about."

generate: console/node_modules/.package-lock.json ## the interface's description and the console's types, from the Go types
	@go run ./cmd/dowse openapi > console/openapi.json.new && mv console/openapi.json.new console/openapi.json
	@cd console && npx openapi-typescript openapi.json -o src/model/api.gen.ts

screenshots: ## the pictures in docs/screenshots, from a fresh demo
	@scripts/need $(PG) $(WEB) $(XTERM)
	@$(MAKE) --no-print-directory -s build
	@go run ./internal/screens

bench: ## side-by-side measurements: BENCH lines
	@scripts/need $(PG) $(WEB)
	@$(MAKE) --no-print-directory -s build
	@scripts/need $(RIG) || echo "The measurements that need a libvirt daemon are left out."
	@go run ./internal/measure bench

bench-real: ## running machines on a real iSCSI target; HOLD=hold goes on serving, PICTURES=dir takes pictures
	@scripts/need $(PG) $(WEB) $(RIG)
	@$(MAKE) --no-print-directory -s build
	@PICTURES=$(PICTURES) go run ./internal/measure real $(HOLD)

score: ## the diagnosis held against the lab's truth: SCORE lines
	@scripts/need $(PG)
	@go run ./internal/measure score

dev: build ## the demo with a console that reloads as you edit it
	@scripts/need $(PG)
	@bin/dowse demo --port $(PORT) & demo=$$!; trap 'kill $$demo; wait $$demo' EXIT; \
	cd console && DOWSE_SERVICE=http://127.0.0.1:$(PORT) npx vite --port 5173 --strictPort --host 127.0.0.1

clean: ## what was built
	@rm -rf bin console/dist/assets console/dist/index.html console/dist/favicon.svg console/node_modules

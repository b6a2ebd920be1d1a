# make demo    make what is missing, load the demo platform, and serve it
# make test    everything that must hold, browser tests included
# make test-desktop  an ODBC driver and a spreadsheet, whose packages are heavy
# make build   the service with the console embedded, at bin/gneiss
# make lint    formatting and static checks of all code
# make check   lint, test, and the core under the race detector, as CI does
# make bench   the cost of the hot paths, as ratios in one run
# make figures writes what the short benchmarks come to, with which CI compares
# make race    all packages under the race detector
# make fuzz    each fuzz target, for FUZZ (30s)
# make soak    clients, kills and a full disk, for SOAK (5m)
# make mutants each mechanism taken out: a test must fail of it
# make suites  the drivers' own tests, on a server and on the port
# make deep    all that takes hours, with a new seed
# make leaks   the proofs that nothing leaks, on LEAKS (100000) random cases
# make reference  docs/reference.md, from the code
# make sbom    the parts of the service and the console (CycloneDX), in sbom/
# make shots   the pictures in docs/screenshots

# More than ten SQLite files can be attached to one connection.
export CGO_ENABLED = 1
SQLITE = -g0 -DSQLITE_MAX_ATTACHED=125 -DSQLITE_ENABLE_QPSG -DSQLITE_DEFAULT_MEMSTATUS=0
export CGO_CFLAGS = -O2 $(SQLITE)

# The same for all, so that what is compiled for one serves the others.
export GOFLAGS = -trimpath

DATA ?= demo-data
LISTEN ?= 127.0.0.1:7464
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

GO_FILES := $(shell find . -name '*.go' -not -path './web/node_modules/*') go.mod go.sum $(wildcard store/*/*.sql)
WEB_FILES := $(shell find web/src web/public -type f) web/index.html web/vite.config.ts web/package-lock.json


.PHONY: build test test-desktop clients check lint race race-core fuzz mutants suites deep soak leaks bench figures figures-check demo shots types reference sbom clean postgresql packages

build: bin/gneiss

bin/gneiss: web/dist/index.html $(GO_FILES)
	go build -o $@ ./cmd/gneiss

web/dist/index.html: web/node_modules/.package-lock.json $(WEB_FILES)
	rm -rf web/dist/assets
	cd web && npx vite build --logLevel warn
	@touch $@

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund
	@touch $@

demo: bin/gneiss
	./bin/gneiss demo --data $(DATA) --listen $(LISTEN)

test: build /usr/bin/chromium postgresql clients
	go test -p $$(( $$(nproc) + 1 )) -timeout 20m ./...

# The browser tests drive Debian's Chromium; the model and the queries are compared with
# a PostgreSQL server of Debian's, which the tests start themselves. Who may not install
# packages is told which are missing.
/usr/bin/chromium:
	@command -v chromium >/dev/null || $(MAKE) --no-print-directory packages PACKAGES="chromium fonts-dejavu-core"

postgresql:
	@ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || $(MAKE) --no-print-directory packages PACKAGES="postgresql"

# The clients that people use, for the tests of the SQL port: Debian's, and npm's for JavaScript.
CLIENTS = postgresql-client libpostgresql-jdbc-java python3-psycopg2 python3-sqlalchemy
clients: sqlport/testdata/node/node_modules/.package-lock.json
	@command -v javac >/dev/null || $(MAKE) --no-print-directory packages PACKAGES="default-jdk-headless"
	@command -v psql >/dev/null && [ -e /usr/share/java/postgresql.jar ] && /usr/bin/python3 -c 'import psycopg2, sqlalchemy' 2>/dev/null || \
	  $(MAKE) --no-print-directory packages PACKAGES="$(CLIENTS)"

sqlport/testdata/node/node_modules/.package-lock.json: sqlport/testdata/node/package-lock.json
	cd sqlport/testdata/node && npm ci --no-audit --no-fund --ignore-scripts
	@touch $@

# What people have on their desks, whose packages are heavy: an ODBC driver and a spreadsheet.
DESKTOP = odbc-postgresql unixodbc libreoffice-calc libreoffice-base libreoffice-sdbc-postgresql python3-uno
test-desktop: postgresql
	@command -v isql >/dev/null && command -v soffice >/dev/null && [ -e /usr/lib/libreoffice/program/libpostgresql-sdbclo.so ] || \
	  $(MAKE) --no-print-directory packages PACKAGES="$(DESKTOP)"
	GNEISS_DESKTOP=1 go test ./sqlport -run Desktop -count 1 -timeout 10m

packages:
	@[ "$$(id -u)" = 0 ] || { echo "The tests need packages that are not installed. As root: apt-get install $(PACKAGES)"; exit 1; }
	@apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(PACKAGES) >/dev/null

lint: web/node_modules/.package-lock.json
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "gofmt:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go run $(STATICCHECK) ./...
	cd web && npm run --silent check

# What CI runs: the tests, static checks, the core under the race detector, and a short
# benchmark beside the last figures.
check: lint test race-core figures-check

# Under the detector all is compiled once more, SQLite too, which takes longer than to run it slowly.
race-core: export CGO_CFLAGS = -O0 $(SQLITE)
race-core:
	go test -race ./core/... ./store/...

bench: build
	go test -run XXX -bench . -benchtime 1s -timeout 60m ./core/... ./source/... ./service/... ./cmd/gneiss

figures:
	go test . -run TestFigures -figures update -count 1

figures-check:
	go test . -run TestFigures -figures check -count 1

race: web/dist/index.html postgresql
	go test -race -timeout 60m $$(go list ./... | grep -v /web$$)

FUZZ ?= 30s
fuzz: web/dist/index.html
	@for target in core/emit:FuzzMake core/query:FuzzPhrases core/access:FuzzParsePath core/classify:FuzzLook service/admin:FuzzRoster \
	  source/postgres:FuzzURL sqlport:FuzzProtocol cmd/gneiss:FuzzSettings api:FuzzRequests; do \
	  echo "$$target"; go test ./$${target%%:*} -run XXX -fuzz "^$${target##*:}$$" -fuzztime $(FUZZ) || exit 1; done

# Each mechanism is taken out, and its test must fail.
mutants: web/dist/index.html postgresql
	go test . -run TestMutants -mutants -count 1 -timeout 4h -v | grep -v '^=== '

# The drivers' own tests, on a server and on the port: what differs is a list that only gets shorter.
suites: web/dist/index.html postgresql
	go test ./sqlport -run TestOthersSuites -suites -count 1 -timeout 30m -v

# What takes hours, with seeds of its own, which it prints: before a release, and whenever a machine is free.
SEED ?= $(shell date +%s)
deep: race fuzz leaks soak mutants suites
	@echo "seed $(SEED)"
	go test ./source -run 'RandomStatements|NoLeak|TheServersOwnAnswers|GrammarIsCovered' -questions 20000 -leak.cases 20000 -leak.seed $(SEED) -timeout 4h
	go test ./source -run CostGrows -leak.allpairs -timeout 1h
	go test ./sqlport -run RandomSessions -sessions 20000 -sessions.seed $(SEED) -timeout 4h

SOAK ?= 5m
soak: web/dist/index.html
	go test ./cmd/gneiss -run 'Soak|FullDisk' -soak $(SOAK) -timeout 24h -v -count 1

LEAKS ?= 100000
leaks: postgresql
	go test ./source -run 'NoLeak|Pairs' -leak.cases $(LEAKS) -leak.allpairs -timeout 24h -v -count 1

# The console's types come from the document that the API serves.
types: web/node_modules/.package-lock.json
	go run ./api/document > web/openapi.json
	cd web && npm run --silent types

shots: build /usr/bin/chromium
	go test ./web -run TestShots -shots $(CURDIR)/docs/screenshots -count 1

clean:
	rm -rf bin web/dist/assets web/dist/index.html web/dist/*.svg

reference:
	go test . -run TestReference -update

SBOM = github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.10.0
sbom: web/node_modules/.package-lock.json
	@mkdir -p sbom
	go run $(SBOM) mod -json -licenses -output sbom/service.json
	cd web && npm sbom --sbom-format cyclonedx > ../sbom/console.json

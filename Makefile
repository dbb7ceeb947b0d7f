# Two commands do all the set-up: `make demo` and `make test`.
# Both need Rust and Node; everything else they install themselves.

CARGO ?= cargo
BIN := target/release/mizuno
export SQLX_OFFLINE := true

.PHONY: demo test test-tools console build bench bench-data-frame check-by-data-frame check-random check-chains check-sql load soak fuzz kill-campaign lint fmt openapi queries clean-demo

## Start the simulated world and the service with demo data, and print the address.
demo: build
	./$(BIN) demo

build: console
	$(CARGO) build --release --bin mizuno

## The console's files, built when its sources are newer.
console: console/dist/index.html

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts $(shell find console/src console/public -type f)
	cd console && npm run --silent build -- --logLevel warn
	@touch $@

## Everything through Cargo's test runner, the console in headless Chromium included.
test: console test-tools
	$(CARGO) test --release --workspace

test-tools:
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || \
	  (apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium chromium-driver)

## What .ci/run refuses: formatting, lints, types.
lint: console
	$(CARGO) fmt --all --check
	$(CARGO) clippy --release --workspace --all-targets -- -D warnings
	cd console && npm run --silent check

fmt:
	$(CARGO) fmt --all

## Speed and size as ratios, measured in one run against a row-per-bar table.
bench: console
	$(CARGO) bench --bench decode
	$(CARGO) bench --bench figures
	$(CARGO) bench --bench desk
	$(CARGO) bench --bench serving
	$(CARGO) bench --bench picking
	$(CARGO) bench --bench belonging
	$(CARGO) bench --bench editions
	$(CARGO) bench --bench load

## The bench of serving with the same work done by a data-frame script beside it, in an environment of its own.
bench-data-frame: console
	python3 -m venv target/data-frame && target/data-frame/bin/pip install -q pandas
	MIZUNO_DATA_FRAME=$(CURDIR)/target/data-frame/bin/python $(CARGO) bench --bench serving

## Adjusted prices and coarser bars of a demo that runs, held against pandas to the last digit.
check-by-data-frame:
	python3 -m venv target/data-frame && target/data-frame/bin/pip install -q pandas
	target/data-frame/bin/python tools/adjusted_by_data_frame.py http://127.0.0.1:7400

## A thousand random series (SERIES=1000 SEED=1), worked out once more by a script with exact fractions; some four minutes.
check-random: build
	python3 tools/random_world.py ./$(BIN) $(or $(SERIES),1000) $(or $(SEED),1)

## Fifty futures chains of ten years and a universe, worked out once more (PRODUCTS=50 SEED=1).
check-chains: build
	python3 tools/random_chains.py ./$(BIN) $(or $(PRODUCTS),50) $(or $(SEED),1)

## Questions as SQL, asked of engines that read a published edition, held against our own answers row by row; four minutes. SPARK=1 asks Spark,
## too, which needs Java.
check-sql: build
	python3 -m venv target/sql && target/sql/bin/pip install -q datafusion duckdb pyarrow $(if $(SPARK),pyspark)
	target/sql/bin/python tools/sql_by_engine.py ./$(BIN)

## Two thousand instruments through a source that allows 6,000 calls a minute; eighty seconds.
load: console
	$(CARGO) bench --bench load

## Ten sessions with every fault, with and without kills.
soak: console
	MIZUNO_SOAK_DAYS=14 $(CARGO) test --release --workspace --test collecting -- soak:: odd:: --nocapture

## Every decoder against many more made-up answers than in `make test`.
fuzz:
	MIZUNO_FUZZ=20000 $(CARGO) test --release --workspace --test sources -- shapes:: decode::

## Longer campaigns of kills than those in `make test`: of loads, and of editions that are made, published and copied.
kill-campaign: console
	MIZUNO_KILLS=200 $(CARGO) test --release --workspace --test collecting -- kill:: --nocapture
	MIZUNO_KILLS=100 $(CARGO) test --release --workspace --test editions killed -- --nocapture

## The OpenAPI document and the console's types, after the network interface has changed.
openapi: build
	./$(BIN) openapi > docs/openapi.json
	cd console && npm run --silent types

## The committed metadata of the SQL queries, after one has changed (needs the sqlite3 shell).
queries:
	rm -rf target/queries.db crates/store/.sqlx && mkdir -p crates/store/.sqlx target
	cat crates/store/migrations/*.sql | sqlite3 target/queries.db
	touch crates/store/src/lib.rs
	SQLX_OFFLINE=false DATABASE_URL=sqlite:$(CURDIR)/target/queries.db SQLX_OFFLINE_DIR=$(CURDIR)/crates/store/.sqlx \
	  $(CARGO) check --release -p mizuno-store

clean-demo:
	rm -rf demo-data

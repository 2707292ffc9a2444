# What people and CI run. Each target installs what it misses (scripts/install.sh).
.PHONY: demo test cluster quick check bench bench-pages soak truth assets shots ratio docs

reef := .venv/bin/reef
python := .venv/bin/python

demo:            ## start everything with the demo brands; Ctrl-C stops it
	@scripts/install.sh run
	@exec $(reef) up --demo

test:            ## all checks and tests but those of several machines, on a database and ports of their own
	@scripts/install.sh dev
	@$(MAKE) --no-print-directory check
	@$(python) -m pytest -m "not cluster" -n 2 --dist loadfile

cluster:         ## the tests of several machines: three databases as one, a queue in Redis, a shared folder
	@scripts/install.sh cluster
	@$(python) -m pytest -m cluster tests/faults

quick:           ## what can be tested without a database or a browser: under a minute
	@scripts/install.sh quick
	@$(python) -m pytest tests/core tests/formats tests/sim tests/analysis tests/views tests/test_project.py -m "not slow" -n 2 --dist worksteal

check:           ## format, lint, types, import contracts, templates, built assets, docs
	@scripts/install.sh dev
	.venv/bin/ruff format --check src tests scripts benchmarks
	.venv/bin/ruff check src tests scripts benchmarks
	.venv/bin/mypy
	PYTHONPATH=src .venv/bin/lint-imports --no-logo
	.venv/bin/djlint src/nimbus_reef/web/templates --lint --quiet
	$(python) scripts/assets.py --check

bench:           ## measure against the bare floors; writes docs/benchmarks.md
	@scripts/install.sh dev
	PYTHONPATH=src:. $(python) benchmarks/run.py --write

bench-pages:     ## measure every page on the account at size (made anew in var/large: minutes)
	REEF_VAR=var/large .venv/bin/reef demo --size large
	REEF_VAR=var/large PYTHONPATH=src:. $(python) benchmarks/pages.py --write

soak:            ## 50 people at once for ten minutes, loads and exports between; writes docs/reliability.md
	@scripts/install.sh dev
	PYTHONPATH=src:. $(python) benchmarks/soak.py --write

truth:           ## the audit's judgement against the simulator's truth; writes docs/judgement.md, docs/before-keywords.md, docs/bids.md, docs/quarter.md, docs/reach.md, docs/mapping.md, docs/outcome.md
	@scripts/install.sh dev
	PYTHONPATH=src:. $(python) benchmarks/truth.py --write
	PYTHONPATH=src:. $(python) benchmarks/before_keywords.py --write
	PYTHONPATH=src:. $(python) benchmarks/bids.py --write
	PYTHONPATH=src:. $(python) benchmarks/quarter.py --write
	PYTHONPATH=src:. $(python) benchmarks/reach.py --write
	PYTHONPATH=src:. $(python) benchmarks/reach_sent.py --write
	PYTHONPATH=src:. $(python) benchmarks/mapping.py --write
	PYTHONPATH=src:. $(python) benchmarks/outcome.py --write

assets:          ## build styles, scripts and fonts into static/ (needs npm)
	npm ci --ignore-scripts
	npm run build
	$(python) scripts/assets.py --stamp

shots:           ## pictures of the main views of a running demo: make shots PASSWORD=...
	@scripts/install.sh dev
	$(python) scripts/shots.py http://127.0.0.1:$${REEF_PORT:-8800} $(PASSWORD)

docs:            ## docs that are made from the code
	PYTHONPATH=src $(python) scripts/settings_docs.py
	PYTHONPATH=src $(python) scripts/contract_docs.py
	PYTHONPATH=src $(python) scripts/glossary_docs.py

ratio:           ## how much of the code is tests
	@$(python) scripts/ratio.py

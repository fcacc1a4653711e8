# `make check` is what CI runs; the others are its parts, in a virtual environment that you have activated.
.PHONY: check quick test deep docs benchmarks
check:
	bash .ci/run
quick:
	ruff format --check . && ruff check . && lint-imports && mypy && pytest -q -n auto
test:
	pytest -q -n auto
deep:
	LARKREADER_TESTS=deep pytest -q -n auto --durations=40 --timeout 0
	python tools/fuzz.py --count 1000000000 --seconds 60 --seed $$(date +%j)
	python tools/endure.py --seconds 600
docs:
	sphinx-build -W --keep-going -q -b html docs docs/_build
benchmarks:
	cd benchmarks && for name in bench_*.py; do python $$name; done

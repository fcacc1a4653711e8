# `make check` is what CI runs; the others are its parts, in a virtual environment that you have activated.
.PHONY: check quick test benchmarks
check:
	bash .ci/run
quick:
	ruff format --check . && ruff check . && lint-imports && mypy && pytest -q
test:
	pytest -q
benchmarks:
	cd benchmarks && for one in bench_*.py; do python $$one; done

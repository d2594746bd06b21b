"""Scripts that measure; `make bench` runs them all. How and what: benchmarks/README.md."""

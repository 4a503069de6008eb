"""Speed as ratios within one run: ``python -m benchmarks``."""

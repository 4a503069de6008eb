"""Speed as ratios within one run: ``python -m benchmarks``.  docs/performance.md says what is measured, and by what."""

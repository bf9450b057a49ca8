"""Benchmarks: ratios against a named baseline in the same run. See docs/benchmarks.md."""

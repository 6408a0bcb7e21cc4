"""Measurements: what Yatagan does against a bare reference in the same run. See `python -m benchmarks --help`."""

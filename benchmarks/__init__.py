"""Benchmarks: our time over the codec's own raw time, in the same run."""

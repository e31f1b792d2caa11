"""Metrics score a test picture against its reference; gauges read one picture alone."""

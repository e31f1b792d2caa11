"""The hot paths, each beside its yardstick."""

"""Pictures and sidecars on disk."""

"""Self-test of an installation: closed forms and published values, computed on this machine."""

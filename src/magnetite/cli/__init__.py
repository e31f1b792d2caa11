"""The command line: one module per command, each a thin layer over the library."""

from magnetite.cli.main import main

__all__ = ["main"]

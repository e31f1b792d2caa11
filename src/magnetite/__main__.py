"""`python -m magnetite` is `magnetite`."""

from magnetite.cli import main

main()

"""Methods of the user's own: shell commands declared in a file, run without a shell."""

from magnetite.external.declarations import declare

__all__ = ["declare"]

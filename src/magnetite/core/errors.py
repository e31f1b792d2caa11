"""Every error that is raised on purpose.

    MagnetiteError
    ├── TargetError               no setting reaches the aim; the command line exits with 1
    └── InputError (ValueError)   something given is wrong; the command line exits with 2
        ├── ChainError            ... in the text of a step or a chain
        ├── PictureError          ... in a picture: size, colour, bit depth, values
        ├── StreamError           ... in the bytes of a compressed picture
        ├── FileError             ... with a file: missing, damaged, not writable
        │   └── LimitError        ... its picture is larger than is read
        └── CommandError          ... with a command of the user's own

A message is one line: the fault, its position, and the remedy.
"""

from collections.abc import Iterable


class MagnetiteError(Exception):
    """Base of all errors of this package."""


class TargetError(MagnetiteError):
    """The target of an aim is out of reach."""


class InputError(MagnetiteError, ValueError):
    """Something that was given cannot be used."""


class ChainError(InputError):
    """The text of a step or chain does not say something that can be done."""


class PictureError(InputError):
    """A picture does not suit an operation."""


class StreamError(InputError):
    """The bytes are not an .mgt stream, or a damaged one."""


class FileError(InputError):
    """A file is missing, damaged, of an unknown kind, or cannot be written."""


class LimitError(FileError, StreamError):
    """A picture has more samples than are read."""


class CommandError(InputError):
    """A command of the user's own is declared wrongly, or failed."""


def check_choice(name: str, value: object, choices: Iterable[str]) -> None:
    """Raise `InputError` where an argument is none of its choices."""
    known = tuple(choices)
    if not isinstance(value, str) or value not in known:
        raise InputError(f"{name} {value!r}: it is one of {', '.join(known)}")

"""Binding: a chain and the frame of a picture become steps that can be run.

Units are resolved, files read, functions found; a callable holds no text. A bound step also says
the facts a scheduler needs: how far around a sample it looks, whether it draws random numbers or
needs figures of the whole picture, and how much memory it takes.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from magnetite.core.arrays import Samples
from magnetite.core.chain.step import AUTO, Chain, Open, Step
from magnetite.core.errors import ChainError
from magnetite.core.methods.context import Context, Files, NoFiles
from magnetite.core.methods.declarations import Method
from magnetite.core.picture.frame import Frame


class ReadOnce:
    """Files that are read when they are first asked for, and kept."""

    def __init__(self, files: Files | None = None) -> None:
        self._files = files or NoFiles()
        self._arrays: dict[str, Samples] = {}
        self._records: dict[str, dict[str, Any]] = {}

    def array(self, name: str) -> Samples:
        if name not in self._arrays:
            array = self._files.array(name)
            array.flags.writeable = False
            self._arrays[name] = array
        return self._arrays[name]

    def record(self, name: str) -> dict[str, Any]:
        if name not in self._records:
            self._records[name] = self._files.record(name)
        return self._records[name]


@dataclass(frozen=True)
class Bound:
    """A step with the arguments of its function, for pictures of one frame.

    Picklable: the function is looked up where it is called.
    """

    step: Step
    frame: Frame
    #: Those that were given, and those that follow from the picture.
    arguments: Mapping[str, Any]

    @property
    def method(self) -> Method:
        return self.step.method

    @property
    def settings(self) -> dict[str, Any]:
        """All arguments, those left out at their defaults."""
        return self.method.defaults | dict(self.arguments)

    @property
    def reach(self) -> int | None:
        """How far from a sample it looks for that sample's result, px; None: everywhere."""
        return self.method.reach_of(self.settings)

    @property
    def draws(self) -> bool:
        """Whether it draws random numbers."""
        return self.method.draws_with(self.settings)

    @property
    def needs_statistics(self) -> bool:
        """Whether it needs figures of the whole picture before it can treat a part of it."""
        return self.method.needs_statistics(self.settings)

    @property
    def memory(self) -> float:
        """Bytes that it takes at most for each sample of the picture, its result included."""
        return self.method.memory_of(self.settings)

    def call(self, *inputs: Any, **more: Any) -> Any:
        """Result of the method's function for pixels, or the inputs of its kind."""
        return self.method.function(*inputs, **more, **self.arguments)


def bind(chain: Chain, frame: Frame, files: Files | None = None) -> tuple[Bound, ...]:
    """The steps of a chain, ready for pictures of a frame.

    Parameters
    ----------
    chain : Chain
    frame : Frame
        Of the picture that the chain begins with: it gives dn their meaning.
    files : Files, optional
        Reads files that settings name.

    Raises
    ------
    ChainError
        If a value cannot be used with this bit depth, or is `auto`.
    InputError
        If a file cannot be read.
    """
    return tuple(bind_step(step, frame, files) for step in chain.steps)


def bind_step(step: Step, frame: Frame, files: Files | None = None) -> Bound:
    """One step, with the errors of `bind`."""
    method, arguments = step.method, {}
    digital = None if frame.bits is None else frame.full_scale
    context = Context(digital, dict(step.settings), files or NoFiles())
    given = [(method.parameters[key], value) for key, value in step.settings]
    for parameter, value in [*given, *((p, None) for p in method.implicit)]:
        if isinstance(value, Open):
            how = "solved for by an aim" if value is AUTO else "taken from a certificate by a run"
            raise ChainError(
                f"{step.name} {parameter.key}={value} has no value yet: it is {how}, or write one, "
                f"such as {parameter.key}={parameter.kind.example()}"
            )
        try:
            arguments[parameter.name] = parameter.kind.resolve(value, context)
        except ValueError as error:
            raise ChainError(f"{step.name} {parameter.key}: {error}") from None
    return Bound(step, frame, arguments)

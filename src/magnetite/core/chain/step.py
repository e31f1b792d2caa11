"""Steps and chains as plain data: equal, hashable, picklable."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property
from typing import Any, TypeVar

from magnetite.core.errors import ChainError
from magnetite.core.methods import catalogue
from magnetite.core.methods.declarations import Method, MethodKind
from magnetite.core.methods.parameters import FileName
from magnetite.core.quantities import Quantity

Declared = TypeVar("Declared", bound=Method)


class Open(Enum):
    """Placeholder for a value that is not known yet: a type of its own, refused by binding."""

    #: To be solved for, tuned or estimated.
    AUTO = "auto"
    #: The value in the certificate of the degradation; experiments fill it in.
    KNOWN = "known"

    def __str__(self) -> str:
        return str(self.value)


AUTO, KNOWN = Open.AUTO, Open.KNOWN


@dataclass(frozen=True)
class Step:
    """One method, by kind and name, with the settings that were given for it, by key.

    Plain data: equal, hashable, picklable. Its method is looked up when it is first used, in each
    process.
    """

    kind: MethodKind
    name: str
    settings: tuple[tuple[str, Any], ...] = ()

    def __reduce__(self) -> tuple[type[Step], tuple[Any, ...]]:
        return Step, (self.kind, self.name, self.settings)

    @cached_property
    def method(self) -> Method:
        """The declaration; raises `ChainError` where this process has none of that name."""
        method = catalogue.find(self.kind, self.name)
        if method is None:
            raise ChainError(
                f"no {self.kind} is called {self.name!r} here: was its package or file of "
                "commands not loaded?"
            )
        return method

    def declared(self, kind: type[Declared]) -> Declared:
        """The declaration as one of a kind, such as `Metric`; `ChainError` for others."""
        method = self.method
        if not isinstance(method, kind):
            raise ChainError(f"{self.name} is a {method.kind}, not a {kind.__name__.lower()}")
        return method

    def __str__(self) -> str:
        return self._text

    @cached_property
    def _text(self) -> str:
        words = [self.name]
        given = dict(self.settings)
        for key, parameter in self.method.parameters.items():
            if key in given:
                value = given[key]
                text = str(value) if isinstance(value, Open) else parameter.kind.spell(value)
                if text != parameter.default_text:
                    words.append(f"{key}={text}")
        return " ".join(words)

    @property
    def draws(self) -> bool:
        """Whether it draws random numbers."""
        parameters = self.method.parameters
        given = {parameters[key].name: value for key, value in self.settings}
        return self.method.draws_with(self.method.defaults | given)

    @property
    def files(self) -> list[str]:
        """Names of the files that settings read."""
        return [
            value
            for key, value in self.settings
            if isinstance(self.method.parameters[key].kind, FileName)
        ]

    def with_setting(self, key: str, value: Any) -> Step:
        """This step with one setting replaced."""
        settings = dict(self.settings) | {key: value}
        ordered = ((k, settings[k]) for k in self.method.parameters if k in settings)
        return replace(self, settings=tuple(ordered))


@dataclass(frozen=True)
class Chain:
    """Steps in order."""

    steps: tuple[Step, ...]

    def __str__(self) -> str:
        return " + ".join(map(str, self.steps))

    @property
    def open_settings(self) -> list[tuple[int, str]]:
        """Position of the step and key of every setting that is `auto`."""
        return [
            (position, key)
            for position, step in enumerate(self.steps)
            for key, value in step.settings
            if value is AUTO
        ]

    @property
    def follows_depth(self) -> bool:
        """Whether a setting in digital numbers is another share of full scale in other depths."""
        return any(
            isinstance(value, Quantity) and value.unit in ("dn", "dn2")
            for step in self.steps
            for _, value in step.settings
        )

    @property
    def takes_known(self) -> bool:
        """Whether a setting is to be taken from a certificate."""
        return any(value is KNOWN for step in self.steps for _, value in step.settings)

    @property
    def draws(self) -> bool:
        """Whether a step draws random numbers."""
        return any(step.draws for step in self.steps)

    @property
    def files(self) -> list[str]:
        """Names of the files that settings read."""
        return [name for step in self.steps for name in step.files]

    def with_setting(self, position: int, key: str, value: Any) -> Chain:
        """This chain with one setting of one step replaced."""
        steps = list(self.steps)
        steps[position] = steps[position].with_setting(key, value)
        return Chain(tuple(steps))

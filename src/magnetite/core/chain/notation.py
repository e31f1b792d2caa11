"""Chain notation: `gaussian-blur sigma=1.6px + gaussian-noise sd=12dn`.

Words are separated by blanks and steps by a `+` that stands alone; settings are `key=value`
without blanks. Where a sweep is allowed a value may be a list `2dn,6dn` or a range
`1..41/4` (first, last, increment). Every chain has one canonical spelling, `str(chain)`:
settings in the declared order, defaults left out, plain numbers.
"""

from __future__ import annotations

import difflib
import itertools
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from magnetite.core.chain.named import NamedChain, every_chain, find_chain
from magnetite.core.chain.ranges import expand_sweep
from magnetite.core.chain.step import AUTO, KNOWN, Chain, Open, Step
from magnetite.core.errors import ChainError
from magnetite.core.methods import catalogue
from magnetite.core.methods.declarations import Method, Parameter

#: A chain may not sweep over more combinations than this.
MAX_CHAINS = 10_000
#: Longer texts are cut in messages.
_LONGEST_QUOTE = 120


def parse_chain(text: str | Sequence[str], *kinds: str, auto: bool = False) -> Chain:
    """Read a chain of methods of the given kinds; earlier kinds win where a name has two.

    With `auto`, one setting may be `auto`, to be solved for.

    Raises
    ------
    ChainError
        If a word cannot be understood; the message names the word and its position.
    """
    (chain,) = _read(text, _Reading(kinds, most=1, auto=True))
    if chain.open_settings and not auto:
        raise ChainError(f"{_joined(text)!r}: auto is solved for with an aim, METRIC=VALUE, only")
    return chain


def parse_step(
    text: str | Sequence[str], *kinds: str, complete: bool = True, auto: bool = False
) -> Step:
    """Read a single step; `complete=False` lets a required setting be left for later.

    Raises
    ------
    ChainError
        If the text is a chain, or no step that can be read.
    """
    if "+" in _words(text):
        raise ChainError(f"{_joined(text)!r} is a chain, and one step is wanted here")
    (chain,) = _read(text, _Reading(kinds, complete, most=1, auto=auto))
    return chain.steps[0]


def parse_sweep(
    text: str | Sequence[str], *kinds: str, complete: bool = True, known: bool = False
) -> list[Chain]:
    """Read a chain with lists and ranges into all its chains, the last setting fastest.

    With `known`, the sd of the noise may be `known`: the one in the certificate.
    """
    return _read(text, _Reading(kinds, complete, known=known))


def as_chain(chain: Chain | Step | str, *kinds: str, auto: bool = False) -> Chain:
    """A chain as it is, or read from its text by `parse_chain`.

    Raises
    ------
    ChainError
        If the text cannot be read, a step is of another kind, or one is `auto` and may not be.
    """
    if isinstance(chain, Step):
        chain = Chain((chain,))
    if not isinstance(chain, Chain):
        return parse_chain(chain, *kinds, auto=auto)
    for step in chain.steps:
        if step.kind not in kinds:
            raise ChainError(f"{step.name} is a {step.kind}, and a {' or '.join(kinds)} is wanted")
    if chain.open_settings and not auto:
        raise ChainError(f"{str(chain)!r}: auto is solved for with an aim, METRIC=VALUE, only")
    return chain


def as_step(step: Step | str, *kinds: str) -> Step:
    """A step as it is, or read from its text by `parse_step`; the same errors."""
    return as_chain(step, *kinds).steps[0] if isinstance(step, Step) else parse_step(step, *kinds)


@dataclass(frozen=True)
class _Reading:
    """Grammar of a text: kinds of methods, settings left for later, sweeps, open values."""

    kinds: tuple[str, ...]
    complete: bool = True
    most: int = MAX_CHAINS
    auto: bool = False
    known: bool = False
    #: Names of the chains that the text stands in.
    within: tuple[str, ...] = ()


def _read(text: str | Sequence[str], reading: _Reading) -> list[Chain]:
    words = _words(text)
    alternatives: list[_Alternatives | _Chains] = []
    start = 0
    for end in [i for i, word in enumerate(words) if word == "+"] + [len(words)]:
        one = words[start:end]
        named = find_chain(one[0]) if one else None
        alternatives.append(
            _read_step(one, start + 1, reading)
            if named is None
            else _read_named(named, one[1:], start + 2, reading)
        )
        start = end + 1
    count = math.prod(step.count for step in alternatives)
    if count > reading.most:
        at_most = "one is wanted here" if reading.most == 1 else f"at most {reading.most} are taken"
        raise ChainError(
            f"{shortened(_joined(text))!r} sweeps over {count} settings, and {at_most}"
        )
    combinations = itertools.product(*(step.all() for step in alternatives))
    return [Chain(tuple(itertools.chain(*steps))) for steps in combinations]


@dataclass(frozen=True)
class _Alternatives:
    """A method with all values that were given for each of its settings."""

    method: Method
    values: dict[str, list[Any]]

    @property
    def count(self) -> int:
        return math.prod(map(len, self.values.values()))

    def all(self) -> list[tuple[Step, ...]]:
        """Every combination of the values."""
        kind, name = self.method.kind, self.method.name
        return [
            (Step(kind, name, tuple(zip(self.values, chosen, strict=True))),)
            for chosen in itertools.product(*self.values.values())
        ]


@dataclass(frozen=True)
class _Chains:
    """The chains that a name stands for."""

    chains: list[Chain]

    @property
    def count(self) -> int:
        return len(self.chains)

    def all(self) -> list[tuple[Step, ...]]:
        """The steps of each."""
        return [chain.steps for chain in self.chains]


def _read_named(named: NamedChain, words: list[str], position: int, reading: _Reading) -> _Chains:
    """Read the steps of a chain with a name, its settings put in."""
    if named.name in reading.within:
        path = " > ".join([*reading.within, named.name])
        raise ChainError(f"word {position - 1}: the chain {named.name} names itself: {path}")
    given: dict[str, str] = {}
    for number, word in enumerate(words, position):
        key, equals, value = word.partition("=")
        if not (key and equals and value):
            raise ChainError(
                f"{_position(number, word)}: a setting of {named.name} is key=value without blanks"
            )
        if key in given:
            raise ChainError(f"{_position(number, word)}: {key} is given twice for {named.name}")
        given[key] = value
    inside = replace(reading, within=(*reading.within, named.name))
    text = named.text(given)
    try:
        return _Chains(_read(text, inside))
    except ChainError as error:
        prefix = "" if str(error).startswith(f"in {named.name}") else f"in {named.name}: "
        raise ChainError(f"{prefix}{error}") from None


def _words(text: str | Sequence[str]) -> list[str]:
    words = _joined(text).split()
    if not words:
        raise ChainError("the chain is empty: write a step such as gaussian-noise sd=12dn")
    return words


def _joined(text: str | Sequence[str]) -> str:
    return text if isinstance(text, str) else " ".join(text)


def _read_step(words: list[str], position: int, reading: _Reading) -> _Alternatives:
    """Read the words of one step, the first of which is word number `position` of its chain."""
    if not words:
        raise ChainError(f"a step is missing next to the '+' before word {position}")
    method = _find_method(words[0], position, reading.kinds)
    values: dict[str, list[Any]] = {}
    for number, word in enumerate(words[1:], position + 1):
        key, parameter, text = _read_setting(method, word, number)
        if key in values:
            raise ChainError(f"{_position(number, word)}: {key} is given twice for {method.name}")
        try:
            values[key] = _read_values(parameter, text, reading)
        except ValueError as error:
            raise ChainError(f"{_position(number, word)}: {error}") from None
    _check_complete(method, values, reading.complete)
    return _Alternatives(method, {key: values[key] for key in method.parameters if key in values})


def _position(number: int, word: str) -> str:
    return f"word {number}, {shortened(word)!r}"


def shortened(text: str) -> str:
    """The text, or its beginning, for messages."""
    return text if len(text) <= _LONGEST_QUOTE else f"{text[: _LONGEST_QUOTE - 1]}…"


def _read_values(parameter: Parameter, text: str, reading: _Reading) -> list[Any]:
    if text == AUTO.value and parameter.kind.span() is not None:
        if reading.auto:
            return [AUTO]
        raise ValueError(
            "auto stands for a value to be solved for, and this setting is not solved for here: "
            f"write one, such as {parameter.key}={parameter.kind.example()}"
        )
    texts = expand_sweep(text) if parameter.kind.sweeps else [text]
    known = reading.known and parameter.kind.estimated
    values = [KNOWN if known and t == KNOWN.value else parameter.kind.parse(t) for t in texts]
    spelled = [str(v) if isinstance(v, Open) else parameter.kind.spell(v) for v in values]
    for number, one in enumerate(spelled):
        if one in spelled[:number]:
            raise ValueError(f"{parameter.key}={one} is listed twice in {shortened(text)!r}")
    return values


def _find_method(name: str, position: int, kinds: tuple[str, ...]) -> Method:
    for kind in kinds:
        if method := catalogue.find(kind, name):
            return method
    if "=" in name:
        raise ChainError(
            f"{_position(position, name)}: a step begins with its name, such as {_any(kinds)}"
        )
    if other := [method.kind for method in catalogue.every() if method.name == name]:
        raise ChainError(
            f"{_position(position, name)}: that is a {' and a '.join(other)}, and a "
            f"{' or '.join(kinds)} is wanted here"
        )
    names = [method.name for kind in kinds for method in catalogue.every(kind)]
    names += [chain.name for chain in every_chain()] if "degradation" in kinds else []
    raise ChainError(
        f"{_position(position, name)}: no {' or '.join(kinds)} has that name{_nearest(name, names)}"
    )


def _any(kinds: tuple[str, ...]) -> str:
    return catalogue.every(kinds[0])[0].name


def _read_setting(method: Method, word: str, number: int) -> tuple[str, Parameter, str]:
    key, equals, text = word.partition("=")
    if not equals or not key or not text:
        raise ChainError(
            f"{_position(number, word)}: a setting of {method.name} is key=value without blanks, "
            f"and steps are separated by a '+' that stands alone{_usage(method)}"
        )
    parameter = method.parameters.get(key)
    if parameter is None:
        keys = list(method.parameters)
        raise ChainError(
            f"{_position(number, word)}: {method.name} has no setting {shortened(key)!r}"
            f"{_nearest(key, keys)}"
        )
    return key, parameter, text


def _check_complete(method: Method, values: dict[str, list[Any]], complete: bool) -> None:
    chosen = [key for key in method.one_of if key in values]
    if len(chosen) > 1:
        raise ChainError(f"{method.name} takes one of {_keys(method.one_of)}, not {_keys(chosen)}")
    missing = [key for key, p in method.parameters.items() if p.required and key not in values]
    if method.one_of and not chosen:
        missing.insert(0, method.one_of[0])
    if missing and complete:
        key = missing[0]
        kind = method.parameters[key].kind
        others = f", or one of {_keys(method.one_of[1:])}" if key in method.one_of else ""
        raise ChainError(
            f"{method.name} needs {key}=, such as {method.name} {key}={kind.example()} "
            f"({kind.describe()}){others}"
        )


def _keys(keys: Iterable[str]) -> str:
    return ", ".join(f"{key}=" for key in keys)


def _usage(method: Method) -> str:
    keys = _keys(method.parameters)
    return f"; its settings are {keys}" if keys else "; it has no settings"


def _nearest(word: str, known: list[str]) -> str:
    near = difflib.get_close_matches(word, known, n=1, cutoff=0.6)
    if near:
        return f"; did you mean {near[0]}?"
    return f"; known: {', '.join(sorted(set(known)))}" if known else "; it has none"

"""Read a file of commands and of chains with a name, and declare each.

    [codec.halver]
    summary = "Every second row, stored raw."
    encode = "python3 {here}/halver.py pack {quality} {input} {output}"
    decode = "python3 {here}/halver.py unpack {input} {output}"
    quality = [1, 9]

    [restoration.brighter]
    run = ["python3", "{here}/brighter.py", "{strength}", "{input}", "{output}"]
    strength = [0.0, 1.0]

    [chain.store-camera]
    steps = "gaussian-blur sigma={blur} + sensor-noise full-well={full-well}"
    blur = "0.7px"

`{here}` is the folder of the file. Commands run only where the user names such a file: a compressed
picture holds the name of its codec and never a command.
"""

from __future__ import annotations

import hashlib
import os
import re
import shlex
import shutil
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any

from magnetite.core.arrays import Pixels
from magnetite.core.chain.named import NamedChain, declare_chain
from magnetite.core.codecs.layers.pipeline import Pipeline
from magnetite.core.errors import ChainError, CommandError, FileError
from magnetite.core.methods.catalogue import ColourPolicy, codec, find, forget, restoration
from magnetite.core.methods.parameters import Count, Number
from magnetite.core.picture.frame import Frame
from magnetite.external.methods import CommandCodec, CommandRestoration
from magnetite.external.running import Command
from magnetite.files.formats import by_ending
from magnetite.files.opening import opened, read_text

_SECONDS = 60.0
_KEYS = {
    "codec": {"summary", "encode", "decode", "quality", "finer", "points", "picture", "seconds"},
    "restoration": {"summary", "run", "strength", "picture", "seconds"},
}


#: Table of chains with a name.
_CHAIN = "chain"
#: Digests of the commands that are declared, by kind and name: their words and programs.
contents: dict[tuple[str, str], str] = {}


def declare(path: str | os.PathLike[str], *, again: bool = False) -> list[str]:
    """Declare every command of a TOML file as a method; its names, in order.

    With `again` a command that was declared before is replaced.

    Raises
    ------
    FileError
        If the file cannot be read.
    CommandError
        If it does not declare commands, or one has a name that is taken.
    """
    path = Path(path)
    text = read_text(path)
    try:
        table = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise CommandError(f"{path}: not a TOML file ({error})") from None
    names = []
    for kind, commands in table.items():
        if kind not in (*_KEYS, _CHAIN) or not isinstance(commands, dict):
            raise CommandError(
                f"{path}: [{kind}.…] is not [codec.NAME], [restoration.NAME] or [chain.NAME]"
            )
        for name, entry in commands.items():
            if kind == _CHAIN:
                _declare_named(path, name, entry, again)
                names.append(name)
                continue
            where = f"{path}: {kind}.{name}"
            if again and (kind, name) in contents:
                forget(kind, name)
            try:
                fields = _Fields(where, name, kind, entry, path.parent.resolve())
                (_declare_codec if kind == "codec" else _declare_restoration)(fields)
            except (ArithmeticError, RecursionError) as error:
                raise CommandError(f"{where}: a number is too large ({error})") from None
            contents[kind, name] = _digest(fields)
            names.append(name)
    return names


def _declare_named(path: Path, name: str, entry: Any, again: bool) -> None:
    """Give the steps of `[chain.NAME]` their name; its other keys are defaults of settings."""
    where = f"{path}: {_CHAIN}.{name}"
    if not isinstance(entry, dict) or not all(isinstance(v, str) for v in entry.values()):
        raise CommandError(f"{where}: a chain is a table of texts in quotes")
    if not entry.get("steps", "").strip():
        raise CommandError(f"{where}: steps is missing: the chain that the name stands for")
    defaults = {key: value for key, value in entry.items() if key not in ("steps", "summary")}
    steps = _beside(str(entry["steps"]), path.parent.resolve(), where)
    chain = NamedChain(name, str(entry.get("summary", steps)), steps, defaults)
    try:
        declare_chain(chain, again=again)
    except ChainError as error:
        raise CommandError(f"{where}: {error}") from None


def _beside(steps: str, here: Path, where: str) -> str:
    """Steps in which `{here}` is the folder of their file."""
    if "{here}" in steps and re.search(r"\s", str(here)):
        raise CommandError(f"{where}: {{here}} is a folder with blanks in its name: rename it")
    return steps.replace("{here}", str(here))


def _digest(fields: _Fields) -> str:
    """SHA-256 of a command's keys, of its program, and of the files that its words name."""
    content = hashlib.sha256(repr(sorted(fields.entry.items(), key=str)).encode())
    for key in ("encode", "decode", "run"):
        words = fields.command(key).words if key in fields.entry else ()
        for number, word in enumerate(words):
            named = word.replace("{here}", str(fields.here))
            path = Path(named if number else shutil.which(named) or "")
            if path.is_absolute() and path.is_file():
                content.update(_content(path))
    return content.hexdigest()


def _content(path: Path) -> bytes:
    """SHA-256 of a file, or its time and size where it cannot be read."""
    content = hashlib.sha256()
    try:
        with opened(path) as file:
            while block := file.read(2**20):
                content.update(block)
    except FileError:
        content.update(f"{path.stat().st_mtime_ns} {path.stat().st_size}".encode())
    return content.digest()


@dataclass
class _Fields:
    """The keys of one command, taken one by one."""

    where: str
    name: str
    kind: str
    entry: Mapping[str, Any]
    here: Path
    seconds: float = field(init=False)

    def __post_init__(self) -> None:
        if not isinstance(self.entry, dict):
            raise CommandError(f"{self.where}: a command is a table of keys")
        if not re.fullmatch(r"[a-z][a-z0-9-]*", self.name):
            raise CommandError(f"{self.where}: a name has small letters, digits and hyphens")
        if find(self.kind, self.name):
            raise CommandError(f"{self.where}: there is a {self.kind} of that name already")
        if unknown := sorted(set(self.entry) - _KEYS[self.kind]):
            known = ", ".join(sorted(_KEYS[self.kind]))
            raise CommandError(f"{self.where}: {unknown[0]} is not a key; keys are {known}")
        self.seconds = float(self.take("seconds", (int, float), _SECONDS))
        if not 0 < self.seconds < 1e6:
            raise CommandError(f"{self.where}: seconds is a number above 0")

    def take(self, key: str, types: type | tuple[type, ...], default: Any = None) -> Any:
        """A key's value; `CommandError` where it is missing or of another type."""
        value = self.entry.get(key, default)
        if value is None:
            raise CommandError(f"{self.where}: {key} is missing")
        if not isinstance(value, types) or isinstance(value, bool):
            raise CommandError(f"{self.where}: {key} = {value!r} is not understood")
        return value

    def command(self, key: str, *needed: str) -> Command:
        """A command, as one text or as words; raises `CommandError` where it is neither."""
        value = self.take(key, (str, list))
        try:
            words = shlex.split(value) if isinstance(value, str) else [str(word) for word in value]
        except ValueError as error:
            raise CommandError(f"{self.where}: {key} cannot be split ({error})") from None
        if not words or any("\0" in word for word in words):
            raise CommandError(f"{self.where}: {key} is empty or holds a null character")
        for placeholder in needed:
            if not any(placeholder in word for word in words):
                raise CommandError(f"{self.where}: {key} has no {placeholder}")
        return Command(self.name, words, self.here, self.seconds)

    def span(self, key: str) -> Count | Number:
        """Bounds of a setting, whole ones of whole numbers; raises `CommandError` if wrong."""
        value = self.take(key, list)
        numbers = [v for v in value if isinstance(v, int | float) and not isinstance(v, bool)]
        if len(value) != 2 or len(numbers) != 2 or not -1e9 <= numbers[0] < numbers[1] <= 1e9:
            raise CommandError(f"{self.where}: {key} is [least, largest], as in [1, 100]")
        low, high = numbers
        if isinstance(low, int) and isinstance(high, int):
            return Count(low, high)
        return Number(float(low), float(high))

    def picture(self) -> str:
        """Ending of the command's picture files; raises `CommandError` if it is not known."""
        ending = f".{self.take('picture', str, 'png')}"
        if ending not in by_ending():
            raise CommandError(f"{self.where}: pictures are one of {', '.join(by_ending())}")
        return ending


def _declare_codec(fields: _Fields) -> None:
    encode = fields.command("encode", "{input}", "{output}", "{quality}")
    decode = fields.command("decode", "{input}", "{output}")
    kind, ending = fields.span("quality"), fields.picture()
    spread = dict.fromkeys(_between(kind, (i + 0.5) / 8) for i in range(8))
    points = fields.take("points", list, list(spread))
    finer = fields.take("finer", str, "higher")
    if finer not in ("higher", "lower"):
        raise CommandError(f'{fields.where}: finer is "higher" or "lower"')
    for point in points:
        try:
            kind.parse(str(point))
        except ValueError as error:
            raise CommandError(f"{fields.where}: points: {error}") from None

    def coded(frame: Frame, *, quality: Any) -> Pipeline:
        """The file that the declared command makes; its size is the rate."""
        settings = {"quality": str(quality)}
        return Pipeline([CommandCodec(frame, encode, decode, ending, settings)])

    coded.__annotations__["quality"] = Annotated[float, kind]
    codec(
        fields.name,
        summary=fields.take("summary", str, "A command of your own."),
        colour=ColourPolicy.JOINT,
        source="your own",
        quality="quality",
        finer=finer,
        points=",".join(map(str, points)),
    )(coded)


def _declare_restoration(fields: _Fields) -> None:
    wanted = ("{strength}",) if "strength" in fields.entry else ()
    work = CommandRestoration(
        fields.command("run", "{input}", "{output}", *wanted), fields.picture()
    )

    def restored(pixels: Pixels, *, strength: Any = None) -> Pixels:
        """Output of the declared command for the picture."""
        return work(pixels, {} if strength is None else {"strength": str(strength)})

    def plain(pixels: Pixels) -> Pixels:
        """Output of the declared command for the picture."""
        return work(pixels, {})

    if wanted:
        restored.__annotations__["strength"] = Annotated[float, fields.span("strength")]
        restored.__kwdefaults__ = {}
    restoration(
        fields.name,
        summary=fields.take("summary", str, "A command of your own."),
        colour=ColourPolicy.JOINT,
        source="your own",
    )(restored if wanted else plain)


def _between(kind: Count | Number, share: float) -> float:
    low, high = float(kind.low or 0), float(kind.high or 0)
    value = low + share * (high - low)
    return round(value) if isinstance(kind, Count) else float(f"{value:.3g}")

"""Find a codec's setting for a rate, or for a score; cut embedded streams to the byte."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import cache

from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import AUTO, Chain, Step
from magnetite.core.codecs.layers.container import unpack
from magnetite.core.codecs.layers.pipeline import ByteCount
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import Codec
from magnetite.core.operations.aim import Aim, Target, solve_chain
from magnetite.core.operations.coding import Coder, Compressed
from magnetite.core.picture import Picture
from magnetite.core.solve.axis import Axis
from magnetite.core.solve.bracket import Goal, Search

#: An embedded stream this much larger than asked for is cut; a larger one is coded more coarsely.
_LOOSE = 1.08
#: No file is larger than this, bytes.
_LARGEST = 2.0**40
#: A file is as large as was asked if it is smaller by this share at most.
_CLOSE = 0.0005


def open_step(codec: Step | str) -> tuple[Step, str]:
    """A codec whose quality setting is to be found, and that setting's key.

    The setting may be left out or written `auto`.

    Raises
    ------
    ChainError
        If it, or another of which one must be given, has a value.
    """
    step = codec
    if isinstance(step, str):
        step = parse_step(step, "codec", complete=False, auto=True)
    key = step.declared(Codec).quality
    kept = tuple((name, value) for name, value in step.settings
                 if not (name == key and value is AUTO))  # fmt: skip
    step = replace(step, settings=kept)
    for name, value in kept:
        if value is AUTO:
            raise ChainError(
                f"{str(codec)!r}: {name}=auto is not solved for, {key}= is; give {name}= a value"
            )
    given = {name for name, _ in step.settings} & {key, *step.method.one_of}
    if given:
        raise ChainError(
            f"{str(codec)!r}: {given.pop()}= is the setting that is solved for; leave it out"
        )
    return step, key


def compress_to_rate(picture: Picture, codec: Step | str, bpp: float) -> Compressed:
    """Compress to the largest file of at most `bpp` bits per pixel.

    An embedded stream is cut to the byte. Where even the finest setting gives a smaller file,
    that is the result.

    Raises
    ------
    ChainError
        If the codec's quality setting is given.
    TargetError
        If even the coarsest setting gives a larger file.
    """
    step, key = open_step(codec)
    kind = step.method.parameters[key].kind
    span = kind.span()
    assert span is not None, "a codec's quality is a number"
    axis, coder = Axis(span), Coder(picture)
    size = math.floor(min(bpp * picture.width * picture.height / 8, _LARGEST))
    made: dict[str, Compressed] = {}

    value = cache(kind.at)

    @cache
    def spell(number: float) -> str:
        return kind.spell(value(number))

    def code(number: float) -> Compressed:
        text = spell(number)
        if text not in made:
            made[text] = coder.code(step.with_setting(key, value(number)))
        return made[text]

    def log_size(number: float) -> float:
        return math.log(len(code(number).data))

    embedded = code(axis.number(axis.start)).embedded
    goal = Goal(math.log(max(1, size)), _CLOSE, "<=")
    if embedded:  # a little too large is best: it is cut
        goal = Goal(math.log(max(1, size)), math.log(_LOOSE), ">=")
    Search(log_size, axis, spell, goal).run()
    larger = [c for c in made.values() if len(c.data) > size]
    if embedded and larger:
        return cut(min(larger, key=lambda c: len(c.data)), size)
    fitting = [c for c in made.values() if len(c.data) <= size]
    if fitting:
        return max(fitting, key=lambda c: len(c.data))
    coarsest = min(larger, key=lambda c: len(c.data))
    raise TargetError(
        f"{coarsest.step} gives {coarsest.bpp:.4g} bpp, more than {bpp:g}: this is the codec's "
        "coarsest setting"
    )


def cut(compressed: Compressed, size: int) -> Compressed:
    """An embedded stream of at most the given number of bytes, with checksums of its own.

    Raises
    ------
    TargetError
        If not even the header fits.
    """
    stream = unpack(compressed.data)
    room = size - (len(compressed.data) - len(stream.sections[0]))
    if room < 0:
        raise TargetError(f"{size} bytes do not even hold the header")
    data = replace(stream, sections=[stream.sections[0][:room]]).pack()
    runs, left = [ByteCount("header", len(data) - room)], room
    for name, length in compressed.runs[1:]:
        runs.append(ByteCount(name, min(length, left)))
        left -= runs[-1].length
    return replace(compressed, data=data, runs=tuple(runs))


def compress_to_aim(
    picture: Picture, codec: Step | str, aim: Target | str, files: Files | None = None
) -> Compressed:
    """Compress so that the decoded picture has a score or gauge, as in `psnr=36`.

    Raises
    ------
    ChainError
        If codec or aim cannot be read, or the quality setting is given.
    TargetError
        If no setting reaches the aim.
    """
    coder = Coder(picture)
    step, found = solve_step(picture, *open_step(codec), Target.of(aim), coder, files)
    return replace(coder.code(step), aim=found)


def solve_step(
    picture: Picture,
    step: Step,
    key: str,
    target: Target,
    coder: Coder | None = None,
    files: Files | None = None,
) -> tuple[Step, Aim]:
    """A codec with its open setting solved for; see `compress_to_aim`."""
    coder = coder or Coder(picture)
    chain = Chain((step.with_setting(key, AUTO),))
    solved, found = solve_chain(
        chain, target, picture, lambda c: coder.code(c.steps[0]).picture, files
    )
    return solved.steps[0], found

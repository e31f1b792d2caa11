"""Find a codec's setting for a rate, or for a score; cut embedded streams to the byte."""

from __future__ import annotations

import math
from dataclasses import replace

from magnetite.core.aim import Aim, Target, solve_chain
from magnetite.core.chain import AUTO, Chain, Step, parse_step
from magnetite.core.codecs.container import unpack
from magnetite.core.codecs.layers import Run
from magnetite.core.codecs.stream import Compressed, compress
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.parameters import Span
from magnetite.core.picture import Picture, Samples, as_picture

_MOST_TRIES = 18
#: An embedded stream this much larger than asked for is cut; a larger one is coded more coarsely.
_LOOSE = 1.08
#: No file is larger than this, bytes.
_LARGEST = 2.0**40


def open_step(text: str) -> tuple[Step, str]:
    """A codec whose quality setting is to be found, and that setting's key.

    The setting may be left out or written `auto`.

    Raises
    ------
    ChainError
        If it, or another of which one must be given, has a value.
    """
    step = parse_step(text, "codec", complete=False, auto=True)
    key = step.method.traits["quality"]
    kept = tuple((name, value) for name, value in step.settings
                 if not (name == key and value is AUTO))  # fmt: skip
    step = replace(step, settings=kept)
    for name, value in kept:
        if value is AUTO:
            raise ChainError(
                f"{text!r}: {name}=auto is not solved for, {key}= is; give {name}= a value"
            )
    given = {name for name, _ in step.settings} & {key, *step.method.one_of}
    if given:
        raise ChainError(f"{text!r}: {given.pop()}= is what is solved for; leave it out")
    return step, key


def compress_to_rate(source: Picture | Samples, text: str, bpp: float) -> Compressed:
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
    picture = as_picture(source)
    step, key = open_step(text)
    size = math.floor(min(bpp * picture.width * picture.height / 8, _LARGEST))
    kind = step.method.parameters[key].kind
    span = kind.span()
    assert span is not None, "a codec's quality is a number"
    coarse, fine = 0.0, 1.0
    best: Compressed | None = None
    tried: set[str] = set()
    while len(tried) < _MOST_TRIES:
        place = (coarse + fine) / 2
        candidate = str(step.with_setting(key, kind.at(_at(span, step, place))))
        if candidate in tried:
            break  # a setting of whole numbers has nothing between
        tried.add(candidate)
        made = compress(picture, candidate)
        if len(made.data) <= size:
            coarse = place
            best = made if best is None or len(made.data) >= len(best.data) else best
        elif made.embedded and len(made.data) <= _LOOSE * size:
            return cut(made, size)
        else:
            fine = place
    if best is not None:
        return best
    coarsest = compress(picture, str(step.with_setting(key, kind.at(_at(span, step, 0.0)))))
    if len(coarsest.data) <= size:
        return coarsest
    if coarsest.embedded:
        return cut(coarsest, size)
    raise TargetError(
        f"{coarsest.step} gives {coarsest.bpp:.4g} bpp, more than {bpp:g}: this is the codec's "
        "coarsest setting"
    )


def _at(span: Span, step: Step, place: float) -> float:
    """The setting's value at a place from coarse, 0, to fine, 1: even in its logarithm."""
    least = min(1.0, (span.high - span.low) * 1e-4)
    low, high = math.log(least), math.log(span.high - span.low + least)
    share = place if step.method.traits["finer"] == "higher" else 1 - place
    return min(span.high, span.low + math.exp(low + share * (high - low)) - least)


def cut(compressed: Compressed, size: int) -> Compressed:
    """An embedded stream of at most so many bytes, with checksums of its own.

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
    runs, left = [Run("header", len(data) - room)], room
    for name, length in compressed.runs[1:]:
        runs.append(Run(name, min(length, left)))
        left -= runs[-1].length
    return replace(compressed, data=data, runs=tuple(runs))


def compress_to_aim(source: Picture | Samples, text: str, aim: str) -> tuple[Compressed, Aim]:
    """Compress so that the decoded picture has a score or gauge, as in `psnr=36`.

    Raises
    ------
    ChainError
        If codec or aim cannot be read, or the quality setting is given.
    TargetError
        If no setting reaches the aim.
    """
    picture = as_picture(source)
    step, key = open_step(text)
    chain = Chain((step.with_setting(key, AUTO),))
    solved, found = solve_chain(
        chain, Target.parse(aim), picture, lambda c: compress(picture, str(c)).picture
    )
    return compress(picture, str(solved)), found

"""Find a codec's setting for a rate, or for a score; cut embedded streams to the byte."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from magnetite.core.aim import Aim, Target, solve_chain
from magnetite.core.chain import AUTO, Chain, Step, parse_step
from magnetite.core.codecs.container import unpack
from magnetite.core.codecs.layers import Run
from magnetite.core.codecs.stream import Coder, Compressed
from magnetite.core.declarations import Codec
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.parameters import Span
from magnetite.core.picture import Picture, Samples, as_picture

_MOST_TRIES = 18
#: An embedded stream this much larger than asked for is cut; a larger one is coded more coarsely.
_LOOSE = 1.08
#: No file is larger than this, bytes.
_LARGEST = 2.0**40
#: A file is as large as was asked if it is smaller by this share at most.
_CLOSE = 0.0005


def open_step(text: str) -> tuple[Step, str]:
    """A codec whose quality setting is to be found, and that setting's key.

    The setting may be left out or written `auto`.

    Raises
    ------
    ChainError
        If it, or another of which one must be given, has a value.
    """
    step = parse_step(text, "codec", complete=False, auto=True)
    key = step.declared(Codec).quality
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
    coder = Coder(picture)
    tried: dict[Step, Compressed] = {}
    search = _Search(math.log(max(1, size)))
    best: Compressed | None = None
    while len(tried) < _MOST_TRIES and not search.close:
        place = search.next()
        candidate = step.with_setting(key, kind.at(_at(span, step, place)))
        if candidate in tried:
            if search.even:
                break  # a setting of whole numbers has nothing between
            search.even = True
            continue
        made = tried[candidate] = coder.code(candidate)
        search.learn(place, math.log(len(made.data)))
        if len(made.data) <= size:
            best = made if best is None or len(made.data) >= len(best.data) else best
        elif made.embedded and len(made.data) <= _LOOSE * size:
            return cut(made, size)
    if best is not None:
        return best
    coarsest = coder.code(step.with_setting(key, kind.at(_at(span, step, 0.0))))
    if len(coarsest.data) <= size:
        return coarsest
    if coarsest.embedded:
        return cut(coarsest, size)
    raise TargetError(
        f"{coarsest.step} gives {coarsest.bpp:.4g} bpp, more than {bpp:g}: this is the codec's "
        "coarsest setting"
    )


@dataclass
class _Search:
    """Places from coarse, 0, to fine, 1, that bracket a size: by straight lines in its logarithm.

    Every third place halves the bracket, so that a bent curve cannot hold one end for ever.
    """

    target: float
    #: Place and log size at both ends of the bracket; sizes of the ends are not known at first.
    coarse: tuple[float, float | None] = (0.0, None)
    fine: tuple[float, float | None] = (1.0, None)
    steps: int = 0
    #: Whether places are the middle of the bracket from now on.
    even: bool = False

    @property
    def close(self) -> bool:
        """Whether the size at the coarse end is as good as the target."""
        return self.coarse[1] is not None and self.target - self.coarse[1] < _CLOSE

    def next(self) -> float:
        """Where to look."""
        (low, below), (high, above) = self.coarse, self.fine
        self.steps += 1
        if self.even or below is None or above is None or self.steps % 3 == 0:
            return (low + high) / 2
        aim = self.target - _CLOSE / 2
        share = (aim - below) / max(above - below, 1e-12)
        return low + (high - low) * min(max(share, 0.02), 0.98)

    def learn(self, place: float, size: float) -> None:
        """Take in the log of the size at a place."""
        if size <= self.target:
            self.coarse = (place, size)
        else:
            self.fine = (place, size)


def _at(span: Span, step: Step, place: float) -> float:
    """The setting's value at a place from coarse, 0, to fine, 1: even in its logarithm."""
    least = min(1.0, (span.high - span.low) * 1e-4)
    low, high = math.log(least), math.log(span.high - span.low + least)
    share = place if step.declared(Codec).finer == "higher" else 1 - place
    return min(span.high, span.low + math.exp(low + share * (high - low)) - least)


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
    coder = Coder(picture)
    solved, found = solve_chain(
        chain, Target.parse(aim), picture, lambda c: coder.code(c.steps[0]).picture
    )
    return coder.code(solved.steps[0]), found

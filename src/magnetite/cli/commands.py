"""Every command: its summary, and the kinds of methods that its help lists."""

from __future__ import annotations

from typing import NamedTuple


class Command(NamedTuple):
    """A module of this package: it has a function `run`, or an `app` with commands of its own."""

    summary: str
    #: Kinds of methods that its help lists.
    kinds: tuple[str, ...] = ()
    #: Whether it has commands of its own.
    group: bool = False


#: In the order of the help, which is printed from here: no command is imported for it.
COMMANDS = {
    "demo": Command("Do the whole job once, on made-up scenes or on pictures of your own."),
    "scenes": Command(
        "Make reference pictures: core trays of different texture, and a chart plate."
    ),
    "chart": Command(
        "Make a test chart, and the record of it that calibrate chart measures a camera by."
    ),
    "convert": Command(
        "Convert a picture: to gray, one channel, a part of it, another bit depth.",
        kinds=("conversion",),
    ),
    "degrade": Command(
        "Degrade a picture by a known amount, and certify the change.",
        kinds=("degradation", "codec", "restoration"),
    ),
    "calibrate": Command(
        "Measure a camera, from a chart, frames or an edge, and print the steps that give clean "
        "pictures the same; or fit a model of your good pictures.",
        group=True,
    ),
    "compress": Command(
        "Compress a picture into a self-contained file; print its rate and scores.",
        kinds=("codec",),
    ),
    "expand": Command("Decode a compressed picture, from its file alone."),
    "restore": Command(
        "Restore a degraded picture; with a reference, score it before and after.",
        kinds=("restoration",),
    ),
    "score": Command(
        "Score pictures against their reference, or a folder of them against folders.",
        kinds=("metric",),
    ),
    "gauge": Command("Measure pictures without a reference.", kinds=("gauge",)),
    "view": Command("Draw pictures to look at.", group=True),
    "curve": Command(
        "Draw rate-distortion curves of codecs, at the rates of real files.", kinds=("codec",)
    ),
    "run": Command(
        "Carry out an experiment: all pictures, settings and seeds of a plan, in a table."
    ),
    "summarize": Command(
        "Summarize a run: means, ranking, rates, agreement of metrics, cost, blind spots."
    ),
    "predict": Command(
        "Predict the rate that new pictures need, from the pictures of a run, with an interval."
    ),
    "report": Command(
        "Write one page that shows a run: the answer, curves, scores, pictures, certificates."
    ),
    "gate": Command(
        "Fit a rule that accepts or rejects pictures to labelled ones, and ask it.", group=True
    ),
    "ask": Command(
        "Write a blind test: one page on which people compare or grade pictures.",
        kinds=("degradation", "codec", "restoration"),
    ),
    "opinions": Command(
        "Judge the answers to a blind test: scale values, mean opinions or thresholds, and the "
        "agreement of metrics with them.",
        kinds=("metric",),
    ),
    "raters": Command("Answer a blind test by simulated raters, to try out test and analysis."),
    "methods": Command(
        "List every step, metric and gauge with its settings, units, bounds, defaults and source."
    ),
    "selftest": Command(
        "Check this installation against closed forms and published values; keep the table."
    ),
    "prepare": Command("Compile all loops ahead, so that no later command waits for it."),
    "completion": Command("Print the script by which a shell completes commands and options."),
}
